"""What became of a cell, as lines of styled text for a dialog."""

from __future__ import annotations

from rich.text import Text
from textual.widget import Widget

from jondel.core.formats.changes_text import cell_parts
from jondel.core.model.changes import CellChange
from jondel.tui.widgets.styles import ink, inside_style

_MOST_LINES = 12


def append_changed_cell(
    text: Text, widget: Widget, cell: CellChange, first: str, further: str
) -> None:
    """Append a changed cell; where its value is long, a line for each part that differs.

    ``first`` is put before the first line, ``further`` before each of the others.
    """
    dim, lead = ink(widget, "sand-dim"), first
    for number, parts in enumerate(cell_parts(cell)):
        text.append(lead, dim)
        if number == _MOST_LINES:
            text.append("…", dim)
            break
        for part in parts:
            text.append(part.text, inside_style(widget, part.role))
        lead = further
