"""Panels that open over the views: choosing an action, giving a label, explaining the keys."""

from __future__ import annotations

from collections.abc import Sequence

from rich.style import Style
from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical, VerticalScroll
from textual.widgets import Input, OptionList, Static, TextArea
from textual.widgets.option_list import Option

from jondel.core.browse.display import grouped, safe_name
from jondel.core.errors import LabelInvalid
from jondel.core.model.schema import Table
from jondel.core.trail.trail import check_label
from jondel.core.verify.actions import Action
from jondel.tui.views.panel import Panel, foot, heading

KeyHelp = tuple[str, str]
"""A key as it is written, and what it does."""


class ActionPanel(Panel[Action | None]):
    """Lists the app's actions; returns the chosen one."""

    BINDINGS = [Binding("escape,a", "dismiss(None)", "close")]

    def __init__(self, actions: Sequence[Action]) -> None:
        super().__init__()
        self._actions = actions

    def compose(self) -> ComposeResult:
        with Vertical(classes="panel"):
            yield heading("Make the app do something")
            yield OptionList(
                *(Option(Text(action.label)) for action in self._actions),
                id="actions",
                markup=False,
            )
            yield foot("Enter does it · Escape closes")

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        self.dismiss(self._actions[event.option_index])


class LabelPanel(Panel[str | None]):
    """Asks for a label; returns it, or None. Says at once why a text cannot be one."""

    BINDINGS = [Binding("escape", "dismiss(None)", "close")]

    def __init__(
        self, taken: Sequence[str], title: str = "Snapshot with a label", value: str | None = None
    ) -> None:
        """With a ``value`` to begin with, no label can be chosen too."""
        super().__init__()
        self._taken = frozenset(taken) - {value}
        self._title = title
        self._value = value

    def compose(self) -> ComposeResult:
        with Vertical(classes="panel"):
            yield heading(self._title)
            yield Input(
                self._value,
                placeholder="after the second booking" if self._value is None else "no label",
                id="label",
                compact=True,
            )
            yield Static("", id="label-problem", markup=False)
            yield foot("Enter takes it · Escape closes")

    def _problem(self, label: str) -> str:
        if self._value is not None and not label:
            return ""
        if label in self._taken:
            return f"{label!r} is the label of an earlier snapshot; choose another"
        try:
            check_label(label)
        except LabelInvalid as error:
            return str(error)
        return ""

    def on_input_changed(self, event: Input.Changed) -> None:
        event.stop()
        problem = self._problem(event.value) if event.value else ""
        self.query_one("#label-problem", Static).update(problem)

    def on_input_submitted(self, event: Input.Submitted) -> None:
        event.stop()
        problem = self._problem(event.value)
        if problem:
            self.query_one("#label-problem", Static).update(problem)
        else:
            self.dismiss(event.value)


class JumpPanel(Panel[str | None]):
    """Asks where to go in a sheet; returns ``#`` and a row's number, or a key."""

    BINDINGS = [Binding("escape", "dismiss(None)", "close")]

    def __init__(self, table: Table, rows: int) -> None:
        super().__init__()
        self._table = table
        self._rows = rows

    def compose(self) -> ComposeResult:
        keys = ", ".join(map(safe_name, self._table.primary_key))
        hint = f"{keys}, or # and a row number" if keys else f"a row, 1 to {grouped(self._rows)}"
        with Vertical(classes="panel"):
            yield heading(f"Go to {hint}")
            yield Input(id="jump", classes="field", compact=True)
            keys = "Enter goes there · Escape closes"
            if len(self._table.primary_key) > 1:
                keys = f"the key's values with commas between them · {keys}"
            yield foot(keys)

    def on_input_submitted(self, event: Input.Submitted) -> None:
        event.stop()
        self.dismiss(event.value.strip())


class FilePanel(Panel[str | None]):
    """Asks for a file's path; returns it, or None."""

    BINDINGS = [Binding("escape", "dismiss(None)", "close")]

    def __init__(self, title: str, foot: str = "a file that is not there yet") -> None:
        super().__init__()
        self._title = title
        self._foot = foot

    def compose(self) -> ComposeResult:
        with Vertical(classes="panel"):
            yield heading(self._title)
            yield Input(id="file", classes="field", compact=True)
            keys = f"{self._foot} · Enter takes it · Escape closes"
            yield foot(keys)

    def on_input_submitted(self, event: Input.Submitted) -> None:
        event.stop()
        self.dismiss(event.value.strip() or None)


class NotePanel(Panel[str | None]):
    """Asks for a note of any lines; returns it, or None."""

    BINDINGS = [
        Binding("escape", "dismiss(None)", "close"),
        Binding("ctrl+s", "keep", "keep"),
    ]

    def __init__(self, title: str, note: str) -> None:
        super().__init__()
        self._title = title
        self._note = note

    def compose(self) -> ComposeResult:
        with Vertical(classes="panel"):
            yield heading(self._title)
            yield TextArea(self._note, id="note", compact=True)
            yield foot("Ctrl+S keeps it · Escape closes")

    def action_keep(self) -> None:
        self.dismiss(self.query_one(TextArea).text.strip())


class HelpPanel(Panel[None]):
    """Explains every key of the view it was opened over."""

    BINDINGS = [Binding("escape,question_mark,enter", "dismiss(None)", "close")]

    def __init__(self, groups: Sequence[tuple[str, Sequence[KeyHelp]]]) -> None:
        super().__init__()
        self._groups = groups

    def compose(self) -> ComposeResult:
        with Vertical(classes="panel wide"):
            yield heading("What the keys do here")
            with VerticalScroll():
                yield Static(self._text(), id="help-text", markup=False)
            yield foot("Escape closes")

    def on_mount(self) -> None:
        self.query_one(VerticalScroll).focus()

    def _text(self) -> Text:
        colours = self.app.theme_variables
        key_style = Style(color=colours["brass"], bold=True)
        dim = Style(color=colours["sand-dim"])
        width = max(len(key) for _, keys in self._groups for key, _ in keys)
        text = Text()
        for title, keys in self._groups:
            text.append(f"{title}\n", dim)
            for key, words in keys:
                text.append(f"  {key.ljust(width)}", key_style)
                text.append(f"  {words}\n")
            text.append("\n")
        text.right_crop(2)
        return text
