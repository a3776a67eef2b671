"""Which rows of a sheet changed, and how they stand out."""

from __future__ import annotations

from typing import NamedTuple

from jondel.core.model.changes import ChangeKind, RecordChange
from jondel.core.model.values import Value

DRAFT_MARK, FRESH_MARK, CHOSEN_MARK = "*", "∙", "•"


class RowMarks(NamedTuple):
    """Which rows of the sheet's table changed: by the values of the key columns.

    Without key columns, the key is the row's position (the engine's row number).
    """

    key_columns: tuple[str, ...]
    records: dict[tuple[Value, ...], RecordChange]


def marks_of(
    key_columns: tuple[str, ...], by_row_id: bool, records: tuple[RecordChange, ...]
) -> RowMarks:
    """Index a table's record changes for the sheet; removed records have no row to mark."""
    kinds: set[ChangeKind] = {"added", "changed"}
    return RowMarks(
        () if by_row_id else key_columns,
        {record.key: record for record in records if record.kind in kinds},
    )


class RowLook(NamedTuple):
    """How a row stands out: the gutter's sign and its colour, and which cells in which colour.

    ``cells`` are column indexes in the table; None means all of them.
    """

    sign: str = " "
    colour: str = ""
    cells: frozenset[int] | None = frozenset()
    struck: bool = False
    chosen: bool = False


PLAIN_LOOK = RowLook()
