"""Noise rules: hiding changes of a kind, and showing what is hidden."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from jondel.tui.frame.commands import Command, Situation
from jondel.tui.frame.feature import Feature
from jondel.tui.views.changes.access import current_change

if TYPE_CHECKING:
    from jondel.core.diff.noise import NoiseRules


class Noise(Feature):
    """Rules are kept for the project, in its ``jondel.toml``."""

    def commands(self) -> Iterable[Command]:
        yield Command(
            "noise",
            "hide noise",
            "hide or show changes of a kind",
            "Time",
            self._change,
            ("x",),
            footer_rank=_rank,
        )
        yield Command(
            "noise.shown",
            "show hidden",
            "show or hide hidden changes",
            "Time",
            self._toggle,
            ("X",),
        )

    async def _change(self) -> None:
        from jondel.tui.dialogs.noise import NoiseDialog

        desk = self.desk
        current = current_change(desk) if desk.navigator.view == "changes" else None
        table = current.table.table if current is not None else None
        columns = [cell.column for cell in current.record.cells] if current is not None else []
        rules = desk.workspace.trail.project_rules
        if table is None and not rules:
            desk.say("select a change in Changes first; x hides others like it")
            return
        wish = await desk.ask(NoiseDialog(table, columns, rules))
        if wish is None:
            return

        def change(rules: NoiseRules) -> NoiseRules:
            way = rules.with_rule if wish.keep else rules.without_rule
            return way(wish.kind, wish.name)

        path = await desk.workspace.trail.change_rules(change)
        desk.say(f"{wish.name}: {'hidden' if wish.keep else 'shown'} from now on ({path})")
        desk.loader.compare_anew()

    def _toggle(self) -> None:
        trail = self.desk.workspace.trail
        trail.noise_shown = not trail.noise_shown
        self.desk.say("hidden changes are shown" if trail.noise_shown else "noise is hidden again")
        self.desk.loader.compare_anew()


def _rank(situation: Situation) -> int:
    return 40 if situation.view == "changes" and situation.steps else 0
