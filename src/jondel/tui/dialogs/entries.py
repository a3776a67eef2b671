"""Dialogs that ask for one text: a label, a row, a file, a password, a note."""

from __future__ import annotations

from collections.abc import Sequence

from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import Static

from jondel.core.browse.display import grouped, line, safe_name
from jondel.core.errors import LabelInvalid
from jondel.core.model.schema import Table
from jondel.core.trail.trail import check_label
from jondel.tui.frame.dialog import Dialog, foot, heading
from jondel.tui.widgets.text_fields import TextBox, TextField, entered_text


class LabelDialog(Dialog[str | None]):
    """Asks for a label; returns it, or None. Says at once why a text cannot be one."""

    BINDINGS = [Binding("escape", "dismiss(None)", "close")]

    def __init__(
        self,
        taken: Sequence[str],
        title: str = "Snapshot with a label",
        value: str | None = None,
        example: str = "",
    ) -> None:
        """With a ``value`` to begin with, no label can be chosen too."""
        super().__init__()
        self._taken = frozenset(taken) - {value}
        self._title = title
        self._value = value
        self._example = example

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog"):
            yield heading(self._title)
            yield TextField(
                self._value or "",
                placeholder=self._example if self._value is None else "no label",
                id="label",
            )
            yield Static("", id="label-problem", markup=False)
            yield foot("Enter accepts it · Escape closes")

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

    def on_input_changed(self, event: TextField.Changed) -> None:
        event.stop()
        problem = self._problem(entered_text(event)) if entered_text(event) else ""
        self.query_one("#label-problem", Static).update(problem)

    def on_input_submitted(self, event: TextField.Submitted) -> None:
        event.stop()
        problem = self._problem(entered_text(event))
        if problem:
            self.query_one("#label-problem", Static).update(problem)
        else:
            self.dismiss(entered_text(event))


class PasswordDialog(Dialog[str | None]):
    """Asks for a password, which is not shown."""

    BINDINGS = [Binding("escape", "dismiss(None)", "close")]

    def __init__(self, needed: str) -> None:
        """``needed`` says of what, and why."""
        super().__init__()
        self._needed = needed

    def compose(self) -> ComposeResult:
        secret = TextField("", id="password", placeholder="neither shown nor kept")
        secret.password = True
        with Vertical(classes="dialog wide"):
            yield heading("Password")
            yield Static(safe_name(self._needed), markup=False)
            yield secret
            yield foot("Enter connects · Escape closes")

    def on_input_submitted(self, event: TextField.Submitted) -> None:
        event.stop()
        self.dismiss(entered_text(event))


class JumpDialog(Dialog[str | None]):
    """Asks where to go in a sheet; returns ``#`` and a row's number, or a key."""

    BINDINGS = [Binding("escape", "dismiss(None)", "close")]

    def __init__(self, table: Table, rows: int) -> None:
        super().__init__()
        self._table = table
        self._rows = rows

    def compose(self) -> ComposeResult:
        keys = ", ".join(map(safe_name, self._table.primary_key))
        hint = f"{keys}, or # and a row number" if keys else f"a row, 1 to {grouped(self._rows)}"
        with Vertical(classes="dialog"):
            yield heading(f"Go to {hint}")
            yield TextField(id="jump", classes="field")
            keys = "Enter goes there · Escape closes"
            if len(self._table.primary_key) > 1:
                keys = f"the key's values, separated by commas · {keys}"
            yield foot(keys)

    def on_input_submitted(self, event: TextField.Submitted) -> None:
        event.stop()
        self.dismiss(entered_text(event).strip())


class LineDialog(Dialog[str | None]):
    """Asks for one line of text; returns it, or None."""

    BINDINGS = [Binding("escape", "dismiss(None)", "close")]

    def __init__(self, title: str, text: str = "", hint: str = "") -> None:
        super().__init__()
        self._title, self._text, self._hint = title, text, hint

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog"):
            yield heading(line(self._title, 200))
            yield TextField(self._text, id="line", classes="field")
            hint = f"{self._hint}\n" if self._hint else ""
            yield foot(f"{hint}Enter accepts it · Escape closes")

    def answer_of(self, text: str) -> str | None:
        """What is returned for a text."""
        return text

    def on_input_submitted(self, event: TextField.Submitted) -> None:
        event.stop()
        self.dismiss(self.answer_of(entered_text(event).strip()))


class FileDialog(LineDialog):
    """Asks for a file's path; returns it, or None where there is none."""

    def __init__(self, title: str, hint: str = "a new file") -> None:
        super().__init__(title, hint=hint)

    def answer_of(self, text: str) -> str | None:
        return text or None


class NoteDialog(Dialog[str | None]):
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
        with Vertical(classes="dialog"):
            yield heading(self._title)
            yield TextBox(self._note, id="note")
            yield foot("Ctrl+S saves it · Escape closes")

    def action_keep(self) -> None:
        self.dismiss(self.query_one(TextBox).entered.strip())
