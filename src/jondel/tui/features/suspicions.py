"""Findings: what is told of them beside a step, looking for them everywhere, dismissing them."""

from __future__ import annotations

import asyncio
from collections.abc import Iterable
from contextlib import suppress

from jondel.core.browse.display import line
from jondel.core.errors import JondelError
from jondel.core.findings.finding import Finding
from jondel.core.trail.trail import Step
from jondel.tui.frame.commands import VERIFY, Command
from jondel.tui.frame.feature import Feature
from jondel.tui.frame.navigator import Reach
from jondel.tui.views.changes.access import opened_changes
from jondel.tui.views.verify.access import needs_line, opened_verify


class Suspicions(Feature):
    """What is suspicious in a step, or anywhere."""

    def commands(self) -> Iterable[Command]:
        yield Command(
            "verify.findings",
            "look everywhere",
            "look for suspicious data in all tables as they are now",
            "Verify",
            self._look_everywhere,
            ("f",),
            contexts=VERIFY,
            footer_rank=lambda _: 65,
            task="findings",
        )
        yield Command(
            "verify.dismiss",
            "dismiss",
            "tell no more of findings of this kind in this place, with a reason",
            "Verify",
            self._dismiss,
            ("z",),
            contexts=VERIFY,
            refusal=needs_line,
            footer_rank=lambda _: 50,
        )

    # What is said of a step where its changes are

    def arrived(self) -> None:
        desk = self.desk
        at = desk.workspace.trail.resolve(desk.place.moment)
        if desk.navigator.view == "changes" and isinstance(at, Step) and at.before is not None:
            step = at

            async def look() -> None:
                with suppress(JondelError):  # what is wrong is said where it is asked for
                    await self._note(step)

            desk.start(look, "step note", Reach.MOMENT)

    async def _note(self, step: Step) -> None:
        """Say how a step stands to what is expected of it, and what is suspicious in it."""
        verifying = self.desk.workspace.verifying
        known = await verifying.knowledge(step)
        note: list[tuple[str, str]] = []
        if known.verdict is not None:
            words = "✔ met" if known.verdict.met else f"✘ {known.verdict.summary}"
            note.append((f" {words} ", "plain" if known.verdict.met else "flag"))
        found = await verifying.findings_of_step(step)
        if found:
            note.append((f" ! {_number_of(len(found))}, V ", "draft"))
        view = opened_changes(self.desk)
        if view is not None:
            view.show_note(step.number, note)

    # Everywhere

    async def _look_everywhere(self) -> None:
        desk, view = self.desk, opened_verify(self.desk)
        if view is None:
            return
        loop = asyncio.get_running_loop()
        shown = view

        def told(words: str) -> None:
            loop.call_soon_threadsafe(shown.show_findings, [], f"in all tables: {words} …")

        with desk.busy("looking for findings"):
            try:
                found = await desk.workspace.verifying.findings(told)
            except (JondelError, asyncio.CancelledError):
                view.forget_findings()
                raise
        view.show_findings(found, "in all tables", of_all=True)
        desk.say(f"{_number_of(len(found))} in all tables")

    async def _dismiss(self) -> None:
        from jondel.tui.dialogs.entries import LineDialog

        desk, view = self.desk, opened_verify(self.desk)
        finding = view.current_finding if view is not None else None
        if finding is None or view is None:
            desk.say("go to a finding first")
            return
        place = line(finding.place, 60)
        hint = f"{finding.kind} in {place} will not be told of any more in this project"
        reason = await desk.ask(LineDialog("Dismiss such findings: why?", hint=hint))
        if reason is None:
            return
        path = await desk.workspace.verifying.dismiss(finding, reason)
        desk.say(f"dismissed, in {path}")
        if view.shows_all_tables:
            kept = [f for f in view.findings or () if (f.kind, f.place) != _what(finding)]
            view.show_findings(kept, "in all tables", of_all=True)
        else:
            view.forget_findings()


def _number_of(findings: int) -> str:
    return f"{findings or 'no'} finding{'' if findings == 1 else 's'}"


def _what(finding: Finding) -> tuple[str, str]:
    return finding.kind, finding.place
