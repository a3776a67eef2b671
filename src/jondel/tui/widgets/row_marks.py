"""Which rows of a sheet changed, and how."""

from __future__ import annotations

from dataclasses import dataclass

from jondel.core.model.changes import ChangeKind, RecordChange


@dataclass(frozen=True)
class RowMarks:
    """Which rows of the sheet's table changed: by the values of the key columns.

    Without key columns, the key is the row's position (the engine's row number).
    """

    key_columns: tuple[str, ...]
    records: dict[tuple[object, ...], RecordChange]


def marks_of(
    key_columns: tuple[str, ...], by_row_id: bool, records: tuple[RecordChange, ...]
) -> RowMarks:
    """Index a table's record changes for the sheet; removed records have no row to mark."""
    kinds: set[ChangeKind] = {"added", "changed"}
    return RowMarks(
        () if by_row_id else key_columns,
        {record.key: record for record in records if record.kind in kinds},
    )
