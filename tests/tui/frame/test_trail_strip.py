"""The trail along the bottom, where it is long."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from datetime import UTC, datetime

from textual.app import App, ComposeResult

from jondel.core.model.addresses import TableId
from jondel.core.model.changes import ChangeCounts, ChangeSummary
from jondel.core.snapshots.catalogue import Snapshot, Trigger, TriggerKind
from jondel.core.trail.trail import Step
from jondel.tui.frame.trail_strip import TrailStrip
from jondel.tui.services.moments import NOW, AtStep, Moment
from jondel.tui.theme import DUSK


class _App(App[None]):
    def __init__(self) -> None:
        super().__init__()
        self.register_theme(DUSK)
        self.theme = DUSK.name

    def compose(self) -> ComposeResult:
        yield TrailStrip()


def _steps(*kinds: TriggerKind) -> list[Step]:
    steps: list[Step] = []
    for number, kind in enumerate(kinds, 1):
        text = {"draft": "wrote a draft: 3 in boats", "by hand": "", "watch": ""}[kind]
        when = datetime(2026, 6, 14, tzinfo=UTC)
        taken = Snapshot(number, None, when, Trigger(kind, text), f"image{number}")
        before = steps[-1].after if steps else None
        size = ChangeSummary({TableId("boats"): ChangeCounts(added=number)})
        steps.append(Step(before, taken, size if before else None))
    return steps


def _shown(steps: list[Step], selected: Moment = NOW, unseen: tuple[int, ...] = ()) -> list[str]:
    lines: list[str] = []

    async def main(look: Callable[[str], None]) -> None:
        app = _App()
        async with app.run_test(size=(100, 10)) as pilot:
            strip = app.query_one(TrailStrip)
            strip.show(steps, selected, None, "", None, unseen)
            await pilot.pause()
            look(strip.render().plain)

    asyncio.run(main(lines.append))
    return lines[0].split("\n")


def test_steps_that_nobody_asked_for_are_put_together_where_there_is_no_room() -> None:
    steps = _steps("by hand", *["watch"] * 12, "by hand")
    rail, titles, sizes = _shown(steps)
    assert titles.split() == ["s1", "s2–s13", "s14", "now"]
    assert "+90" in sizes  # 2 to 13
    assert rail.count("●●") == 1


def test_the_selected_one_and_new_ones_stand_by_themselves() -> None:
    steps = _steps("by hand", *["watch"] * 12, "by hand")
    _, titles, _ = _shown(steps, AtStep(5))
    assert titles.split() == ["s1", "s2–s4", "s5", "s6–s13", "s14", "now"]
    _, titles, _ = _shown(steps, unseen=(12, 13))
    assert titles.split()[-7:] == ["s2–s11", "new", "s12", "new", "s13", "s14", "now"]


def test_where_all_fit_each_is_shown_with_a_short_title() -> None:
    _, titles, _ = _shown(_steps("by hand", "draft", "watch"))
    assert titles.split() == ["s1", "draft", "s3", "now"]
