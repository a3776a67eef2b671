"""Panels about the trail: all its steps, a record's history, what to hide, and being asked."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical, VerticalScroll
from textual.widgets import OptionList, Static
from textual.widgets.option_list import Option

from jondel.core.browse.display import line, safe_name, size_text
from jondel.core.diff.noise import KINDS, NoiseRules, RuleKind
from jondel.core.formats.changes_text import cell_text
from jondel.core.model.changes import MARKS, ChangeSummary
from jondel.core.trail.history import Version
from jondel.core.trail.trail import Step
from jondel.tui.views.panel import Panel, foot, heading
from jondel.tui.widgets.cell_text import fitted_text
from jondel.tui.widgets.styles import change_style, ink
from jondel.tui.widgets.trail_strip import STEP, STEP_PINNED, STEP_SELECTED

_TITLE_CELLS = 34
_MOST_CELLS_OF_A_VERSION = 8


@dataclass(frozen=True)
class StepWish:
    """What a person wants done with a step of the trail; ``verb`` is the action's name."""

    verb: str
    number: int


class TrailPanel(Panel[StepWish | None]):
    """Lists all steps, the latest first; returns what to do with one of them."""

    BINDINGS = [
        Binding("escape,g", "dismiss(None)", "close"),
        Binding("l", "wish('label')", "label"),
        Binding("e", "wish('annotate')", "note"),
        Binding("p", "wish('pin')", "pin or let go"),
        Binding("m", "wish('compare_from')", "compare from here"),
        Binding("d", "wish('delete')", "delete"),
        Binding("R", "wish('restore')", "restore"),
        Binding("U", "wish('take_back')", "take back"),
    ]

    def __init__(self, steps: Sequence[Step], selected: int | None, start: int | None) -> None:
        """``start`` is the step one compares from."""
        super().__init__()
        self._steps = list(reversed(steps))
        self._selected = selected
        self._start = start

    def compose(self) -> ComposeResult:
        with Vertical(classes="panel full"):
            yield heading(self._heading(), id="trail-title")
            yield OptionList(id="steps", markup=False)
            yield foot(
                "Enter goes there · l label · e note · p pin · m compare from here · d delete · "
                "R restore · U take back"
            )

    def on_mount(self) -> None:
        steps = self.query_one(OptionList)
        steps.add_options([Option(self._entry(step)) for step in self._steps])
        numbers = [step.number for step in self._steps]
        steps.highlighted = numbers.index(self._selected) if self._selected in numbers else 0
        steps.focus()

    def show_size(self, size: int) -> None:
        """Say how many bytes all snapshots take."""
        self.query_one("#trail-title", Static).update(self._heading(f" in {size_text(size)}"))

    def _heading(self, room: str = "") -> str:
        count = len(self._steps)
        return f"The trail: {count} snapshot{'' if count == 1 else 's'}{room}, the latest first"

    def _entry(self, step: Step) -> Text:
        dim, after = ink(self, "sand-dim"), step.after
        node = STEP_SELECTED if step.number == self._selected else STEP
        text = Text(no_wrap=True, overflow="ellipsis")
        text.append(f"{STEP_PINNED if after.pinned else node} ", ink(self, "brass"))
        text.append(fitted_text(after.id, 6), ink(self, "sea"))
        text.append(after.taken_at.astimezone().strftime("%m-%d %H:%M:%S  "), dim)
        title = "" if after.title == after.id else safe_name(after.title)
        text.append(fitted_text(title, _TITLE_CELLS) + " ")
        if step.number == self._start:
            text.append("compare from here  ", ink(self, "brass", bold=True))
        if step.summary is not None:
            append_summary(self, text, step.summary)
        elif step.before is None:
            text.append("trail starts", dim)
        if after.note:
            text.append(f"\n{' ' * 24}{line(after.note, 200)}", dim)
        return text

    def action_wish(self, verb: str) -> None:
        at = self.query_one(OptionList).highlighted
        if at is not None:
            self.dismiss(StepWish(verb, self._steps[at].number))

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        self.action_wish("go_to")


class ConfirmPanel(Panel[str | None]):
    """Says what something would do, and asks for it; returns the key that wants it, or None."""

    BINDINGS = [
        Binding("escape,n", "dismiss(None)", "no"),
        Binding("y", "dismiss('y')", "yes"),
        Binding("t", "part", "only a part of it"),
    ]

    def __init__(self, title: str, lines: Sequence[str], yes: str, part: str = "") -> None:
        """``yes`` and ``part`` say what ``y`` and ``t`` do; there is no ``t`` without."""
        super().__init__()
        self._title = title
        self._lines = lines
        self._yes = yes
        self._part = part

    def action_part(self) -> None:
        if self._part:
            self.dismiss("t")

    def compose(self) -> ComposeResult:
        with Vertical(classes="panel full"):
            yield heading(self._title)
            with VerticalScroll():
                yield Static(Text("\n".join(self._lines)), id="confirm-text", markup=False)
            part = f" · t {self._part}" if self._part else ""
            keys = f"y {self._yes}{part} · Escape leaves it"
            yield foot(keys)

    def on_mount(self) -> None:
        self.query_one(VerticalScroll).focus()


