"""Makes captured states reachable from a connection for the time of a statement."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress

import apsw

from jondel.core.engines.protocol import Database
from jondel.core.engines.sqlite.page_vfs import uri_of
from jondel.core.engines.sqlite.sql_text import quoted
from jondel.core.errors import StatementRefused


@contextmanager
def attached(connection: apsw.Connection, beside: Mapping[str, Database]) -> Iterator[None]:
    """Attach states under their names while the block runs; they are only ever read.

    Raises:
        StatementRefused: a state is of another engine or kept in an old format.
    """
    done = []
    try:
        for name, state in beside.items():
            served = getattr(state, "served_name", None)
            if served is None:
                raise StatementRefused(f"{name}: this snapshot cannot be asked beside another")
            connection.execute(f"ATTACH ? AS {quoted(name)}", (uri_of(served),))
            done.append(name)
        yield
    finally:
        for name in done:
            with suppress(apsw.Error):  # a failed statement may still hold it for a moment
                connection.execute(f"DETACH {quoted(name)}")
