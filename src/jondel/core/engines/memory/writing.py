"""Writes plans to tables in memory, all or nothing."""

from __future__ import annotations

from collections.abc import Hashable, Sequence

from jondel.core.engines.memory.tables import MemoryAccess, Rows, equal
from jondel.core.engines.protocol import CommitMark
from jondel.core.errors import RecordsMovedOn, WriteRefused
from jondel.core.model.rows import Position
from jondel.core.model.schema import Table
from jondel.core.model.statements import Argument, Statement
from jondel.core.model.values import Row, StoredValue, identical
from jondel.core.model.writes import LinkCheck, RowWrite, WritePlan


class MemoryCommits:
    """See ``Commits``."""

    def __init__(self, access: MemoryAccess) -> None:
        self._access = access

    def change_token(self) -> Hashable:
        return self._access.tables.commits

    look_every_seconds = 0.0

    def mark(self, *, exact: bool = False) -> CommitMark:
        return self._access.tables.commits

    def moved_since(self, mark: CommitMark) -> bool:
        return self.mark() != mark


class MemoryWriter:
    """See ``Writer``."""

    def __init__(self, access: MemoryAccess) -> None:
        self._access = access

    def why_not_written(self, table: Table) -> str:
        if table.kind == "view":
            return "it is a view: change the tables that it reads"
        if table.addressing == "none":
            return "its rows have nothing to tell one from another by: no row number, no key"
        return ""

    def write_statement(self, write: RowWrite) -> Statement:
        cells = (*write.expected, *write.values)
        texts = (f"{write.kind.upper()} {write.table}: ", *(", " for _ in cells[1:]), "")
        return Statement(texts[: len(cells) + 1], tuple(Argument(v, name) for name, v in cells))

    def unguarded_statement(self, write: RowWrite) -> Statement:
        address = write.expected[: len(write.position_columns)]
        return self.write_statement(
            RowWrite(write.kind, write.table, address, write.values, write.record)
        )

    def apply(self, plan: WritePlan, since: CommitMark | None = None) -> Sequence[int | None]:
        tables = self._access.tables
        with tables.lock:
            self._access.check()
            if since is not None and since != tables.commits:
                raise RecordsMovedOn("something was committed meanwhile; nothing was written")
            before = {table: dict(rows) for table, rows in tables.rows.items()}
            try:
                inserted: list[int | None] = []
                for write in plan.writes:
                    self._access.check()
                    number = self._write(write)
                    if write.kind == "insert":
                        inserted.append(number)
                for check in plan.checks:
                    self._check_link(check)
            except BaseException:
                tables.rows = before
                raise
            tables.commits += 1
        return inserted

    def _write(self, write: RowWrite) -> int | None:
        tables = self._access.tables
        table, rows = tables.schema.by_id[write.table], tables.rows[write.table]
        names = table.column_names
        if write.kind == "insert":
            values = dict(write.values)
            row = tuple(values.get(name) for name in names)
            self._require(table, rows, row, None, write)
            position = tables.position_of(table, row)
            rows[position] = row
            return position[0] if isinstance(position[0], int) and table.row_id else None
        position = self._position_of(table, rows, write)
        row = rows.pop(position)
        if write.kind == "update":
            changed = dict(zip(names, row, strict=True)) | dict(write.values)
            after = tuple(changed[name] for name in names)
            self._require(table, rows, after, position, write)
            keyed = table.row_id is None
            rows[tables.position_of(table, after) if keyed else position] = after
        return None

    @staticmethod
    def _position_of(table: Table, rows: Rows, write: RowWrite) -> Position:
        """The one row that is as a write expects it. Raises ``RecordsMovedOn``."""
        for position, row in rows.items():
            cells: dict[str, StoredValue] = dict(zip(table.column_names, row, strict=True))
            if table.row_id is not None:
                cells.setdefault(table.row_id, position[0])
            if all(name in cells and identical(cells[name], v) for name, v in write.expected):
                return position
        raise RecordsMovedOn(
            f"{write.table} {write.record}: it is no longer as it was "
            "(changed or removed meanwhile); nothing was written"
        )

    @staticmethod
    def _require(
        table: Table, rows: Rows, row: Row, position: Position | None, write: RowWrite
    ) -> None:
        """Raise ``WriteRefused`` where a row breaks what the table declares."""
        cells = dict(zip(table.column_names, row, strict=True))
        who = f"{write.table} {write.record}"
        for column in table.columns:
            if column.not_null and cells[column.name] is None:
                raise WriteRefused(f"{who}: {column.name} must not be NULL; nothing was written")
        for key in (table.primary_key, *table.unique_keys):
            places = [table.column_names.index(name) for name in key]
            for other, held in rows.items():
                if key and other != position and all(equal(held[p], row[p]) for p in places):
                    names = ", ".join(key)
                    raise WriteRefused(f"{who}: {names} is there already; nothing was written")

    def _check_link(self, check: LinkCheck) -> None:
        if self._holds(check.child, check.child_columns, check.values) and not self._holds(
            check.parent, check.parent_columns, check.values
        ):
            raise WriteRefused(
                f"{check.child} would point at a record of {check.parent} that is not there; "
                "nothing was written"
            )

    def _holds(
        self, wanted: Hashable, columns: Sequence[str], values: Sequence[StoredValue]
    ) -> bool:
        tables = self._access.tables
        table = next(table for table in tables.schema.tables if table.id == wanted)
        places = [table.column_names.index(name) for name in columns]
        return any(
            all(equal(row[place], value) for place, value in zip(places, values, strict=True))
            for row in tables.rows[table.id].values()
        )
