"""Compares two versions of one record cell by cell."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from jondel.core.engines.protocol import Database
from jondel.core.model.changes import NO_VALUE, CellChange, NoValue, RecordChange
from jondel.core.model.schema import Table
from jondel.core.model.values import ShownRow, StoredValue, Value, clipped, identical


class CellComparison:
    """Knows which columns two sides share and what new columns were filled with."""

    def __init__(self, after: Database, old: Table, new: Table, renamed: Mapping[str, str]) -> None:
        """``renamed`` leads from new names of columns to their old ones."""
        new_names = {was: name for name, was in renamed.items()}
        places = {new_names.get(name, name): i for i, name in enumerate(old.column_names)}
        self._shared: list[tuple[str, int, int]] = []
        self._new: list[tuple[str, int, StoredValue, bool]] = []
        for index, column in enumerate(new.columns):
            if column.name in places:
                self._shared.append((column.name, places[column.name], index))
            elif not column.generated:
                filled, known = after.scanner.default_of(new, column.name)
                self._new.append((column.name, index, filled, known))

    @property
    def shared(self) -> Sequence[tuple[str, int, int]]:
        """The columns that both sides have: name on the newer side, and places on each."""
        return self._shared

    def differing(self, before: ShownRow, after: ShownRow) -> tuple[CellChange, ...]:
        """The cells that differ, in the newer side's column order.

        A column only the older side has makes no cell differ; one only the newer side has does
        where its value is another than the default the engine filled in.
        """
        cells = [
            (new, CellChange(name, before[old], after[new]))
            for name, old, new in self._shared
            if not identical(before[old], after[new])
        ]
        cells += [
            (index, CellChange(name, NO_VALUE, after[index]))
            for name, index, filled, known in self._new
            if not (known and identical(filled, after[index]))
        ]
        return tuple(cell for _, cell in sorted(cells, key=lambda entry: entry[0]))


def clipped_change(change: RecordChange, max_bytes: int | None) -> RecordChange:
    """The change with values of more than ``max_bytes`` bytes clipped, its key left whole."""
    if max_bytes is None:
        return change
    limit = max_bytes

    def short(value: Value) -> Value:
        return clipped(value, limit)

    def short_row(row: ShownRow | None) -> ShownRow | None:
        return None if row is None else tuple(short(value) for value in row)

    return change._replace(
        before=short_row(change.before),
        after=short_row(change.after),
        cells=tuple(clipped_cell(cell, limit) for cell in change.cells),
    )


def clipped_cell(cell: CellChange, max_bytes: int) -> CellChange:
    """A changed cell with its values clipped."""
    before = cell.before
    if not isinstance(before, NoValue):
        before = clipped(before, max_bytes)
    return cell._replace(before=before, after=clipped(cell.after, max_bytes))
