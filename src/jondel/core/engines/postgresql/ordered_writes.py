"""Writes the rows of a plan in an order in which links and unique values allow it.

What is written first is tried, many rows at once. Rows that cannot be written yet wait: for a row
that they point at, for those that point at them, for a unique value to be free. Where all that is
left waits for each other, it is written in two passes: links that may be NULL let go first, rows
that are to exchange unique values go and come back in one statement, or hold another value for a
moment.

A link's action never takes place unseen: a row that others point at is removed only once they do
not, and these are written by the plan itself.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from itertools import groupby

import psycopg

from jondel.core.engines.postgresql.connection import Connection
from jondel.core.engines.postgresql.link_guards import LinkGuards
from jondel.core.engines.postgresql.reading import joined
from jondel.core.engines.postgresql.session import Asked, Session
from jondel.core.engines.postgresql.sql_text import argument, named, quoted, source, written
from jondel.core.engines.postgresql.write_order import in_order
from jondel.core.errors import RecordsMovedOn, WriteError, WriteRefused
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Schema, Table
from jondel.core.model.writes import RowWrite, WriteKind

_MOST_VALUES = 60_000
"""The server takes 65 535 values with a statement."""
_FREE_FIRST: tuple[WriteKind, ...] = ("delete", "update", "insert")
_LINKS_FIRST: tuple[WriteKind, ...] = ("insert", "update", "delete")
_EXCHANGED = (psycopg.errors.UniqueViolation, psycopg.errors.ExclusionViolation)
_FOR_A_MOMENT = {
    "integer": "(SELECT coalesce(max({name}), 0) + 1 FROM {of})",
    "numeric": "(SELECT coalesce(max({name}), 0) + 1 FROM {of})",
    "real": "(SELECT coalesce(max({name}), 0) + 1 FROM {of})",
    "text": "left(md5(random()::text || ctid::text), 32)",
    "uuid": "md5(random()::text || ctid::text)::uuid",
    "date": "'infinity'",
    "timestamp": "'infinity'",
    "timestamp with time zone": "'infinity'",
}
"""By kind: SQL for a value that no other row is likely to hold."""

MakeStatement = Callable[[RowWrite], Asked]
"""Makes the statement of a write, with all that the row must hold."""


@dataclass
class _Waiting:
    """A write, its statement, and why it could not be written so far."""

    write: RowWrite
    asked: Asked
    error: psycopg.errors.IntegrityError | None = field(default=None, compare=False)


class OrderedWrites:
    """Writes rows on a connection, within a transaction that is under way."""

    def __init__(
        self,
        connection: Connection,
        session: Session,
        schema: Schema,
        statement: MakeStatement,
        *,
        links_act: bool,
    ) -> None:
        """``links_act``: whether the server checks links and runs their actions meanwhile."""
        self._connection = connection
        self._session = session
        self._schema = schema
        self._statement = statement
        self._links_act = links_act
        self._guards = LinkGuards(schema)
        self._afterwards: list[_Waiting] = []

    def write(self, writes: Sequence[RowWrite]) -> None:
        """Write all of them.

        Raises:
            RecordsMovedOn: a row is not as expected.
            WriteRefused: a constraint or a link would be broken.
        """
        if self._links_act:
            self._lock_what_is_pointed_at(writes)
        kinds = _LINKS_FIRST if self._links_act else _FREE_FIRST
        ordered = in_order([self._guarded(write) for write in writes], self._schema, kinds,
                           lambda entry: entry.write)  # fmt: skip
        waiting: list[_Waiting] = []
        for _, some in groupby(ordered, key=lambda entry: entry.asked.sql):
            waiting += self._tried_together(list(some))
        devices = (
            self._nothing, self._let_links_go, self._exchange, self._step_aside,
            self._remove_together,
        )  # fmt: skip
        for device in devices:
            if waiting:
                waiting = self._as_far_as_possible(device(waiting))
        if waiting:
            self._refuse(waiting)
        for entry in self._afterwards:
            if not self._tried(entry):
                self._refuse([entry])

    def _lock_what_is_pointed_at(self, writes: Sequence[RowWrite]) -> None:
        """Keep others from pointing at rows that are to go or change.

        Whoever is just doing so is waited for; what they wrote is seen by the statements that
        follow, which would not be the case if these themselves had to wait.
        """
        locks: dict[str, list[Asked]] = {}
        for write in writes:
            if self._guards.acting(write):
                table = self._schema.by_id[write.table]
                asked = self._holding(table, write, "1") + " FOR UPDATE"
                locks.setdefault(asked.sql, []).append(asked)
        for sql, some in locks.items():
            with (
                suppress(psycopg.errors.InsufficientPrivilege),
                self._connection.transaction(),
                self._connection.cursor() as cursor,
            ):
                cursor.executemany(sql, [asked.values for asked in some])

    def _guarded(self, write: RowWrite) -> _Waiting:
        asked = self._statement(write)
        return _Waiting(write, asked + self._guards.of(write) if self._links_act else asked)

    def _tried_together(self, entries: list[_Waiting]) -> list[_Waiting]:
        """Write rows that differ in values alone; returns those that have to wait."""
        values = [entry.asked.values for entry in entries]
        try:
            with self._connection.transaction(), self._connection.cursor() as cursor:
                cursor.executemany(entries[0].asked.sql, values)
                if cursor.rowcount == len(entries):
                    return []
                raise psycopg.Rollback
        except psycopg.errors.IntegrityError:
            pass
        return [entry for entry in entries if not self._tried(entry)]

    def _tried(self, entry: _Waiting) -> bool:
        """Write a row, if that can be done now."""
        try:
            with self._connection.transaction():
                done = self._connection.execute(entry.asked.sql, entry.asked.values)
                if done.rowcount == 1 or entry.write.kind == "insert":
                    return True
                raise psycopg.Rollback
        except psycopg.errors.IntegrityError as error:
            entry.error = error
        return False

    def _as_far_as_possible(self, waiting: list[_Waiting]) -> list[_Waiting]:
        """Write what can be, again and again: each may be what others wait for."""
        before = len(waiting) + 1
        while waiting and len(waiting) < before:
            before = len(waiting)
            waiting = [entry for entry in waiting if not self._tried(entry)]
        return waiting

    def _nothing(self, waiting: list[_Waiting]) -> list[_Waiting]:
        return waiting

    # Links in a circle

    def _let_links_go(self, waiting: list[_Waiting]) -> list[_Waiting]:
        """Clear the links of rows to delete, and set those of inserted rows at the end."""
        tables = {entry.write.table for entry in waiting}
        return [self._without_links(entry, tables) for entry in waiting]

    def _without_links(self, entry: _Waiting, tables: set[TableId]) -> _Waiting:
        write = entry.write
        table = self._schema.by_id[write.table]
        free = {
            name
            for key in table.foreign_keys
            if key.target_table in tables
            for name in key.columns
            if (column := table.column(name)) is not None
            and not (column.not_null or column.generated or column.key_position)
        }
        held = {
            name: value
            for name, value in (write.values if write.kind == "insert" else write.expected)
            if name in free and value is not None
        }
        if not held or not table.primary_key or write.kind == "update":
            return entry
        key = tuple((name, value) for name, value in (*write.values, *write.expected)
                    if name in table.primary_key)  # fmt: skip
        none = tuple((name, None) for name in held)
        if write.kind == "insert":
            values = tuple(cell for cell in write.values if cell[0] not in held)
            again = replace(
                write, kind="update", expected=(*key, *none), values=tuple(held.items())
            )
            self._afterwards.append(_Waiting(again, self._statement(again)))
            return self._guarded(replace(write, values=(*values, *none)))
        if not self._tried(_Waiting(write, self._statement(replace(write, kind="update",
                                                                    values=none)))):  # fmt: skip
            return entry
        expected = tuple((name, None if name in held else value) for name, value in write.expected)
        return self._guarded(replace(write, expected=expected))

    # Unique values that change places

    def _exchange(self, waiting: list[_Waiting]) -> list[_Waiting]:
        """Delete rows and insert them with their new values, in one statement per table.

        A row stays if deleting it would set off a link's action.
        """
        done: list[_Waiting] = []
        for table, some in self._exchanging(waiting):
            entries = [entry for entry in some if self._may_go(table, entry.write)]
            places = [self._place_of(entry) for entry in entries]
            if entries and all(places) and self._gone_and_back(table, entries, places):
                done += entries
        return [entry for entry in waiting if entry not in done]

    def _exchanging(self, waiting: list[_Waiting]) -> Iterator[tuple[Table, list[_Waiting]]]:
        """The updates that wait for unique values, by table."""
        tables: dict[TableId, list[_Waiting]] = {}
        for entry in waiting:
            if entry.write.kind == "update" and isinstance(entry.error, _EXCHANGED):
                tables.setdefault(entry.write.table, []).append(entry)
        for table, entries in tables.items():
            yield self._schema.by_id[table], entries

    def _may_go(self, table: Table, write: RowWrite) -> bool:
        """Whether no link would act if a row went for a moment."""
        if not self._links_act:
            return True
        found = self._ask(self._holding(table, write, "1") + self._guards.against_going(table))
        return bool(found)

    def _place_of(self, entry: _Waiting) -> tuple[str, str] | None:
        table = self._schema.by_id[entry.write.table]
        found = self._ask(self._holding(table, entry.write, "tableoid::text, ctid::text"))
        return (found[0][0], found[0][1]) if len(found) == 1 else None

    def _gone_and_back(
        self, table: Table, entries: list[_Waiting], places: Sequence[tuple[str, str] | None]
    ) -> bool:
        casts = self._session.require(table)
        kept = [column.name for column in table.columns if not column.generated]
        new = list(dict.fromkeys(name for e in entries for name, _ in e.write.values))
        if len(entries) * (3 + 2 * len(new)) > _MOST_VALUES:
            return False
        marks = ", ".join(f"%s::bool, %s::{casts[name]}" for name in new)
        rows = ", ".join(f"(%s::oid, %s::tid, {n}, {marks})" for n in range(len(entries)))
        values: list[str | bytes | None] = []
        for entry, place in zip(entries, places, strict=True):
            assert place is not None, "looked at before"
            given = dict(entry.write.values)
            values += place
            for name in new:
                values += ["t" if name in given else "f", argument(given.get(name))]
        names = ", ".join(f"s{n}, v{n}" for n in range(len(new)))
        was = ", ".join(f"t.{quoted(name)} AS o{n}" for n, name in enumerate(kept))
        now = ", ".join(
            f"CASE WHEN s{new.index(name)} THEN v{new.index(name)} ELSE o{n} END"
            if name in new else f"o{n}"
            for n, name in enumerate(kept)
        )  # fmt: skip
        sql = (
            f"WITH gone AS (DELETE FROM {source(table)} AS t USING (VALUES {rows}) "
            f"AS new(at_table, at_row, nth, {names}) "
            f"WHERE t.tableoid = at_table AND t.ctid = at_row RETURNING nth, {was}, {names}) "
            f"INSERT INTO {named(table.id)}({', '.join(map(quoted, kept))}) "
            # Sorted, so that all have gone before the first comes back.
            f"OVERRIDING SYSTEM VALUE SELECT {now} FROM (SELECT * FROM gone ORDER BY nth) AS g"
        )
        try:
            with self._connection.transaction():
                if self._connection.execute(sql, values).rowcount == len(entries):
                    return True
                raise psycopg.Rollback
        except psycopg.errors.IntegrityError as error:
            entries[0].error = error
        return False

    def _step_aside(self, waiting: list[_Waiting]) -> list[_Waiting]:
        """Give rows temporary values: rows that swap unique values, and rows to delete that hold
        a unique value which a row to insert needs."""
        needed = {
            entry.write.table
            for entry in waiting
            if entry.write.kind == "insert" and isinstance(entry.error, _EXCHANGED)
        }
        left: list[_Waiting] = []
        for entry in waiting:
            table, names = self._schema.by_id[entry.write.table], [n for n, _ in entry.write.values]
            if entry.write.kind == "delete" and table.id in needed:
                names = [column.name for column in table.columns if not column.generated]
            elif entry.write.kind != "update" or not isinstance(entry.error, _EXCHANGED):
                names = []
            for name in names:
                entry = self._aside(table, entry, name)
            left.append(entry)
        return left

    def _aside(self, table: Table, entry: _Waiting, name: str) -> _Waiting:
        """What is left to be written once a row holds another value in a column, if it may."""
        column, write = table.column(name), entry.write
        if column is None or not table.primary_key or name in table.primary_key:
            return entry
        tries = [] if column.not_null else ["NULL"]
        made = _FOR_A_MOMENT.get(column.type.kind)
        if made is not None:
            cast = self._session.require(table)[name]
            value = made.format(name=quoted(name), of=source(table))
            tries.append(f"{value}::{cast}")
        for value in tries:
            asked = Asked(f"UPDATE {source(table)} SET {quoted(name)} = {value}")
            moved = _Waiting(write, asked + self._holding(table, write, ""))
            if self._tried(moved):
                key = tuple(cell for cell in write.expected if cell[0] in table.primary_key)
                return self._guarded(replace(write, expected=key))
        return entry

    # Rows that can only go with each other

    def _remove_together(self, waiting: list[_Waiting]) -> list[_Waiting]:
        """Remove rows that point at each other and whose links take them along.

        Only if nothing else points at them. Each is looked at before the first goes.
        """
        going = [entry for entry in waiting if entry.write.kind == "delete"]
        tables = {entry.write.table: self._schema.by_id[entry.write.table] for entry in going}
        if not all(table.primary_key for table in tables.values()):
            return waiting
        known = {(e.write.table, self._key_of(e.write)) for e in going}
        for entry in going:
            table = tables[entry.write.table]
            if len(self._ask(self._holding(table, entry.write, "1"))) != 1:
                return waiting
            if not self._pointed_at_by(entry.write) <= known:
                return waiting
        try:
            with self._connection.transaction():
                for entry in going:
                    asked = self._statement(entry.write)
                    self._connection.execute(asked.sql, asked.values)
        except psycopg.errors.IntegrityError as error:
            going[0].error = error
            return waiting
        return [entry for entry in waiting if entry.write.kind != "delete"]

    def _pointed_at_by(self, write: RowWrite) -> set[tuple[TableId, tuple[str, ...]]]:
        """The rows that would go or change with one, as tables and keys."""
        table, held = self._schema.by_id[write.table], dict(write.expected)
        found = set()
        for child, link in self._guards.acting(write):
            cells = zip(link.columns, link.target_columns or table.primary_key, strict=True)
            tests = (self._session.holds(child, ours, held.get(theirs)) for ours, theirs in cells)
            keys = ", ".join(map(written, child.primary_key)) or "NULL"
            asked = Asked(f"SELECT {keys} FROM {source(child)} WHERE ") + joined(" AND ", tests)
            found |= {(child.id, key) for key in self._ask(asked)}
        return found

    def _key_of(self, write: RowWrite) -> tuple[str, ...]:
        table, held = self._schema.by_id[write.table], dict(write.expected)
        return tuple(str(argument(held[name])) for name in table.primary_key)

    # What stands in the way

    def _refuse(self, waiting: list[_Waiting]) -> None:
        for entry in waiting:
            if entry.write.kind != "insert":
                table = self._schema.by_id[entry.write.table]
                if len(self._ask(self._holding(table, entry.write, "1"))) != 1:
                    raise moved_on(entry.write)
        refused = next((entry for entry in waiting if entry.error is not None), waiting[0])
        raise self._refusal(refused)

    def _refusal(self, entry: _Waiting) -> WriteError:
        write = entry.write
        record = f"{write.table} {write.record}".strip()
        if entry.error is not None:
            return WriteRefused(f"{record}: {said(entry.error)}; nothing was written")
        pointing = ", ".join(str(child.id) for child in self._guards.children_of(write))
        return WriteRefused(
            f"{record}: records of {pointing} point at it, and would go or change with it; "
            "nothing was written"
        )

    def _holding(self, table: Table, write: RowWrite, select: str) -> Asked:
        """What follows UPDATE, or a SELECT, for the row of a write."""
        of = source(table)
        bare = self._statement(replace(write, kind="delete", values=()))
        where = Asked(bare.sql.removeprefix(f"DELETE FROM {of}"), bare.values)
        return Asked(f"SELECT {select} FROM {of}") + where if select else where

    def _ask(self, asked: Asked) -> list[tuple[str, ...]]:
        rows = self._connection.execute(asked.sql, asked.values).fetchall()
        return [tuple(part.decode() if isinstance(part, bytes) else str(part) for part in row)
                for row in rows]  # fmt: skip


def moved_on(write: RowWrite) -> RecordsMovedOn:
    """The error of a row that is not as it was expected to be."""
    return RecordsMovedOn(
        f"{write.table} {write.record}: it is no longer as it was "
        "(changed or removed meanwhile); nothing was written"
    )


def said(error: psycopg.Error) -> str:
    """What the server refused, with the detail that it gives."""
    primary = error.diag.message_primary or str(error)
    if isinstance(error, psycopg.errors.ForeignKeyViolation):
        primary = "records would point at nothing"
    detail = error.diag.message_detail
    return f"{primary} ({detail.rstrip('.')})" if detail else primary
