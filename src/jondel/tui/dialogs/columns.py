"""The dialog of a sheet's columns: which are shown, in which order, what stays in place."""

from __future__ import annotations

from rich.style import Style
from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import OptionList, Static
from textual.widgets.option_list import Option

from jondel.core.browse.display import safe_name
from jondel.core.browse.layout import ColumnLayout
from jondel.core.model.schema import Table
from jondel.tui.frame.dialog import Dialog, foot, heading, problem_line
from jondel.tui.widgets.cell_text import fitted_text
from jondel.tui.widgets.sheet.headings import column_remark

_NAME_CELLS = 30


class ColumnList(OptionList):
    """The columns, one a line, in their order."""

    BINDINGS = [
        Binding("space", "screen.show", "show or hide"),
        Binding("left_curly_bracket", "screen.shift(-1)", "up"),
        Binding("right_curly_bracket", "screen.shift(1)", "down"),
        Binding("k", "screen.freeze", "freeze up to here"),
        Binding("z", "screen.all(True)", "hide all others"),
        Binding("Z", "screen.all(False)", "show all"),
        Binding("full_stop", "screen.plain", "as the table has them"),
    ]


class ColumnDialog(Dialog[ColumnLayout | None]):
    """Changes how columns are laid out; returns that, or None."""

    BINDINGS = [Binding("escape", "dismiss(None)", "close")]

    def __init__(self, table: Table, layout: ColumnLayout, column: str) -> None:
        super().__init__()
        self._table = table
        self._plan = layout
        self._column = column

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog wide"):
            title = f"The columns of {safe_name(self._table.name)}"
            yield heading(title)
            yield ColumnList(id="columns", markup=False)
            yield problem_line("columns-problem")
            yield foot(
                "Space shows or hides · { } moves · k freezes up to here\n"
                "z only this one · Z all · . as the table has them\n"
                "Enter takes it · Escape cancels"
            )

    def opened(self) -> None:
        names = self._ordered
        self._fill(names.index(self._column) if self._column in names else 0)
        self.query_one(ColumnList).focus()

    @property
    def _ordered(self) -> list[str]:
        """All columns in their order, hidden ones too."""
        names = self._table.column_names
        plan = self._plan._replace(hidden=frozenset())
        return [names[i] for i in plan.shown(names, self._table.primary_key)]

    def _fill(self, place: int) -> None:
        options = self.query_one(ColumnList)
        options.clear_options()
        names = self._ordered
        shown = [name for name in names if name not in self._plan.hidden]
        frozen = set(shown[: self._plan.frozen_places(self._table.primary_key, shown)])
        options.add_options([self._option(name, name in frozen) for name in names])
        options.highlighted = min(place, len(names) - 1) if names else None

    def _option(self, name: str, frozen: bool) -> Option:
        dim = Style(color=self.app.theme_variables["sand-dim"])
        hidden = name in self._plan.hidden
        text = Text("· " if hidden else "✓ ", no_wrap=True)
        text.append(fitted_text(safe_name(name), _NAME_CELLS) + " ", dim if hidden else None)
        column = self._table.column(name)
        about = "frozen  " if frozen else ""
        about += column_remark(self._table, column) if column is not None else ""
        text.append(fitted_text(about, self._room - _NAME_CELLS - 3), dim)
        return Option(text)

    @property
    def _room(self) -> int:
        return self.query_one(ColumnList).scrollable_content_region.width or 60

    @property
    def _current(self) -> str:
        return self._ordered[self.query_one(ColumnList).highlighted or 0]

    def _take(self, layout: ColumnLayout) -> None:
        if not layout.shown(self._table.column_names, self._table.primary_key):
            self.query_one("#columns-problem", Static).update("the last column cannot be hidden")
            return
        name = self._current
        self._plan = layout
        self.query_one("#columns-problem", Static).update("")
        self._fill(self._ordered.index(name))

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        self.dismiss(self._plan)

    def action_show(self) -> None:
        name = self._current
        self._take(self._plan.with_hidden(name, name not in self._plan.hidden))

    def action_shift(self, places: int) -> None:
        self._take(
            self._plan.moved(
                self._table.column_names, self._table.primary_key, self._current, places
            )
        )

    def action_freeze(self) -> None:
        """Keep the columns up to this one in place; none, where that is so already."""
        shown = [name for name in self._ordered if name not in self._plan.hidden]
        if self._current not in shown:
            return
        wanted = shown.index(self._current) + 1
        now = self._plan.frozen_places(self._table.primary_key, shown)
        self._take(self._plan._replace(frozen=0 if wanted == now else wanted))

    def action_all(self, hide_others: bool) -> None:
        hidden = frozenset(self._ordered) - {self._current} if hide_others else frozenset()
        self._take(self._plan._replace(hidden=hidden))

    def action_plain(self) -> None:
        self._take(ColumnLayout())
