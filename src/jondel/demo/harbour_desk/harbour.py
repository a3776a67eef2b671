"""The database that Harbour Desk writes, whatever keeps it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Any, Protocol


class Harbour(Protocol):
    """An open database. Statements have question marks where values go."""

    def run(self, statement: str, values: Sequence[object] = ()) -> list[tuple[Any, ...]]:
        """Run a statement and give its rows."""

    def insert(self, statement: str, values: Sequence[object]) -> int:
        """Insert a record and give its number."""

    def fill(self, table: str, rows: Iterable[Sequence[object]]) -> None:
        """Insert many rows, one at least."""

    def transaction(self) -> AbstractContextManager[None]: ...

    def make_tables(self) -> None: ...

    def finish(self) -> None:
        """Leave it as it is to be found, once it is filled."""

    def close(self) -> None: ...


def open_harbour(where: str) -> Harbour:
    """Open the database at a path or the URL of a server's."""
    if "://" in where:
        from jondel.demo.harbour_desk.postgresql import HarbourOnServer  # needs a driver

        return HarbourOnServer(where)
    from jondel.demo.harbour_desk.database import HarbourFile

    return HarbourFile(Path(where))
