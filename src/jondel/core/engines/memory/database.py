"""The ``Database`` protocol for tables in memory."""

from __future__ import annotations

from jondel.core.engines.memory.finding import MemoryFinder
from jondel.core.engines.memory.reading import MemoryReader
from jondel.core.engines.memory.scanning import MemoryScanner
from jondel.core.engines.memory.tables import MemoryAccess, MemoryTables
from jondel.core.engines.memory.writing import MemoryCommits, MemoryWriter
from jondel.core.engines.protocol import Database, Feature, Features
from jondel.core.model.schema import Schema

_MISSING = {
    Feature.CAPTURE: "it is in memory alone; copy the tables instead",
    Feature.RESTORING: "it is in memory alone",
    Feature.STATEMENTS: "it knows no SQL",
    Feature.SCRIPTS: "it knows no SQL",
    Feature.REHEARSING: "it knows no SQL",
}


def open_tables(tables: MemoryTables) -> Database:
    """Open tables that others may have open too."""
    return MemoryDatabase(tables)


class MemoryDatabase:
    """Tables in memory, opened by one of those who share them."""

    lock = False
    engine = "tables in memory"
    notices: tuple[str, ...] = ()
    deltas = None
    capturer = restorer = statements = scripts = rehearser = rehearsals = transactions = None
    constraints = None

    def __init__(self, tables: MemoryTables) -> None:
        self._access = MemoryAccess(tables)
        self.rows = MemoryReader(self._access)
        self.finder = MemoryFinder(self._access)
        self.scanner = MemoryScanner(self._access)
        self.commits = MemoryCommits(self._access)
        self.writer = MemoryWriter(self._access)
        self.features = Features(tables.name, _MISSING)

    @property
    def location(self) -> str:
        return f"memory:{self._access.tables.name}"

    @property
    def name(self) -> str:
        return self._access.tables.name

    def schema(self) -> Schema:
        return self._access.tables.schema

    def interrupt(self) -> None:
        self._access.stopped.set()

    def resume(self) -> None:
        self._access.stopped.clear()

    def close(self) -> None:
        self._access.stopped.set()
