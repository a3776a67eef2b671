"""Where the sheet's columns stand, how wide they are and what heads them."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence
from itertools import accumulate

from rich.cells import cell_len

from jondel.core.browse.display import pieces, safe_name
from jondel.core.browse.layout import ColumnLayout
from jondel.core.model.schema import Column, Table
from jondel.core.model.values import ShownRow
from jondel.tui.widgets.cell_text import width_of

GUTTER = 2
"""Cells before the first column, for a row's mark."""
GAP = 2
NARROWEST, WIDEST = 3, 200
"""The widths that a person may give a column."""
_WIDEST_FITTED = 36
_REMARK_CELLS = 8
_MEASURED_VALUES = 20_000
_MOST_FROZEN_SHARE = 0.5
_PLAIN = ColumnLayout()


class SheetColumns:
    """The shown columns of one table, fitted to some of its rows.

    A column's *place* is its index among those shown, from 0; ``fields`` gives for each place the
    column's index in the table. All widths and distances are in terminal cells; distances count
    from the sheet's left edge before any scrolling. ``right`` tells which columns align right.
    The first ``frozen`` places stay where they are when the others scroll.
    """

    def __init__(
        self,
        table: Table | None = None,
        rows: Sequence[ShownRow] = (),
        layout: ColumnLayout = _PLAIN,
    ) -> None:
        declared = table.columns if table is not None else ()
        self._layout = layout
        self.fields = layout.shown([column.name for column in declared])
        self._place_of = {field: place for place, field in enumerate(self.fields)}
        columns = [declared[field] for field in self.fields]
        self.names = [_heading(table, column) for column in columns] if table else []
        self.remarks = [remark(table, column) for column in columns] if table else []
        self._chosen = [layout.width(column.name) for column in columns]
        self.widths = [
            chosen or _heading_width(name, about)
            for name, about, chosen in zip(self.names, self.remarks, self._chosen, strict=True)
        ]
        self.right: list[bool] = []
        for field, column in zip(self.fields, columns, strict=True):
            values = [row[field] for row in rows if row and row[field] is not None]
            numeric = all(isinstance(value, int | float) for value in values)
            by_type = column.affinity in ("integer", "real", "numeric") and column.declared_type
            self.right.append(numeric if values else bool(by_type))
        shown = [column.name for column in columns]
        self._wanted_frozen = layout.frozen_places(table.primary_key if table else (), shown)
        self.frozen = 0
        self.edges: list[int] = []
        self._place()
        self.widen(rows)

    def __len__(self) -> int:
        return len(self.widths)

    @property
    def total_width(self) -> int:
        """The width of all columns with the gutter."""
        return self.edges[-1] - GAP if self.widths else GUTTER

    @property
    def frozen_edge(self) -> int:
        """Where the columns that stay in place end and the others begin."""
        return self.edges[self.frozen] if self.widths else GUTTER

    def place_of(self, field: int) -> int | None:
        """The place of a column by its index in the table; None where it is hidden."""
        return self._place_of.get(field)

    def widen(self, rows: Sequence[ShownRow]) -> bool:
        """Make room for values longer than those seen before; True if that changed anything."""
        wider = False
        growing = [
            (place, field)
            for place, field in enumerate(self.fields)
            if not self._chosen[place] and self.widths[place] < _WIDEST_FITTED
        ]
        for row in rows[: max(8, _MEASURED_VALUES // max(1, len(self)))]:
            if not row:
                continue
            for place, field in growing:
                width = self.widths[place]
                value = row[field]
                if value.__class__ is int:
                    needed = len(str(value))
                elif width < _WIDEST_FITTED:
                    needed = width_of(pieces(value, _WIDEST_FITTED + 1))
                else:
                    continue
                if needed > width:
                    self.widths[place] = min(needed, _WIDEST_FITTED)
                    wider = True
        if wider:
            self._place()
        return wider

    def fit_frozen(self, room: int) -> None:
        """Freeze as many of the columns that are to be as leave room for the others."""
        frozen = self._wanted_frozen
        while frozen and self.edges[frozen] > room * _MOST_FROZEN_SHARE:
            frozen -= 1
        self.frozen = frozen

    def scrolled(self, x: int, width: int) -> range:
        """The places, behind the frozen ones, at least partly seen when scrolled by ``x``."""
        start = self.frozen_edge + x
        first = max(self.frozen, bisect_right(self.edges, start) - 1)
        return range(first, max(first, min(bisect_right(self.edges, x + width), len(self))))

    def at(self, x: int, scroll: int) -> int:
        """The place under a cell of the view; the first one for the gutter."""
        distance = x if x < self.frozen_edge else x + scroll
        return max(0, min(bisect_right(self.edges, distance) - 1, len(self) - 1))

    def _place(self) -> None:
        self.edges = list(accumulate((width + GAP for width in self.widths), initial=GUTTER))


def _heading_width(name: str, about: str) -> int:
    """The width that a column's heading takes; of what is declared a beginning is enough."""
    named = min(_WIDEST_FITTED, cell_len(name))
    return max(NARROWEST, named, min(_REMARK_CELLS, cell_len(about)))


def _heading(table: Table | None, column: Column) -> str:
    name = safe_name(column.name)
    if column.key_position:
        name = f"◆ {name}"
    if table is not None and table.links_from(column.name):
        name = f"→ {name}"
    return name


def remark(table: Table | None, column: Column) -> str:
    """A column's declared type, and what else is declared of it, in few characters."""
    parts = [safe_name(column.declared_type.lower()) if column.declared_type else "no type"]
    if column.not_null:
        parts.append("not null")
    if column.generated:
        parts.append("generated")
    if column.default is not None:
        parts.append(f"= {safe_name(column.default)}")
    for link in table.links_from(column.name) if table is not None else ():
        parts.append(f"→ {safe_name(link.target_table)}")
    return " ".join(parts)
