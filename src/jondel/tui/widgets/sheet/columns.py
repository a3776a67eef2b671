"""Where the sheet's columns stand, how wide they are and what heads them."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Sequence
from itertools import accumulate

from rich.cells import cell_len

from jondel.core.browse.display import pieces
from jondel.core.browse.layout import ColumnLayout
from jondel.core.model.values import ShownRow, is_number
from jondel.tui.widgets.cell_text import width_of
from jondel.tui.widgets.sheet.source import SourceColumn

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
    """The shown columns of a source, fitted to some of its rows and to the room there is.

    Each column first gets what its name and short values need, up to a limit; where that leaves
    room, what is declared of columns and long values get it, those that need least first.

    A column's *place* is its index among those shown, from 0; ``fields`` gives for each place the
    column's index in the source. All widths and distances are in terminal cells; distances count
    from the sheet's left edge before any scrolling. ``right`` tells which columns align right.
    The first ``frozen`` places stay where they are when the others scroll.
    """

    def __init__(
        self,
        columns: Sequence[SourceColumn] = (),
        rows: Sequence[ShownRow] = (),
        layout: ColumnLayout = _PLAIN,
    ) -> None:
        self.all = columns
        """All columns of the source, hidden ones too."""
        key = [column.name for column in columns if column.in_key]
        self.fields = layout.shown([column.name for column in columns], key)
        self._place_of = {field: place for place, field in enumerate(self.fields)}
        shown = [columns[field] for field in self.fields]
        self.names = [column.heading for column in shown]
        self.remarks = [column.remark for column in shown]
        self._chosen = [layout.width(column.name) for column in shown]
        self._fitted = [
            chosen or _heading_width(column)
            for column, chosen in zip(shown, self._chosen, strict=True)
        ]
        self._wanted = [
            chosen or max(width, cell_len(column.remark))
            for column, chosen, width in zip(shown, self._chosen, self._fitted, strict=True)
        ]
        """What would show all that is known of; at least what is fitted."""
        self._room = 0
        self.widths = list(self._fitted)
        self.right: list[bool] = []
        for field, column in zip(self.fields, shown, strict=True):
            values = [row[field] for row in rows if row and row[field] is not None]
            numeric = all(is_number(value) for value in values)
            self.right.append(numeric if values else column.numeric)
        self._wanted_frozen = layout.frozen_places(key, [column.name for column in shown])
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
        """The place of a column by its index in the source; None where it is hidden."""
        return self._place_of.get(field)

    def widen(self, rows: Sequence[ShownRow]) -> bool:
        """Make room for values longer than those seen before; True if that changed anything."""
        before = list(self.widths)
        growing = [
            (place, field)
            for place, field in enumerate(self.fields)
            if not self._chosen[place] and self._wanted[place] < self._most
        ]
        for row in rows[: max(8, _MEASURED_VALUES // max(1, len(self)))]:
            if not row:
                continue
            for place, field in growing:
                width, value = self._wanted[place], row[field]
                if value.__class__ is int:
                    needed = len(str(value))
                elif width < self._most:
                    needed = width_of(pieces(value, self._most + 1))
                else:
                    continue
                if needed > width:
                    self._wanted[place] = min(needed, self._most)
                if needed > self._fitted[place]:
                    self._fitted[place] = min(needed, _WIDEST_FITTED)
        self._share_out()
        return self.widths != before

    @property
    def _most(self) -> int:
        """How wide a value is measured at most: no further than there is room for."""
        spare = self._room - GUTTER - sum(self._fitted) - GAP * len(self._fitted)
        return max(_WIDEST_FITTED, min(WIDEST, _WIDEST_FITTED + spare))

    def _share_out(self) -> None:
        self.widths = list(self._fitted)
        spare = self._room - GUTTER - sum(self._fitted) - GAP * (len(self._fitted) - 1)
        wants = [want - has for want, has in zip(self._wanted, self._fitted, strict=True)]
        for place in sorted(range(len(wants)), key=wants.__getitem__):
            more = min(wants[place], spare)
            if more > 0:
                self.widths[place] += more
                spare -= more
        self._place()

    def fit(self, room: int, rows: Sequence[ShownRow] = ()) -> None:
        """Use so many cells, and freeze as many of the columns that are to be as leave room for
        the others."""
        self._room = room
        self.widen(rows)
        frozen = self._wanted_frozen
        while frozen and self.edges[frozen] > room * _MOST_FROZEN_SHARE:
            frozen -= 1
        self.frozen = frozen

    def scrolled(self, x: int, width: int) -> range:
        """The places, behind the frozen ones, at least partly seen when scrolled by ``x``."""
        start = self.frozen_edge + x
        first = max(self.frozen, bisect_right(self.edges, start) - 1)
        return range(first, max(first, min(bisect_right(self.edges, x + width), len(self))))

    def first_whole(self, x: int) -> int:
        """The first place, behind the frozen ones, that is not cut when scrolled by ``x``."""
        return min(bisect_left(self.edges, x + self.frozen_edge), len(self)) if x else 0

    def scroll_to_show(self, place: int, x: int, width: int) -> int:
        """How far to scroll so that a place is seen; ``x``, how far it is now, where that does."""
        if not len(self) or place < self.frozen:
            return x
        left, right = self.edges[place], self.edges[place] + self.widths[place]
        if left < x + self.frozen_edge:
            return max(0, left - self.frozen_edge)
        if right > x + width:
            # As far as to the beginning of a column, so that none is cut on the left.
            least = right - width + self.frozen_edge
            first = next((edge for edge in self.edges if edge >= least), left)
            return max(0, min(first, left) - self.frozen_edge)
        return x

    def at(self, x: int, scroll: int) -> int:
        """The place under a cell of the view; the first one for the gutter."""
        distance = x if x < self.frozen_edge else x + scroll
        return max(0, min(bisect_right(self.edges, distance) - 1, len(self) - 1))

    def _place(self) -> None:
        self.edges = list(accumulate((width + GAP for width in self.widths), initial=GUTTER))


def _heading_width(column: SourceColumn) -> int:
    """The width that a column's heading takes; of what is declared a beginning is enough."""
    named = min(_WIDEST_FITTED, cell_len(column.heading))
    return max(NARROWEST, named, min(_REMARK_CELLS, cell_len(column.remark)))
