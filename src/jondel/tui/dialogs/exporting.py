"""The dialogs of an export: what is written, in which format, to which file."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Horizontal, Vertical
from textual.widgets import OptionList
from textual.widgets.option_list import Option

from jondel.core.browse.display import line
from jondel.core.formats.row_writers import ENDINGS, RowForm
from jondel.tui.frame.dialog import Dialog, field_heading, foot, heading
from jondel.tui.widgets.text_fields import TextField, entered_text

_FORMS: tuple[tuple[str, RowForm, bool], ...] = (
    ("CSV", "csv", False),
    ("JSON", "json", False),
    ("JSON lines", "jsonl", False),
    ("XLSX", "xlsx", False),
    ("SQL, the rows", "sql", False),
    ("SQL with the table", "sql", True),
    ("Markdown", "markdown", False),
    ("HTML", "html", False),
    ("text", "table", False),
)
"""What a format is called, and whether it makes the table as well."""


class ExportWish(NamedTuple):
    """What is exported, by its place in the list, how, and to which file."""

    place: int
    form: RowForm
    with_table: bool
    path: str


class ExportDialog(Dialog[ExportWish | None]):
    """Asks what to export; ``offered`` is what there is, each with how its file's name begins."""

    BINDINGS = [
        Binding("escape", "dismiss(None)", "close"),
        Binding("tab", "app.focus_next", "on", priority=True),
        Binding("shift+tab", "app.focus_previous", "back", priority=True),
        Binding("ctrl+s", "take", "export"),
    ]

    def __init__(self, offered: Sequence[tuple[str, str]]) -> None:
        super().__init__()
        self._offered = offered
        self._suggested = ""

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog full"):
            yield heading("Export to a file")
            with Horizontal(id="export-lists"):
                yield OptionList(
                    *(Option(Text(line(words, 70), no_wrap=True)) for words, _ in self._offered),
                    id="export-what",
                    markup=False,
                )
                yield OptionList(
                    *(Option(Text(name)) for name, _, _ in _FORMS), id="export-form", markup=False
                )
            yield field_heading("the file, in the project's folder")
            yield TextField(id="export-path", classes="field")
            yield foot("Tab next field · Enter, or Ctrl+S, exports · Escape closes")

    def opened(self) -> None:
        for name in ("#export-what", "#export-form"):
            self.query_one(name, OptionList).highlighted = 0
        self.query_one("#export-what").focus()

    @property
    def _place(self) -> int:
        return self.query_one("#export-what", OptionList).highlighted or 0

    @property
    def _form(self) -> tuple[str, RowForm, bool]:
        return _FORMS[self.query_one("#export-form", OptionList).highlighted or 0]

    def on_option_list_option_highlighted(self, event: OptionList.OptionHighlighted) -> None:
        event.stop()
        field = self.query_one("#export-path", TextField)
        if field.entered in ("", self._suggested):  # else it is a person's own
            self._suggested = f"{self._offered[self._place][1]}.{ENDINGS[self._form[1]]}"
            field.entered = self._suggested

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        self.action_take()

    def on_input_submitted(self, event: TextField.Submitted) -> None:
        event.stop()
        entered_text(event)
        self.action_take()

    def action_take(self) -> None:
        """Take it as it is shown."""
        path = self.query_one("#export-path", TextField).entered.strip()
        if path:
            _, form, with_table = self._form
            self.dismiss(ExportWish(self._place, form, with_table, path))


class TablesDialog(Dialog[list[int] | None]):
    """Chooses some tables, or what else is listed; returns their places, or None."""

    BINDINGS = [
        Binding("escape", "dismiss(None)", "close"),
        Binding("space", "choose", "choose or not"),
        Binding("a", "all", "all or none"),
    ]

    def __init__(
        self,
        names: Sequence[str],
        *,
        title: str = "Which tables?",
        chosen: Sequence[int] | None = None,
    ) -> None:
        """Where none is ``chosen``, the one that the cursor is on is taken; unless it is said that
        none need be, by an empty list."""
        super().__init__()
        self._names, self._title = names, title
        self._chosen: set[int] = set(chosen or ())
        self._none_allowed = chosen is not None

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog wide"):
            yield heading(self._title)
            yield OptionList(id="export-tables", markup=False)
            yield foot("Space chooses · a all, or none · Enter takes · Escape closes")

    def opened(self) -> None:
        self._show(0)
        self.query_one(OptionList).focus()

    def _show(self, place: int) -> None:
        options = self.query_one(OptionList)
        options.clear_options()
        options.add_options(
            Option(Text(f"{'✓' if n in self._chosen else '·'} {line(name, 60)}", no_wrap=True))
            for n, name in enumerate(self._names)
        )
        options.highlighted = place

    def action_choose(self) -> None:
        """Choose the table, or do not."""
        place = self.query_one(OptionList).highlighted or 0
        self._chosen ^= {place}
        self._show(place)

    def action_all(self) -> None:
        """Choose all of them, or none where all are."""
        everything = set(range(len(self._names)))
        self._chosen = set() if self._chosen == everything else everything
        self._show(self.query_one(OptionList).highlighted or 0)

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        least = set() if self._none_allowed else {event.option_index}
        self.dismiss(sorted(self._chosen or least))