class HistoryPanel(Panel[int | None]):
    """Shows the versions of a record; returns the step to go to."""

    BINDINGS = [Binding("escape,h", "dismiss(None)", "close")]

    def __init__(self, record: str, versions: Sequence[Version]) -> None:
        super().__init__()
        self._record = record
        self._versions = list(reversed(versions))

    def compose(self) -> ComposeResult:
        with Vertical(classes="panel full"):
            yield heading(f"{safe_name(self._record)}: its versions, the latest first")
            yield OptionList(
                *(Option(self._entry(version)) for version in self._versions),
                id="versions",
                markup=False,
            )
            yield foot("Enter goes to that step · Escape closes")

    def _entry(self, version: Version) -> Text:
        dim = ink(self, "sand-dim")
        text = Text(no_wrap=True, overflow="ellipsis")
        mark = MARKS[version.kind] if version.kind else " "
        style = change_style(self, version.kind) if version.kind else dim
        text.append(f"{mark} ", style)
        snapshot = version.snapshot
        if snapshot is None:
            text.append("now   ", ink(self, "sea"))
            text.append("since the last snapshot", dim)
        else:
            text.append(fitted_text(snapshot.id, 6), ink(self, "sea"))
            text.append(snapshot.taken_at.astimezone().strftime("%m-%d %H:%M:%S  "), dim)
            text.append("" if snapshot.title == snapshot.id else safe_name(snapshot.title))
        if version.problem:
            text.append(f"\n    {line(version.problem, 300)}", change_style(self, "removed"))
        elif version.kind == "removed":
            text.append("\n    removed", dim)
        elif version.kind == "changed":
            for cell in version.cells:
                text.append(f"\n    {cell_text(cell)}")
        elif version.row is not None:
            words = "added" if version.kind else "as it was when the trail began"
            text.append(f"\n    {words}", dim)
            cells = list(zip(version.columns, version.row, strict=True))
            for name, value in cells[:_MOST_CELLS_OF_A_VERSION]:
                text.append(f"\n    {safe_name(name)}  ", dim)
                text.append(line(value, 60))
            if cells[_MOST_CELLS_OF_A_VERSION:]:
                text.append(f"\n    … {len(cells) - _MOST_CELLS_OF_A_VERSION} more cells", dim)
        return text

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        snapshot = self._versions[event.option_index].snapshot
        self.dismiss(snapshot.number if snapshot else -1)


@dataclass(frozen=True)
class RuleWish:
    """A noise rule to be kept, or to be given up."""

    kind: RuleKind
    name: str
    keep: bool


class NoisePanel(Panel[RuleWish | None]):
    """Offers what could be hidden at a change, and the rules that are there."""

    BINDINGS = [Binding("escape,x", "dismiss(None)", "close")]

    def __init__(self, table: str | None, columns: Sequence[str], rules: NoiseRules) -> None:
        super().__init__()
        self._wishes = list(_rule_wishes(table, columns, rules))

    def compose(self) -> ComposeResult:
        with Vertical(classes="panel wide"):
            yield heading("What is noise here?")
            yield OptionList(
                *(Option(_rule_words(wish)) for wish in self._wishes), id="rules", markup=False
            )
            yield foot("Enter hides it, or shows it again · Escape closes")

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        self.dismiss(self._wishes[event.option_index])


def _rule_wishes(table: str | None, columns: Sequence[str], rules: NoiseRules) -> list[RuleWish]:
    wishes = []
    if table is not None:
        for column in columns:
            wishes.append(RuleWish("columns", f"{table}.{column}", True))
        for column in columns:
            wishes.append(RuleWish("only", f"{table}.{column}", True))
        for column in columns:
            wishes.append(RuleWish("columns", f"*.{column}", True))
        wishes.append(RuleWish("tables", table, True))
    known = set(rules.listed())
    wishes = [wish for wish in wishes if (wish.kind, wish.name) not in known]
    return wishes + [RuleWish(kind, name, False) for kind, name in rules.listed()]


def _rule_words(wish: RuleWish) -> Text:
    name = safe_name(wish.name)
    if not wish.keep:
        return Text(f"show again  {name}  ({KINDS[wish.kind]})")
    words = {
        "tables": f"table {name}: every change",
        "columns": f"column {name}",
        "only": f"records in which only {name} changed",
    }
    return Text(f"hide  {words[wish.kind]}")


def append_summary(widget: TrailPanel, text: Text, summary: ChangeSummary) -> None:
    """Append the sizes of changes with their marks."""
    counts = summary.counts
    for kind, number in (
        ("added", counts.added),
        ("changed", counts.changed),
        ("removed", counts.removed),
    ):
        if number:
            text.append(f"{MARKS[kind]}{number} ", change_style(widget, kind))  # type: ignore[index, arg-type]
    if summary.schema_changes:
        text.append("schema ", change_style(widget, "changed"))
    if not (counts.total or summary.schema_changes):
        text.append("no changes", ink(widget, "sand-dim"))
