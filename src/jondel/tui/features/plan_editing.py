"""Writing actions into the project's file, changing them and taking them out."""

from __future__ import annotations

from collections.abc import Iterable

from jondel.core.browse.display import line
from jondel.core.verify.actions import Action
from jondel.tui.features.confirming import confirm
from jondel.tui.frame.commands import VERIFY, Command
from jondel.tui.frame.feature import Feature
from jondel.tui.views.verify.access import needs_line, opened_verify


class PlanEditing(Feature):
    """The actions that are written down."""

    def commands(self) -> Iterable[Command]:
        yield Command(
            "verify.new",
            "new action",
            "write a new action into jondel.toml",
            "Verify",
            self._new,
            ("plus",),
            contexts=VERIFY,
            footer_rank=lambda _: 60,
        )
        yield Command(
            "verify.edit",
            "edit",
            "change the action",
            "Verify",
            self._edit,
            ("E",),
            contexts=VERIFY,
            refusal=needs_line,
        )
        yield Command(
            "verify.remove",
            "remove",
            "take the action out of jondel.toml",
            "Verify",
            self._remove,
            ("delete",),
            contexts=VERIFY,
            refusal=needs_line,
        )

    async def _new(self) -> None:
        from jondel.tui.dialogs.action_entry import ActionEntryDialog

        desk = self.desk
        plan = await desk.workspace.verifying.plan()
        names = [action.name for action in plan.actions]
        action = await desk.ask(ActionEntryDialog(None, names))
        if action is not None:
            path = await desk.workspace.verifying.keep_action(action)
            desk.say(f"{action.name}: kept in {path}; Enter runs it")
            await self._shown_anew(action)

    async def _edit(self) -> None:
        from jondel.tui.dialogs.action_entry import ActionEntryDialog

        desk, view = self.desk, opened_verify(self.desk)
        action = view.current_action if view is not None else None
        if action is None or view is None or view.plan is None:
            return
        names = [other.name for other in view.plan.actions if other is not action]
        changed = await desk.ask(ActionEntryDialog(action, names))
        if changed is not None:
            path = await desk.workspace.verifying.keep_action(changed, action.name)
            desk.say(f"{changed.name}: kept in {path}")
            await self._shown_anew(changed)

    async def _shown_anew(self, action: Action) -> None:
        view = opened_verify(self.desk)
        if view is not None:
            view.plan = await self.desk.workspace.verifying.plan()
            view.show_lists()
            view.list.choose(action)

    async def _remove(self) -> None:
        desk, view = self.desk, opened_verify(self.desk)
        action = view.current_action if view is not None else None
        if action is None:
            return
        lines = ["Its expectation stays, and so do the steps that it made."]
        if await confirm(
            desk, f"Remove the action {line(action.name, 60)!r}?", lines, "removes it"
        ):
            await desk.workspace.verifying.remove_action(action.name)
            if view is not None:
                view.refresh_all()
