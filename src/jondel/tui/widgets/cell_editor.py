"""The field that lies over a cell while it is edited in place."""

from __future__ import annotations

from collections.abc import Callable

from textual import events

from jondel.tui.widgets.text_fields import TextField


class CellEditor(TextField):
    """Takes a value. What else can be done with the cell are commands, which the keys reach that
    a line of text does not take: Ctrl with A, E, U, K, W, D and F edit it, as in a shell."""

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

    def __init__(
        self, text: str, on_entered: Callable[[], None], on_left: Callable[[], None]
    ) -> None:
        """``on_entered`` is called when Enter is pressed: a call and no message, so that the next
        key finds what it is meant for. ``on_left`` is called when the keys go elsewhere."""
        super().__init__(text)
        self._on_entered = on_entered
        self._on_left = on_left

    async def action_submit(self) -> None:
        self._on_entered()

    def on_blur(self) -> None:
        # Not when the person goes to another window, nor while a dialog is open over it.
        if self.app.app_focus and self.screen.is_active and self.screen.focused is not self:
            self._on_left()

    def on_click(self, event: events.Click) -> None:
        event.stop()
