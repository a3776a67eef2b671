"""Decides by which key a table's records are told apart on both sides."""

from __future__ import annotations

from dataclasses import dataclass

from jondel.core.engines.protocol import Database
from jondel.core.model.schema import ROW_ID, Table


@dataclass(frozen=True)
class Key:
    """The columns that tell records apart.

    ``is_row_id``: it is the engine's row number. ``with_row_id``: the row number is read beside
    the key, so that the record can be found again. With neither a declared key nor a row number,
    ``columns`` are all columns and equal rows are told apart by their count alone.
    """

    columns: tuple[str, ...]
    is_row_id: bool
    with_row_id: bool

    @property
    def width(self) -> int:
        return len(self.columns)

    def columns_in(self, table: Table) -> tuple[str, ...]:
        if self.is_row_id:
            assert table.row_id is not None
            return (table.row_id,)
        return self.columns

    def row_id_in(self, table: Table) -> tuple[str, ...]:
        if not self.with_row_id:
            return ()
        assert table.row_id is not None
        return (table.row_id,)


def comparison_key(before: Database, after: Database, old: Table | None, new: Table | None) -> Key:
    """The declared primary key, else the row number, else all columns.

    Where the declared key differs between the sides, the newer one counts as long as the older
    side has its columns. A key with NULL in several rows tells nothing apart.
    """
    sides = [(d, t) for d, t in ((before, old), (after, new)) if t is not None]
    have_row_id = all(table.row_id is not None for _, table in sides)
    for _, candidate in reversed(sides):
        columns = candidate.primary_key
        if columns and all(
            set(columns) <= set(table.column_names)
            and not (have_row_id and database.rows.has_repeated_null_keys(table, columns))
            for database, table in sides
        ):
            return Key(columns, False, have_row_id)
    if have_row_id:
        return Key((ROW_ID,), True, True)
    common = [set(table.column_names) for _, table in sides]
    columns = tuple(
        name for name in sides[-1][1].column_names if all(name in names for names in common)
    )
    return Key(columns, False, False)
