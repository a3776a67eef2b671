"""The dialog of the records that stand in the way of a write."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import NamedTuple

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import OptionList
from textual.widgets.option_list import Option

from jondel.core.browse.display import grouped, line, safe_name
from jondel.core.draft.remedies import Remedy
from jondel.core.model.addresses import TableId
from jondel.core.model.rows import Position
from jondel.core.model.writes import Obstacle
from jondel.tui.frame.dialog import Dialog, foot, heading
from jondel.tui.widgets.styles import ink

_SHOWN_CHARACTERS = 300


class ObstacleAnswer(NamedTuple):
    """What a person wants: a remedy taken into the draft, or to see a record."""

    remedy: Remedy | None = None
    table: TableId | None = None
    position: Position = ()


class ObstacleDialog(Dialog[ObstacleAnswer | None]):
    """Names the records, and offers what would help."""

    BINDINGS = [
        Binding("escape", "dismiss(None)", "later"),
        Binding("x", "remedy('DELETE')", "delete them too"),
        Binding("n", "remedy('SET_NULL')", "set their links to NULL"),
    ]

    def __init__(self, obstacles: Sequence[Obstacle], remedies: Collection[Remedy]) -> None:
        super().__init__()
        self._obstacles = obstacles
        self._remedies = remedies
        self._places: list[ObstacleAnswer] = []
        """The record that each option stands for; nothing for a heading."""

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog full"):
            yield heading(f"Nothing was written: {self._counted()}")
            yield OptionList(*self._options(), markup=False)
            offered = []
            if Remedy.DELETE in self._remedies:
                offered.append("x deletes them too")
            if Remedy.SET_NULL in self._remedies:
                offered.append("n sets their links to NULL")
            first = f"{' · '.join(offered)}, in the draft\n" if offered else ""
            yield foot(f"{first}Enter goes to the record · Escape keeps the draft as it is")

    def _counted(self) -> str:
        total = sum(len(o.positions) and o.total for o in self._obstacles)
        if not total:
            total = len(self._obstacles)
            return f"{total} record{' does' if total == 1 else 's do'} not fit"
        return (
            "1 record is in the way" if total == 1 else f"{grouped(total)} records are in the way"
        )

    def _options(self) -> list[Option]:
        options = []
        for obstacle in self._obstacles:
            options.append(self._heading(line(obstacle.reason, _SHOWN_CHARACTERS)))
            for position in obstacle.positions:
                name = " · ".join(line(value, 60) for value in position)
                text = Text(f"  {safe_name(obstacle.table)} {name}", no_wrap=True)
                options.append(Option(text))
                self._places.append(ObstacleAnswer(None, obstacle.table, position))
            left = obstacle.total - len(obstacle.positions)
            if left > 0 and obstacle.positions:
                options.append(self._heading(f"  … {grouped(left)} more"))
        return options

    def _heading(self, words: str) -> Option:
        self._places.append(ObstacleAnswer())
        return Option(Text(words, ink(self, "brass")), disabled=True)

    def opened(self) -> None:
        self.query_one(OptionList).action_first()

    def action_remedy(self, remedy: str) -> None:
        if Remedy[remedy] in self._remedies:
            self.dismiss(ObstacleAnswer(Remedy[remedy]))

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        place = self._places[event.option_index]
        if place.table:
            self.dismiss(place)
