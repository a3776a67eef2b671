"""Writes plans as one transaction, on a connection of its own."""

from __future__ import annotations

import time
from collections.abc import Sequence
from contextlib import closing, suppress
from typing import NoReturn, TypeAlias

import psycopg

from jondel.core.engines.postgresql.connection import Connection, connect, translated
from jondel.core.engines.postgresql.giving_way import giving_way
from jondel.core.engines.postgresql.holding import lock_against_writing, triggers_held
from jondel.core.engines.postgresql.marks import moved
from jondel.core.engines.postgresql.ordered_writes import OrderedWrites, said
from jondel.core.engines.postgresql.reading import joined
from jondel.core.engines.postgresql.session import Asked, Session
from jondel.core.engines.postgresql.sql_text import argument, named, quoted, source, unmarked
from jondel.core.engines.protocol import CommitMark
from jondel.core.errors import RecordsMovedOn, TargetError, WriteError, WriteRefused
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Schema, Table
from jondel.core.model.statements import Statement
from jondel.core.model.writes import LinkCheck, RowWrite, WritePlan

_CHECKED_AT_ONCE = 500
_Ends: TypeAlias = tuple[TableId, tuple[str, ...], TableId, tuple[str, ...]]


_PAUSES = (0.0, 0.2, 0.5, 1.0, 2.0, 4.0)
"""Seconds before each question what became of a write: a server may have to start again."""


