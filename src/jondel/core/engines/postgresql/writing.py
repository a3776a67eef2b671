"""Writes plans as one transaction, on a connection of its own."""

from __future__ import annotations

from collections.abc import Hashable, Sequence
from contextlib import closing
from typing import Any

import psycopg

from jondel.core.engines.postgresql.connection import connect, translated
from jondel.core.engines.postgresql.reading import joined
from jondel.core.engines.postgresql.session import Asked, Session
from jondel.core.engines.postgresql.sql_text import argument, named, quoted, quoted_list, source
from jondel.core.engines.protocol import CommitMark
from jondel.core.errors import RecordsMovedOn, WriteRefused
from jondel.core.model.schema import Table
from jondel.core.model.statements import Argument, Statement
from jondel.core.model.writes import LinkCheck, RowWrite, WriteKind, WritePlan

_LINKS_FIRST: tuple[WriteKind, ...] = ("insert", "update", "delete")


class ServerCommits:
    """See ``Commits``."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def change_token(self) -> Hashable:
        """Differs after every commit of a transaction that wrote, in whatever database."""
        found: bytes = self._session.ask(Asked("SELECT pg_current_snapshot()::text"))[0][0]
        return found

    def mark(self) -> CommitMark:
        return self.change_token()


class ServerWriter:
    """See ``Writer``."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def why_not_written(self, table: Table) -> str:
        if table.unreadable:
            return f"it cannot be read: {table.unreadable}"
        if table.kind in ("view", "materialised view"):
            return f"it is a {table.kind}: change the tables that it reads"
        if not table.primary_key:
            return "its rows have nothing to tell one from another by: it has no primary key"
        return ""

    def write_statement(self, write: RowWrite) -> Statement:
        return _statement(self._asked(write))

    def unguarded_statement(self, write: RowWrite) -> Statement:
        if write.kind == "insert":
            return self.write_statement(write)
        address = write.expected[: len(write.position_columns)]
        bare = RowWrite(write.kind, write.table, address, write.values, write.record)
        return _statement(self._asked(bare, by_text=False))

    def _asked(self, write: RowWrite, *, by_text: bool = True) -> Asked:
        table = self._table(write)
        casts = self._session.require(table)
        of = source(table)
        cells = [
            (quoted(name), f"%s::{casts[name]}", argument(value)) for name, value in write.values
        ]
        values = tuple(value for _, _, value in cells)
        if write.kind == "insert":
            if not cells:
                return Asked(f"INSERT INTO {named(table.id)} DEFAULT VALUES")
            names = ", ".join(name for name, _, _ in cells)
            marks = ", ".join(mark for _, mark, _ in cells)
            into = f"INSERT INTO {named(table.id)}({names})"
            return Asked(f"{into} OVERRIDING SYSTEM VALUE VALUES ({marks})", values)
        holds = self._session.holds if by_text else self._session.equals
        where = joined(" AND ", (holds(table, name, value) for name, value in write.expected))
        if write.kind == "delete":
            return Asked(f"DELETE FROM {of} WHERE ") + where
        sets = ", ".join(f"{name} = {mark}" for name, mark, _ in cells)
        return Asked(f"UPDATE {of} SET {sets} WHERE ", values) + where

    def _table(self, write: RowWrite) -> Table:
        table = self._session.schema().schema.by_id.get(write.table)
        if table is None:
            raise WriteRefused(f"{write.table}: the table is no longer there; nothing was written")
        return table

    def apply(self, plan: WritePlan, since: CommitMark | None = None) -> Sequence[int | None]:
        asked = [(write, self._asked(write)) for write in plan.writes]
        with closing(connect(self._session.target, self._session.what, writing=True)) as connection:
            try:
                with connection.transaction():
                    connection.execute("SET CONSTRAINTS ALL DEFERRED")
                    if since is not None and self._moved(connection, since):
                        raise RecordsMovedOn(
                            "something was committed meanwhile; nothing was written"
                        )
                    self._in_some_order(connection, asked)
                    for check in plan.checks:
                        self._check(connection, check)
            except psycopg.errors.IntegrityError as error:
                raise WriteRefused(f"{_said(error)}; nothing was written") from error
            except psycopg.Error:
                with translated(self._session.what):
                    raise
        return [None for write in plan.writes if write.kind == "insert"]

    def _in_some_order(
        self, connection: psycopg.Connection[tuple[Any, ...]], asked: list[tuple[RowWrite, Asked]]
    ) -> None:
        """Write all in the plan's order, else what is pointed at first and what goes last.

        The server checks most links row by row. The plan's order suits what takes the place of
        something else, the other what points elsewhere from now on.
        """
        other_way = sorted(asked, key=lambda entry: _LINKS_FIRST.index(entry[0].kind))
        refusal: WriteRefused | None = None
        for order in (asked, other_way):
            try:
                with connection.transaction():
                    for write, one in order:
                        self._write(connection, write, one)
            except WriteRefused as error:
                refusal = refusal or error
            else:
                return
        assert refusal is not None, "nothing is refused without a reason"
        raise refusal

    @staticmethod
    def _moved(connection: psycopg.Connection[tuple[Any, ...]], since: CommitMark) -> bool:
        now = connection.execute("SELECT pg_current_snapshot()::text").fetchone()
        return now is None or now[0] != since

    @staticmethod
    def _write(
        connection: psycopg.Connection[tuple[Any, ...]], write: RowWrite, asked: Asked
    ) -> None:
        try:
            done = connection.execute(asked.sql, asked.values)
        except psycopg.errors.IntegrityError as error:
            record = f"{write.table} {write.record}".strip()
            raise WriteRefused(f"{record}: {_said(error)}; nothing was written") from error
        if write.kind != "insert" and done.rowcount != 1:
            raise RecordsMovedOn(
                f"{write.table} {write.record}: it is no longer as it was "
                "(changed or removed meanwhile); nothing was written"
            )

    def _check(self, connection: psycopg.Connection[tuple[Any, ...]], check: LinkCheck) -> None:
        """The server checks declared links itself; this is of those that are deferred or not."""
        schema = self._session.schema().schema
        child, parent = schema.by_id.get(check.child), schema.by_id.get(check.parent)
        if child is None or parent is None:
            return
        pairs = (
            (child, zip(check.child_columns, check.values, strict=True)),
            (parent, zip(check.parent_columns, check.values, strict=True)),
        )
        there = []
        for table, cells in pairs:
            where = joined(" AND ", (self._session.equals(table, n, v) for n, v in cells))
            asked = Asked(f"SELECT 1 FROM {source(table)} WHERE ") + where + " LIMIT 1"
            there.append(connection.execute(asked.sql, asked.values).fetchone() is not None)
        if there == [True, False]:
            raise WriteRefused(
                f"{check.child} would point at a record of {check.parent} that is not there "
                f"({quoted_list(check.parent_columns)}); nothing was written"
            )


def _statement(asked: Asked) -> Statement:
    texts = [part.replace("%%", "%") for part in asked.sql.split("%s")]
    return Statement(tuple(texts), tuple(Argument(value) for value in asked.values))


def _said(error: psycopg.Error) -> str:
    primary = error.diag.message_primary or str(error)
    if isinstance(error, psycopg.errors.ForeignKeyViolation):
        primary = "records would point at nothing"
    detail = error.diag.message_detail
    return f"{primary} ({detail.rstrip('.')})" if detail else primary
