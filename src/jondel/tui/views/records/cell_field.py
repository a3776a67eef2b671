"""The field over the current cell of a sheet, while that is edited in place."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from textual.widget import Widget

from jondel.tui.widgets.sheet.sheet import Sheet

if TYPE_CHECKING:
    from jondel.tui.widgets.cell_editor import CellEditor

_NARROWEST = 14


class CellField:
    """Opens the field, has it lie over the cell wherever that is seen, and closes it."""

    def __init__(self, pane: Widget, sheet: Sheet) -> None:
        """``pane`` is what the field is put into, over its ``sheet``."""
        self._pane = pane
        self._sheet = sheet
        self.editor: CellEditor | None = None
        """The field, while there is one."""

    def open(
        self, text: str, on_entered: Callable[[], None], on_left: Callable[[], None]
    ) -> CellEditor | None:
        """Open a field over the current cell; None where there is no cell."""
        self.close()
        if self._sheet.current_cell is None:
            return None
        from jondel.tui.widgets.cell_editor import CellEditor  # fields are slow to load

        self.editor = CellEditor(text, on_entered, on_left)
        if not self.place():
            self._sheet.show_cursor()
            self.place()
        self._pane.mount(self.editor)
        return self.editor

    def place(self) -> bool:
        """Have the field lie over the current cell; False where there is one and that is out of
        view."""
        if self.editor is None:
            return True
        cell, pane = self._sheet.current_cell, self._pane
        if cell is None or not self._sheet.sees_cursor:
            return False
        x, y, width = cell
        within = self._sheet.region.offset - pane.region.offset
        room = pane.region.width - within.x - x
        self.editor.styles.width = max(2, min(max(width + 1, _NARROWEST), room))
        self.editor.styles.offset = (within.x + x, within.y + y)
        return True

    def close(self) -> bool:
        """Close the field; False where there was none."""
        if self.editor is None:
            return False
        self.editor.remove()
        self.editor = None
        return True
