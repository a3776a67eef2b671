"""The ``Database`` protocol for a database on a server."""

from __future__ import annotations

from functools import cached_property

from jondel.core.engines.postgresql.delta import ServerDelta
from jondel.core.engines.postgresql.finding import ServerFinder
from jondel.core.engines.postgresql.marks import ServerCommits
from jondel.core.engines.postgresql.reading import ServerReader
from jondel.core.engines.postgresql.row_transactions import ServerTransactions
from jondel.core.engines.postgresql.scanning import ServerScanner
from jondel.core.engines.postgresql.script_run import ServerScripts
from jondel.core.engines.postgresql.session import Asked, Session
from jondel.core.engines.postgresql.statements import ServerStatements
from jondel.core.engines.postgresql.writing import ServerWriter
from jondel.core.engines.protocol import Database, Feature, Features
from jondel.core.model.schema import Schema

_MISSING = {
    Feature.RESTORING: "it is a server's; what differs is written back row by row instead",
}


def open_server(target: str, location: str, name: str) -> Database:
    """Open the database at a URL; ``location`` is the URL without secrets."""
    database = ServerDatabase(target, location, name)
    database.schema()
    return database


class ServerDatabase:
    """A database on a server, open for reading."""

    lock = False
    notices: tuple[str, ...] = ()
    capturer = restorer = rehearser = constraints = None

    def __init__(self, target: str, location: str, name: str) -> None:
        self._session = Session(target, name)
        self.location, self.name = location, name
        self.features = Features(name, _MISSING)
        self.rows = ServerReader(self._session)
        self.finder = ServerFinder(self._session)
        self.scanner = ServerScanner(self._session)
        self.commits = ServerCommits(self._session)
        self.statements = ServerStatements(self._session)
        self.deltas = ServerDelta(self._session)
        self.transactions = ServerTransactions(self._session)
        self.writer = ServerWriter(self._session)
        self.scripts = self.rehearsals = ServerScripts(self._session)

    @cached_property
    def engine(self) -> str:
        version = self._session.ask(Asked("SHOW server_version"))[0][0].decode()
        return f"PostgreSQL {version.split()[0]}"

    def schema(self) -> Schema:
        return self._session.schema().schema

    def interrupt(self) -> None:
        self._session.interrupt()

    def resume(self) -> None:
        self._session.resume()

    def close(self) -> None:
        self._session.close()
