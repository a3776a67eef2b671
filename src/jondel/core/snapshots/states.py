"""Opens captured pages as the database that they are a state of."""

from __future__ import annotations

from jondel.core.engines.pages import PageSource
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import is_on_server, name_of, open_pages


def open_state(pages: PageSource, location: str) -> Database:
    """Open captured pages of the database at ``location``; closing it closes them too.

    Raises:
        StoreUnavailable: they are of no mirror, where the database is a server's.
    """
    state = open_pages(pages, location=location)
    if not is_on_server(location):
        return state
    from jondel.core.mirror.state import mirrored_state  # only servers have mirrors

    return mirrored_state(state, location, name_of(location))
