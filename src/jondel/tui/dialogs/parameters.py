"""The dialog that asks for the values of a statement's parameters."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Horizontal, Vertical, VerticalScroll
from textual.widgets import Static

from jondel.core.browse.display import line, safe_name
from jondel.core.model.values import StoredValue, kind_of
from jondel.core.sql.parameters import value_of_words
from jondel.core.sql.values_in_sql import literal
from jondel.tui.frame.dialog import Dialog, foot, heading
from jondel.tui.widgets.text_fields import TextField, entered_text

_KINDS = {"null": "NULL", "integer": "number", "real": "number", "text": "text", "blob": "blob"}


class ParametersDialog(Dialog[dict[str, StoredValue] | None]):
    """A field for each parameter, with the value it had last, and those before it by a key;
    returns the values, or None."""

    BINDINGS = [
        Binding("escape", "dismiss(None)", "close"),
        Binding("up", "app.focus_previous", "field before", show=False),
        Binding("down", "app.focus_next", "next field", show=False),
        Binding("ctrl+g", "accept", "run"),
        Binding("ctrl+n", "earlier", "an earlier value"),
    ]

    def __init__(self, names: Sequence[str], known: Mapping[str, Sequence[StoredValue]]) -> None:
        super().__init__()
        self._names = names
        self._known = known
        self._shown: dict[str, int] = {}
        """Which of its earlier values each field shows."""

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog wide"):
            yield heading("The values of the parameters")
            with VerticalScroll():
                for number, name in enumerate(self._names):
                    with Horizontal(classes="row"):
                        yield Static(f"{line(safe_name(name), 18)} ", classes="row-title")
                        yield TextField(
                            _written(self._known[name][0]) if self._known.get(name) else "",
                            id=f"value-{number}",
                            classes="field",
                        )
                        yield Static("", id=f"kind-{number}", classes="row-title", markup=False)
            yield foot(
                "NULL, a number, 'text', x'bytes'; anything else is text\n"
                "Ctrl+N an earlier value · Enter runs it · Escape closes"
            )

    def opened(self) -> None:
        for number in range(len(self._names)):
            self._show_kind(number)
        self.query_one("#value-0", TextField).focus()

    def _field(self, number: int) -> TextField:
        return self.query_one(f"#value-{number}", TextField)

    def _show_kind(self, number: int) -> None:
        value = value_of_words(self._field(number).entered)
        kind = _KINDS.get(kind_of(value), "text")
        self.query_one(f"#kind-{number}", Static).update(f" {kind}")

    def on_input_changed(self, event: TextField.Changed) -> None:
        event.stop()
        self._show_kind(int((event.input.id or "value-0").rpartition("-")[2]))

    def on_input_submitted(self, event: TextField.Submitted) -> None:
        event.stop()
        entered_text(event)
        self.action_accept()

    def action_earlier(self) -> None:
        """Put an earlier value of the parameter into its field, the next one each time."""
        for number, name in enumerate(self._names):
            field, values = self._field(number), self._known.get(name, ())
            if field.has_focus and values:
                place = self._shown[name] = (self._shown.get(name, 0) + 1) % len(values)
                field.entered = _written(values[place])
                self._show_kind(number)

    def action_accept(self) -> None:
        """Take the values as they are."""
        self.dismiss(
            {name: value_of_words(self._field(n).entered) for n, name in enumerate(self._names)}
        )


def _written(value: StoredValue) -> str:
    """A value as it is typed."""
    if isinstance(value, str) and value_of_words(value) == value:
        return value
    return literal(value)