class ServerWriter:
    """See ``Writer``."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def why_not_written(self, table: Table) -> str:
        if table.unreadable:
            return f"it cannot be read: {table.unreadable}"
        if table.kind in ("view", "materialised view"):
            return f"it is a {table.kind}: change the tables that it reads"
        if table.kind == "foreign table":
            return "it is a foreign table: its rows are on another server"
        if not table.primary_key:
            return "its rows have nothing to tell one from another by: it has no primary key"
        return ""

    def write_statement(self, write: RowWrite) -> Statement:
        return self._asked(write).statement

    def unguarded_statement(self, write: RowWrite) -> Statement:
        if write.kind == "insert":
            return self.write_statement(write)
        address = write.expected[: len(write.position_columns)]
        bare = RowWrite(write.kind, write.table, address, write.values, write.record)
        return self._asked(bare, by_text=False).statement

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
        tests = [holds(table, name, value) for name, value in write.expected]
        # What an index can find it by.
        tests += [
            self._session.equals(table, name, value)
            for name, value in write.expected
            if by_text and name in table.primary_key
        ]
        where = joined(" AND ", dict.fromkeys(tests))  # often both are the same
        if not table.primary_key:  # one of those that are alike
            one = Asked(f"(tableoid, ctid) = (SELECT tableoid, ctid FROM {of} WHERE ")
            where = one + where + " LIMIT 1)"
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
        schema = self._session.schema().schema
        session, number = self._session, ""
        with (
            closing(connect(session.target, session.what, writing=True)) as connection,
            session.stoppable(connection),
            giving_way(connection, session.outside, session.what, writes=True),
        ):
            try:
                with connection.transaction():
                    self._write_plan(connection, plan, schema, since)
                    number = transaction_number(connection)
            except psycopg.errors.IntegrityError as error:
                raise WriteRefused(f"{said(error)}; nothing was written") from error
            except psycopg.OperationalError as error:
                if not connection.closed:
                    _explain(session.what, error)
                self.require_done(number, error)
            except psycopg.Error as error:
                _explain(session.what, error)
        return [None for write in plan.writes if write.kind == "insert"]

    def _write_plan(
        self,
        connection: Connection,
        plan: WritePlan,
        schema: Schema,
        since: CommitMark | None,
    ) -> None:
        connection.execute("SET CONSTRAINTS ALL DEFERRED")
        if since is not None:
            self.require_unmoved(connection, schema, since)
        tables = {write.table for write in plan.writes}
        with triggers_held(connection, tables if not plan.triggers else set()) as links_act:
            OrderedWrites(
                connection, self._session, schema, self._asked, links_act=links_act
            ).write(plan.writes)
        self._check_links(connection, plan.checks, schema)
        for state in plan.sequences:
            name = unmarked(named(state.sequence))
            connection.execute(
                "SELECT setval(%s::regclass, %s::int8, %s::bool)",
                (name, str(state.last), str(state.taken)),
            )

    def require_done(self, number: str, lost: psycopg.OperationalError) -> None:
        """Find out what became of a transaction whose connection was lost.

        Raises:
            WriteError: it was not written, or that cannot be known.
        """
        what = self._session.what
        if not number:  # it had not come to its commit
            raise WriteError(f"{what}: the connection was lost; nothing was written") from lost
        fate = ""
        for pause in _PAUSES:
            time.sleep(pause)
            with suppress(TargetError), closing(connect(self._session.target, what)) as again:
                found = again.execute("SELECT pg_xact_status(%s::xid8)", (number,)).fetchone()
                fate = found[0].decode() if found and found[0] else ""
                if fate != "in progress":
                    break
        if fate == "committed":
            return
        if fate == "aborted":
            raise WriteError(f"{what}: the connection was lost; nothing was written") from lost
        raise WriteError(
            f"{what}: the connection was lost while it was being written, and the server does not "
            "tell whether that was done; look before writing it again"
        ) from lost

    @staticmethod
    def require_unmoved(connection: Connection, schema: Schema, since: CommitMark) -> None:
        """Keep others from writing until we have, and see that they did not since a mark."""
        tables = [table for table in schema.tables if table.is_mirrored]
        lock_against_writing(connection, tables)
        if moved(connection, tables, since):
            raise RecordsMovedOn("something was committed meanwhile; nothing was written")

    def _check_links(
        self, connection: Connection, checks: Sequence[LinkCheck], schema: Schema
    ) -> None:
        """The server checks links itself, but not while triggers are held."""
        ends: dict[_Ends, list[LinkCheck]] = {}
        for check in checks:
            child, parent = schema.find(check.child), schema.find(check.parent)
            if child is not None and parent is not None:
                key = (child.id, check.child_columns, parent.id, check.parent_columns)
                ends.setdefault(key, []).append(check)
        for alike in ends.values():
            for first in range(0, len(alike), _CHECKED_AT_ONCE):
                self._check_alike(connection, alike[first : first + _CHECKED_AT_ONCE], schema)

    def _check_alike(
        self, connection: Connection, checks: Sequence[LinkCheck], schema: Schema
    ) -> None:
        first = checks[0]
        child, parent = schema.find(first.child), schema.find(first.parent)
        assert child is not None, "it was found before"
        assert parent is not None, "it was found before"
        casts = self._session.require(parent)
        marks = ", ".join(f"%s::{casts[name]}" for name in first.parent_columns)
        rows = ", ".join(f"({marks})" for _ in checks)
        names = [f"v{place}" for place in range(len(first.parent_columns))]

        def there(table: Table, columns: Sequence[str]) -> str:
            same = " AND ".join(
                f"t.{quoted(column)} = v.{name}"
                for column, name in zip(columns, names, strict=True)
            )
            return f"EXISTS (SELECT 1 FROM {source(table)} t WHERE {same})"

        asked = Asked(
            f"SELECT 1 FROM (VALUES {rows}) v({', '.join(names)}) "
            f"WHERE {there(child, first.child_columns)} "
            f"AND NOT {there(parent, first.parent_columns)} LIMIT 1",
            tuple(argument(value) for check in checks for value in check.values),
        )
        if connection.execute(asked.sql, asked.values).fetchone() is not None:
            raise WriteRefused(
                f"{first.child} would point at a record of {first.parent} that is not there "
                f"({', '.join(first.parent_columns)}); nothing was written"
            )


def transaction_number(connection: Connection) -> str:
    """The number of the transaction that is under way."""
    found = connection.execute("SELECT pg_current_xact_id()").fetchone()
    return found[0].decode() if found else ""


def _explain(what: str, error: psycopg.Error) -> NoReturn:
    """Raise what the server refused as ours, with the record's column where it names one."""
    if isinstance(error, psycopg.errors.QueryCanceled | psycopg.OperationalError):
        with translated(what):
            raise error
    raise WriteRefused(f"{said(error)}; nothing was written") from error
