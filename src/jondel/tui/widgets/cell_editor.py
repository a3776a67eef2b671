"""The field that lies over a cell while it is edited in place."""

from __future__ import annotations

from textual import events
from textual.binding import Binding
from textual.message import Message
from textual.widgets import Input

KEYS = (
    ("Enter", "takes it", "screen.enter_cell('')"),
    ("Esc", "leaves it", "screen.leave_cell"),
    ("Ctrl+N", "NULL", "screen.enter_cell('null')"),
    ("Ctrl+Y", "empty text", "screen.enter_cell('empty')"),
    ("Ctrl+L", "default", "screen.enter_cell('default')"),
    ("Ctrl+T", "now", "screen.enter_cell('now')"),
    ("Ctrl+G", "pick", "screen.enter_cell('pick')"),
    ("Ctrl+R", "as typed", "screen.enter_cell('as typed')"),
    ("F2", "full editor", "screen.enter_cell('large')"),
    ("Ctrl+O", "from a file", "screen.enter_cell('file')"),
)
"""What can be done with a cell while it is edited: the keys, in words, and as actions."""


class CellEditor(Input):
    """Takes a value, or one of the ways to give another."""

    # Ctrl with A, E, U, K, W, D and F edit the line, as in a shell.
    BINDINGS = [
        Binding("ctrl+n", "way('null')", "NULL"),
        Binding("ctrl+y", "way('empty')", "empty text"),
        Binding("ctrl+l", "way('default')", "the default"),
        Binding("ctrl+t", "way('now')", "the current time"),
        Binding("ctrl+r", "way('as typed')", "as typed"),
        Binding("ctrl+g", "way('pick')", "pick"),
        Binding("ctrl+o", "way('file')", "from a file"),
        Binding("f2", "way('large')", "full editor"),
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

    class Entered(Message):
        """A value was typed, or asked for in one of the ways."""

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
