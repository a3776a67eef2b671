"""The dialog that links a column to a table by hand."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import OptionList
from textual.widgets.option_list import Option

from jondel.core.browse.display import safe_name
from jondel.core.browse.links import Link
from jondel.core.model.schema import Table
from jondel.tui.frame.dialog import Dialog, foot, heading


class LinkDialog(Dialog[Link | None]):
    """Asks which column of which table a column's values are found in; returns the link."""

    BINDINGS = [Binding("escape", "dismiss(None)", "close")]

    def __init__(self, child: Table, column: str, tables: Sequence[Table]) -> None:
        super().__init__()
        self._child = child
        self._column = column
        named = [(t, c) for t in tables if not t.unreadable for c in t.column_names]
        # Keys first: that is what columns mostly point to.
        self._ends = [(t, c) for t, c in named if t.primary_key == (c,)]
        self._ends += [(t, c) for t, c in named if t.primary_key != (c,)]
        self._ends = [end for end in self._ends if end != (child, column)]

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog"):
            title = f"{safe_name(self._child.id)}.{safe_name(self._column)} points to"
            yield heading(title)
            yield OptionList(
                *(Option(Text(f"{safe_name(t.id)}.{safe_name(c)}")) for t, c in self._ends),
                id="link-ends",
                markup=False,
            )
            yield foot("Enter accepts it · Escape closes")

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        table, column = self._ends[event.option_index]
        self.dismiss(Link(self._child.id, (self._column,), table.id, (column,)))
