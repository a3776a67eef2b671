"""A field for a text of any length, of which one part is there at a time."""

from __future__ import annotations

from collections.abc import Callable

from jondel.core.browse.text_parts import split_text
from jondel.tui.widgets.text_fields import TextBox


class LongTextBox(TextBox):
    """A box whose work grows with a part, and not with the text.

    Cursor keys and deleting lead from a part to the next, as if there were none.
    """

    def __init__(self, text: str, *, id: str | None = None, classes: str = "") -> None:
        self._parts = split_text(text)
        self._part = 0
        self._line_break = _only_break(text)
        self.on_part: Callable[[], None] = lambda: None
        """Called when another part is there."""
        super().__init__(self._parts[0], id=id, classes=classes)

    @property
    def parts(self) -> int:
        """How many parts there are."""
        return len(self._parts)

    @property
    def entered_parts(self) -> list[str]:
        """The text, part by part."""
        self._parts[self._part] = self._held()
        return list(self._parts)

    @property
    def part(self) -> int:
        """Which part is there, from 0."""
        return self._part

    @property
    def entered(self) -> str:
        return "".join(self.entered_parts)

    @entered.setter
    def entered(self, text: str) -> None:
        self._parts, self._line_break = split_text(text), _only_break(text)
        self._part = 0
        self._hold(self._parts[0])
        self.on_part()

    def _put_in(self, text: str) -> str:
        put_in = super()._put_in(text)
        self._break = self._line_break or self._break
        return put_in

    def _go_to_part(self, part: int, *, at_end: bool) -> bool:
        """Have another part there; False where there is none."""
        if not 0 <= part < len(self._parts):
            return False
        self._parts[self._part] = self._held()
        self._part = part
        self._hold(self._parts[part])
        self.move_cursor(self.document.end if at_end else (0, 0))
        self.on_part()
        return True

    def _on(self, move: Callable[[], None], step: int) -> None:
        """Move the cursor; where it cannot go on within the part, go to the next."""
        before = self.selection
        move()
        if step and self.selection == before and before.is_empty:
            self._go_to_part(self._part + step, at_end=step < 0)

    def action_cursor_up(self, select: bool = False) -> None:
        self._on(lambda: super(LongTextBox, self).action_cursor_up(select), 0 if select else -1)

    def action_cursor_down(self, select: bool = False) -> None:
        self._on(lambda: super(LongTextBox, self).action_cursor_down(select), 0 if select else 1)

    def action_cursor_left(self, select: bool = False) -> None:
        self._on(lambda: super(LongTextBox, self).action_cursor_left(select), 0 if select else -1)

    def action_cursor_right(self, select: bool = False) -> None:
        self._on(lambda: super(LongTextBox, self).action_cursor_right(select), 0 if select else 1)

    def action_cursor_page_up(self) -> None:
        self._on(super().action_cursor_page_up, -1)

    def action_cursor_page_down(self) -> None:
        self._on(super().action_cursor_page_down, 1)

    def action_delete_left(self) -> None:
        at_start = self.selection.is_empty and self.cursor_location == (0, 0)
        if not at_start or self._go_to_part(self._part - 1, at_end=True):
            super().action_delete_left()

    def action_delete_right(self) -> None:
        at_end = self.selection.is_empty and self.cursor_location == self.document.end
        if not at_end or self._go_to_part(self._part + 1, at_end=False):
            super().action_delete_right()


def _only_break(text: str) -> str:
    """The line break of a text that has no other; empty where it has several, or none."""
    unbroken = text.replace("\r\n", "")
    return "\r\n" if "\r\n" in text and "\n" not in unbroken and "\r" not in unbroken else ""
