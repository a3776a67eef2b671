"""A state of a mirror with what a transaction of the server has changed since, in an overlay."""

from __future__ import annotations

from contextlib import closing
from typing import TYPE_CHECKING, cast

import apsw

from jondel.core.engines.delta import DeltaSource
from jondel.core.engines.protocol import Database
from jondel.core.engines.sqlite.connection import register_functions
from jondel.core.engines.sqlite.image import SqliteImage
from jondel.core.engines.sqlite.overlay import OverlayPages
from jondel.core.engines.sqlite.rehearsing import open_overlay
from jondel.core.errors import StoreUnavailable
from jondel.core.mirror.mirror import Mirror
from jondel.core.mirror.state import mirrored_state
from jondel.core.mirror.taking_in import GoOn

if TYPE_CHECKING:
    from jondel.core.mirror.state import MirroredState


def overlaid(state: Database, source: DeltaSource, go_on: GoOn = lambda: None) -> Database:
    """The state as a source tells it now; to be closed before the one that it lies on.

    Raises:
        StoreUnavailable: it cannot be made.
    """
    inner = cast("SqliteImage", cast("MirroredState", state).inner)
    pages = OverlayPages(inner.pages)
    try:
        with open_overlay(pages) as name, closing(_opened(name)) as connection:
            Mirror.take_in(connection, source, go_on)
        image = SqliteImage(pages, inner.location)
    except BaseException as error:
        pages.close()
        if isinstance(error, apsw.Error):
            raise StoreUnavailable(f"{state.location}: {error}") from error
        raise
    return mirrored_state(image, state.location, state.name)


def _opened(name: str) -> apsw.Connection:
    flags = apsw.SQLITE_OPEN_READWRITE | apsw.SQLITE_OPEN_URI
    connection = apsw.Connection(name, flags=flags)
    register_functions(connection)
    connection.execute("PRAGMA journal_mode=MEMORY")
    return connection
