"""Shares the width of the screen out among the table list, the view and the card."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal, TypeAlias

from textual.widget import Widget

from jondel.core.browse.desk_layout import DeskLayout
from jondel.tui.widgets.pane_edge import PaneEdge

Side: TypeAlias = Literal["tables", "card"]

WIDE = 110
"""From so many cells on there is room for the card beside the view."""
_NARROWEST: dict[Side, int] = {"tables": 16, "card": 24}
"""Narrower than this a pane is away."""
_WIDEST_SHARE: dict[Side, float] = {"tables": 0.45, "card": 0.6}
_LEAST_TABLES, _MOST_TABLES_SHARE = 22, 0.22
_CARD_SHARE = 0.29
_LEAST_CARD = 46
_STEP = 4


class Room:
    """Gives the panes their widths; what a person chose comes before what suits."""

    def __init__(
        self,
        panes: dict[Side, Widget],
        edges: dict[Side, PaneEdge],
        on_chosen: Callable[[DeskLayout], None],
    ) -> None:
        """``on_chosen`` is told of every choice that is to be kept."""
        self._panes = panes
        self._edges = edges
        self._on_chosen = on_chosen
        self._width = 0
        self._wanted = _LEAST_TABLES
        self.layout = DeskLayout()

    @property
    def narrow(self) -> bool:
        """Whether there is no room for the card beside the view."""
        return self._width < WIDE

    def take_width(self, width: int) -> None:
        """The screen is so many cells wide."""
        self._width = width
        self._apply()

    def take_layout(self, layout: DeskLayout) -> None:
        """A person wants it so, from an earlier time."""
        self.layout = layout
        self._apply()

    def want_for_tables(self, width: int) -> None:
        """So many cells would show every table's name whole."""
        if width != self._wanted:
            self._wanted = width
            self._apply()

    def is_away(self, side: Side) -> bool:
        """Whether a person has folded a pane away."""
        return self._chosen(side) == 0

    def bring_back(self, side: Side) -> None:
        """Show a pane that was folded away."""
        if self.is_away(side):
            self._choose(side, None)

    def widen(self, side: Side, steps: int) -> None:
        """Make a pane wider, or narrower for less than 0; at its narrowest it goes away."""
        if self.is_away(side):
            if steps > 0:
                self._choose(side, None)
            return
        width = self._width_of(side) + steps * _STEP
        self._choose(side, self._bounded(side, width) if width >= _NARROWEST[side] else 0)

    def drag(self, side: Side, column: int, *, let_go: bool) -> None:
        """Have the edge of a pane in a column of the screen."""
        width = column if side == "tables" else self._width - column - 1
        width = self._bounded(side, width) if width >= _NARROWEST[side] // 2 else 0
        self._choose(side, max(width, _NARROWEST[side]) if width else 0, keep=let_go)

    def _choose(self, side: Side, width: int | None, *, keep: bool = True) -> None:
        tables = width if side == "tables" else self.layout.tables
        card = width if side == "card" else self.layout.card
        self.layout = self.layout._replace(tables=tables, card=card)
        self._apply()
        if keep:
            self._on_chosen(self.layout)

    def _bounded(self, side: Side, width: int) -> int:
        return max(_NARROWEST[side], min(width, int(self._width * _WIDEST_SHARE[side])))

    def _chosen(self, side: Side) -> int | None:
        return self.layout.tables if side == "tables" else self.layout.card

    def _width_of(self, side: Side) -> int:
        chosen = self._chosen(side)
        if chosen is not None:
            return self._bounded(side, chosen) if chosen else 0
        if side == "card":
            return max(_LEAST_CARD, int(self._width * _CARD_SHARE))
        most = max(_LEAST_TABLES, int(self._width * _MOST_TABLES_SHARE))
        return max(_LEAST_TABLES, min(self._wanted, most))

    def _apply(self) -> None:
        if not self._width:
            return
        for side, pane in self._panes.items():
            width = self._width_of(side)
            pane.set_class(not width, "-folded")
            if width and not (side == "card" and self.narrow):
                pane.styles.width = width
            elif side == "card":
                pane.styles.width = None  # where there is no room it takes the view's
            self._edges[side].set_class(not width, "-folded")
