"""Making the app do something."""

from __future__ import annotations

from collections.abc import Iterable

from jondel.tui.frame.commands import Command, Situation
from jondel.tui.frame.feature import Feature


class Actions(Feature):
    """The app's actions, where some are known."""

    def commands(self) -> Iterable[Command]:
        yield Command(
            "act",
            "actions",
            "run one of the app's actions",
            "Time",
            self._act,
            ("a",),
            refusal=_refusal,
            footer_rank=lambda _: 30,
            steers=True,
        )

    async def _act(self) -> None:
        from jondel.tui.dialogs.action import ActionDialog

        action = await self.desk.ask(ActionDialog(self.desk.workspace.actions))
        if action is not None:
            answer = await self.desk.workspace.act(action)
            self.desk.say(f"{action.name}: {answer}")


def _refusal(situation: Situation) -> str:
    if situation.actions:
        return ""
    return "no actions are known for this database; use the app itself"
