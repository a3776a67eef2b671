"""The panes beside the views: wider, narrower, away."""

from __future__ import annotations

from collections.abc import Iterable
from functools import partial

from jondel.tui.frame.commands import Command
from jondel.tui.frame.feature import Feature


class PaneWidths(Feature):
    """What is chosen is kept for the project; the mouse can drag the edges too."""

    def commands(self) -> Iterable[Command]:
        which = "the list of tables where it has the keys, else the card"
        for id, key, words, steps in (
            ("panes.narrower", "left_parenthesis", f"narrower: {which}; in the end it is away", -1),
            ("panes.wider", "right_parenthesis", f"wider, or back: {which}", 1),
        ):
            yield Command(
                id,
                "narrower" if steps < 0 else "wider",
                words,
                "Everywhere",
                partial(self._widen, steps),
                (key,),
                steers=True,
            )

        yield Command(
            "tables.fold_empty",
            "fold empty tables",
            "tables without rows in one line of the list, or each in its own",
            "The list of tables",
            self.desk.fold_empty_tables,
            ("Z",),
            keys_text="Z, Space in the list",
        )
        yield Command(
            "tables.enter",
            "its records",
            "from the list of tables to the table's records",
            "The list of tables",
            self.desk.focus_view,
            listed=False,
        )

    def _widen(self, steps: int) -> None:
        desk = self.desk
        if desk.table_list_has_focus:
            desk.room.widen("tables", steps)
            if desk.room.is_away("tables"):
                desk.focus_view()
                desk.say("the list of tables is away; t brings it back")
        elif desk.room.narrow:
            desk.say("there is no room beside the view; v shows the card in its place")
        else:
            desk.room.widen("card", steps)
            if desk.room.is_away("card"):
                desk.focus_view()
                desk.say("the card is away; v brings it back")
