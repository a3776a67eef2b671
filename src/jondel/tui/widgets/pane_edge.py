"""The edge between two panes, which the mouse can take hold of."""

from __future__ import annotations

from textual import events
from textual.message import Message
from textual.reactive import reactive
from textual.widget import Widget


class PaneEdge(Widget):
    """A column of one cell; dragged to another place, it says where."""

    DEFAULT_CSS = """
    PaneEdge {
        width: 1;
        height: 1fr;
        background: $surface;
        &.-held, &:hover { background: $row-current; }
    }
    """

    held: reactive[bool] = reactive(False)

    class Dragged(Message):
        """The edge is to be in another column of the screen; ``let_go`` ends the dragging."""

        def __init__(self, edge: PaneEdge, column: int, *, let_go: bool) -> None:
            super().__init__()
            self.edge = edge
            self.column = column
            self.let_go = let_go

        @property
        def control(self) -> PaneEdge:
            return self.edge

    def render(self) -> str:
        return ""

    def watch_held(self, held: bool) -> None:
        self.set_class(held, "-held")

    def on_mouse_down(self, event: events.MouseDown) -> None:
        event.stop()
        if event.button == 1:
            self.held = True
            self.capture_mouse()

    def on_mouse_move(self, event: events.MouseMove) -> None:
        if self.held:
            event.stop()
            self.post_message(self.Dragged(self, event.screen_x, let_go=False))

    def on_mouse_up(self, event: events.MouseUp) -> None:
        if self.held:
            event.stop()
            self.held = False
            self.release_mouse()
            self.post_message(self.Dragged(self, event.screen_x, let_go=True))
