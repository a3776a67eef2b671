"""The field that lies over a cell while it is edited in place."""

from __future__ import annotations

from textual import events
from textual.binding import Binding
from textual.message import Message
from textual.widgets import Input

WAYS = {
    "null": "NULL",
    "empty": "empty text",
    "default": "the column's default",
    "now": "the current time",
    "as typed": "as typed, whatever the type",
    "pick": "pick from the linked table",
    "file": "from a file",
    "large": "in a full editor",
}
"""What can be asked for besides a typed value."""


class CellEditor(Input):
    """Takes a value, or one of the ways to give another."""

    BINDINGS = [
        Binding("ctrl+n", "way('null')", "NULL"),
        Binding("ctrl+u", "way('empty')", "empty text"),
        Binding("ctrl+l", "way('default')", "the default"),
        Binding("ctrl+t", "way('now')", "the current time"),
        Binding("ctrl+k", "way('as typed')", "as typed"),
        Binding("ctrl+f", "way('pick')", "pick"),
        Binding("ctrl+o", "way('file')", "from a file"),
        Binding("ctrl+e", "way('large')", "full editor"),
        Binding("escape", "leave", "leave it as it is"),
    ]
    DEFAULT_CSS = """
    CellEditor {
        position: absolute;
        layer: editing;
        height: 1;
        border: none;
        padding: 0;
        background: $draft;
        color: $ink;
        &:focus { border: none; background: $draft; background-tint: transparent 0%; }
        & > .input--cursor { background: $ink; color: $draft; text-style: none; }
        & > .input--selection { background: $ink 40%; }
    }
    """
    HINT = (
        "Enter takes it · Ctrl+N NULL · Ctrl+U empty text · Ctrl+L default · Ctrl+T now · "
        "Ctrl+F pick · Ctrl+E full editor · Ctrl+O from a file · Esc leaves it"
    )

    class Entered(Message):
        """A value was typed, or asked for in one of the ``WAYS``."""

        def __init__(self, editor: CellEditor, text: str, way: str) -> None:
            super().__init__()
            self.editor = editor
            self.text = text
            self.way = way

        @property
        def control(self) -> CellEditor:
            return self.editor

    class Left(Message):
        """The cell is to stay as it is."""

        def __init__(self, editor: CellEditor) -> None:
            super().__init__()
            self.editor = editor

        @property
        def control(self) -> CellEditor:
            return self.editor

    def __init__(self, text: str) -> None:
        super().__init__(text, compact=True, select_on_focus=True)

    def action_way(self, way: str) -> None:
        self.post_message(self.Entered(self, self.value, way))

    def action_leave(self) -> None:
        self.post_message(self.Left(self))

    def on_input_submitted(self, event: Input.Submitted) -> None:
        event.stop()
        self.post_message(self.Entered(self, event.value, ""))

    def on_click(self, event: events.Click) -> None:
        event.stop()
