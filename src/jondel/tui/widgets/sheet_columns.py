"""Where the sheet's columns stand, how wide they are and what heads them."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence
from itertools import accumulate

from jondel.core.browse.display import Piece, pieces, safe_name
from jondel.core.model.schema import Table
from jondel.core.model.values import ShownRow
from jondel.tui.widgets.cell_text import width_of

GUTTER = 2
"""Cells before the first column, for a row's mark."""
GAP = 2
_WIDEST, _NARROWEST = 36, 3
_MEASURED_VALUES = 20_000
_NUMERIC_TYPES = ("INT", "REAL", "FLOA", "DOUB", "NUM", "DEC")


class SheetColumns:
    """The columns of one table, fitted to some of its rows.

    All widths and places are in terminal cells; places count from the sheet's left edge before
    any scrolling. ``right`` tells which columns align right.
    """

    def __init__(self, table: Table | None = None, rows: Sequence[ShownRow] = ()) -> None:
        declared = table.columns if table is not None else ()
        self.names = [_heading(table, index) for index in range(len(declared))] if table else []
        self.widths = [
            max(_NARROWEST, min(_WIDEST, width_of([Piece(name, "text")]))) for name in self.names
        ]
        self.right: list[bool] = []
        for index, column in enumerate(declared):
            values = [row[index] for row in rows if row[index] is not None]
            numeric = all(isinstance(value, int | float) for value in values)
            by_type = any(part in column.declared_type.upper() for part in _NUMERIC_TYPES)
            self.right.append(numeric if values else by_type)
        self.edges: list[int] = []
        self._place()
        self.widen(rows)

    def __len__(self) -> int:
        return len(self.widths)

    @property
    def total_width(self) -> int:
        """The width of all columns with the gutter."""
        return self.edges[-1] - GAP if self.widths else GUTTER

    def widen(self, rows: Sequence[ShownRow]) -> bool:
        """Make room for values longer than those seen before; True if that changed anything."""
        wider = False
        for row in rows[: max(8, _MEASURED_VALUES // max(1, len(self)))]:
            for index, value in enumerate(row):
                width = self.widths[index]
                if width < _WIDEST:
                    needed = width_of(pieces(value, _WIDEST + 1))
                    if needed > width:
                        self.widths[index] = min(needed, _WIDEST)
                        wider = True
        if wider:
            self._place()
        return wider

    def between(self, start: int, width: int) -> range:
        """The columns that are at least partly within ``width`` cells from a place on."""
        first = max(0, bisect_right(self.edges, start) - 1)
        return range(first, min(bisect_right(self.edges, start + width), len(self)))

    def at(self, place: int) -> int:
        """The column at a place; the first one for the gutter."""
        return max(0, bisect_right(self.edges, place) - 1)

    def _place(self) -> None:
        self.edges = list(accumulate((width + GAP for width in self.widths), initial=GUTTER))


def _heading(table: Table, index: int) -> str:
    column = table.columns[index]
    name = safe_name(column.name)
    if column.key_position:
        name = f"◆ {name}"
    if table.links_from(column.name):
        name = f"→ {name}"
    return name
