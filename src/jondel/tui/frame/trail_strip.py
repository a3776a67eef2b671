"""The trail along the bottom of every view: steps from left to right, now at the right end."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import NamedTuple

from rich.cells import cell_len
from rich.style import Style
from rich.text import Text
from textual import events
from textual.message import Message
from textual.widget import Widget

from jondel.core.browse.display import safe_name
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import MARKS, ChangeCounts, ChangeKind, ChangeSummary
from jondel.core.trail.trail import Step
from jondel.tui.services.moments import NOW, AtStep, Moment, OtherDatabase
from jondel.tui.widgets.cell_text import fitted_text
from jondel.tui.widgets.styles import change_style, ink

STEP, STEP_SELECTED, STEP_PINNED = "●", "◉", "◆"
RUN = "●●"
"""Several steps in the place of one."""
_NOW, _NOW_SELECTED = "◌", "◉"
_HEIGHTS = "▁▂▃▄▅▆▇█"
_NARROWEST_SLOT, _WIDEST_SLOT = 12, 20
_NOW_SLOT = 14
_HEAD = " trail "


class _Run(NamedTuple):
    """Steps one after the other that nobody asked for, in the place of one."""

    steps: tuple[Step, ...]

    @property
    def summary(self) -> ChangeSummary | None:
        """The sizes of their changes together, where all are known."""
        known = [step.summary for step in self.steps if step.summary is not None]
        if len(known) < len(self.steps):
            return None
        tables: dict[TableId, ChangeCounts] = {}
        for summary in known:
            for name, counts in summary.tables.items():
                tables[name] = tables.get(name, ChangeCounts()) + counts
        return ChangeSummary(tables, sum(summary.schema_changes for summary in known))


class TrailStrip(Widget):
    """Three lines: the rail with its nodes, their titles, and the sizes of their changes."""

    DEFAULT_CSS = "TrailStrip { height: 3; background: $panel; }"

    class MomentChosen(Message):
        """A step, or now, was clicked."""

        def __init__(self, trail: TrailStrip, moment: Moment) -> None:
            super().__init__()
            self.trail = trail
            self.moment = moment

        @property
        def control(self) -> TrailStrip:
            return self.trail

    def __init__(self, *, id: str | None = None) -> None:
        super().__init__(id=id)
        self._steps: Sequence[Step] = ()
        self._selected: Moment = NOW
        self._now: ChangeSummary | None = None
        self._now_words = ""
        self._stops: list[tuple[int, int, Moment]] = []
        self._compare_from: AtStep | OtherDatabase | None = None
        self._unseen: Collection[int] = ()
        self._scrolled = 0
        self._scrolled_for: tuple[Moment, int] = (NOW, 0)

    def show(
        self,
        steps: Sequence[Step],
        selected: Moment,
        now: ChangeSummary | None,
        now_words: str = "",
        compare_from: AtStep | OtherDatabase | None = None,
        unseen: Collection[int] = (),
    ) -> None:
        """Show the steps, the selected moment, and the step that one compares from.

        ``now`` is the size of the changes since the last step, None while unknown; ``now_words``
        is shown in its place then. ``unseen`` are the numbers of steps not looked at yet.
        """
        self._steps, self._selected = steps, selected
        self._now, self._now_words = now, now_words
        self._compare_from, self._unseen = compare_from, unseen
        if (selected, len(steps)) != self._scrolled_for:
            self._scrolled_for = (selected, len(steps))
            self._scrolled = 0
        self.refresh()

    def render(self) -> Text:
        width = self.size.width
        room = width - cell_len(_HEAD) - _NOW_SLOT - 6
        slot = _WIDEST_SLOT
        if self._steps:
            slot = max(_NARROWEST_SLOT, min(_WIDEST_SLOT, room // len(self._steps)))
        most = max(1, room // slot)
        stops = self._stops_for(most)
        shown, hidden_before, hidden_after = self._shown(stops, most)
        rail = Text(_HEAD, ink(self, "sand-dim"), no_wrap=True)
        titles, sizes = Text(no_wrap=True), Text(" " * len(_HEAD), no_wrap=True)
        new = f" {len(self._unseen)} new" if self._unseen else ""
        titles.append(fitted_text(new, len(_HEAD)), ink(self, "brass", bold=True))
        self._stops = []
        self._gap(rail, titles, sizes, "", f"‹{hidden_before}" if hidden_before else "")
        for stop in shown:
            if isinstance(stop, _Run):
                self._append_run(rail, titles, sizes, stop, slot)
            else:
                self._append_step(rail, titles, sizes, stop, slot)
        self._gap(rail, titles, sizes, "", f"{hidden_after}›" if hidden_after else "")
        self._now_node(rail, titles, sizes)
        return Text("\n", no_wrap=True).join([rail, titles, sizes])

    def _append_step(self, rail: Text, titles: Text, sizes: Text, step: Step, slot: int) -> None:
        moment = AtStep(step.number)
        selected = moment == self._selected
        node = STEP_SELECTED if selected else STEP_PINNED if step.after.pinned else STEP
        style = ink(self, "brass", bold=True) if selected else ink(self, "sea")
        self._stops.append((len(rail), len(rail) + slot, moment))
        rail.append(node, style)
        bars = self._append_bars(rail, step.summary)
        rail.append("─" * (slot - 1 - bars), ink(self, "rail"))
        new = "new " if step.number in self._unseen else ""
        title = fitted_text(f"{new}{safe_name(step.after.short_title)}", slot - 2) + "  "
        titles.append(title, self._title_style(selected or bool(new)))
        if moment == self._compare_from:
            words = fitted_text("compare from", slot - 2) + "  "
            sizes.append(words, ink(self, "brass", bold=True))
        else:
            self._append_size(sizes, step.summary, "" if step.before else "trail starts", slot)

    def _append_run(self, rail: Text, titles: Text, sizes: Text, run: _Run, slot: int) -> None:
        first, last = run.steps[0], run.steps[-1]
        self._stops.append((len(rail), len(rail) + slot, AtStep(last.number)))
        rail.append(RUN, ink(self, "sea"))
        bars = self._append_bars(rail, run.summary)
        rail.append("─" * (slot - len(RUN) - bars), ink(self, "rail"))
        title = fitted_text(f"{first.after.id}–{last.after.id}", slot - 2) + "  "
        titles.append(title, self._title_style(False))
        self._append_size(sizes, run.summary, f"{len(run.steps)} steps", slot)

    def _stops_for(self, most: int) -> list[Step | _Run]:
        """The steps; where they are too many, those that nobody asked for are put together."""
        if len(self._steps) <= most:
            return list(self._steps)
        stops: list[Step | _Run] = []
        for step in self._steps:
            moment = AtStep(step.number)
            aside = (
                step.before is not None
                and step.after.by_itself
                and step.number not in self._unseen
                and moment not in (self._selected, self._compare_from)
            )
            before = stops[-1] if stops else None
            if aside and isinstance(before, _Run):
                stops[-1] = _Run((*before.steps, step))
            else:
                stops.append(_Run((step,)) if aside else step)
        return [s.steps[0] if isinstance(s, _Run) and len(s.steps) == 1 else s for s in stops]

    def _shown(
        self, stops: Sequence[Step | _Run], most: int
    ) -> tuple[Sequence[Step | _Run], int, int]:
        """What fits: around the selected step, else the latest; and how many steps are before and
        after that."""
        if len(stops) <= most:
            return stops, 0, 0
        at = [AtStep(s.number) if isinstance(s, Step) else None for s in stops]
        last = len(stops)
        if self._selected in at:
            last = min(last, max(most, at.index(self._selected) + 1 + most // 2))
        last = max(most, min(len(stops), last + self._scrolled))
        first = max(0, last - most)
        return stops[first:last], _steps_in(stops[:first]), _steps_in(stops[last:])

    def _gap(self, rail: Text, titles: Text, sizes: Text, title: str, sign: str) -> None:
        rail.append(fitted_text(sign, 3).replace(" ", "─"), ink(self, "rail"))
        titles.append("   ")
        sizes.append("   ")

    def _now_node(self, rail: Text, titles: Text, sizes: Text) -> None:
        selected = self._selected == NOW
        style = ink(self, "brass", bold=True) if selected else ink(self, "sea")
        self._stops.append((len(rail), len(rail) + _NOW_SLOT, NOW))
        rail.append(_NOW_SELECTED if selected else _NOW, style)
        titles.append("now", self._title_style(selected))
        if self._now is not None and (self._now.counts.total or self._now.schema_changes):
            self._append_size(sizes, self._now, "", _NOW_SLOT)
        else:
            words = self._now_words if self._now is None else "no changes"
            sizes.append(fitted_text(words, _NOW_SLOT), ink(self, "sand-dim"))

    def _append_bars(self, rail: Text, summary: ChangeSummary | None) -> int:
        """Draw how much a step added, changed and removed; a bar more is ten times as much."""
        if summary is None or not summary.counts.total:
            return 0
        kinds: tuple[ChangeKind, ...] = ("added", "changed", "removed")
        for kind in kinds:
            number = getattr(summary.counts, kind)
            bar = _HEIGHTS[min(len(_HEIGHTS) - 1, 1 + len(str(number)))] if number else "─"
            rail.append(bar, change_style(self, kind) if number else ink(self, "rail"))
        return len(kinds)

    def _append_size(
        self, sizes: Text, summary: ChangeSummary | None, words: str, width: int
    ) -> None:
        start = sizes.cell_len
        if summary is not None:
            kinds: tuple[ChangeKind, ...] = ("added", "changed", "removed")
            for kind in kinds:
                number = getattr(summary.counts, kind)
                text = f"{MARKS[kind]}{number} "
                if number and sizes.cell_len - start + len(text) <= width:
                    sizes.append(text, change_style(self, kind))
            if summary.schema_changes and sizes.cell_len - start + 7 <= width:
                sizes.append("schema ", change_style(self, "changed"))
            if sizes.cell_len == start:
                words = "no changes"
        if sizes.cell_len == start:
            sizes.append(fitted_text(words, width - 1), ink(self, "sand-dim"))
        sizes.append(" " * max(0, width - (sizes.cell_len - start)))

    def _title_style(self, selected: bool) -> Style:
        return ink(self, "brass", bold=True) if selected else ink(self, "sand-dim")

    def on_mouse_scroll_up(self, event: events.MouseScrollUp) -> None:
        event.stop()
        self.scroll_steps(-1)

    def on_mouse_scroll_down(self, event: events.MouseScrollDown) -> None:
        event.stop()
        self.scroll_steps(1)

    def scroll_steps(self, steps: int) -> None:
        """Show earlier or later steps without selecting one."""
        self._scrolled = max(-len(self._steps), min(len(self._steps), self._scrolled + steps))
        self.refresh()

    def on_click(self, event: events.Click) -> None:
        for start, end, moment in self._stops:
            if start <= event.x < end:
                self.post_message(self.MomentChosen(self, moment))
                return


def _steps_in(stops: Sequence[Step | _Run]) -> int:
    return sum(len(stop.steps) if isinstance(stop, _Run) else 1 for stop in stops)
