"""The dialogs of the draft: its entries, the statements that write it, its conflicts."""

from __future__ import annotations

from collections.abc import Sequence
from enum import Enum
from typing import NamedTuple

from rich.console import Group
from rich.style import Style
from rich.table import Table as RichTable
from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical, VerticalScroll
from textual.widgets import OptionList, Static
from textual.widgets.option_list import Option

from jondel.core.browse.display import line, safe_name
from jondel.core.draft.draft import Entry
from jondel.core.draft.draft_plan import entry_words
from jondel.core.draft.draft_writer import Conflict
from jondel.core.model.schema import Table
from jondel.core.model.values import identical
from jondel.tui.frame.dialog import Dialog, foot, heading, problem_line

_SHOWN_CHARACTERS = 200


class DraftVerb(Enum):
    """What can be done with the draft or an entry of it."""

    GO_TO = "go to"
    DROP = "drop"
    DROP_ALL = "drop all"
    WRITE = "write"
    UNDO = "undo"


class DraftWish(NamedTuple):
    """What a person wants done, and the place of the entry in the list."""

    verb: DraftVerb
    place: int


class DraftDialog(Dialog[DraftWish | None]):
    """Lists the draft's entries."""

    BINDINGS = [
        Binding("escape", "dismiss(None)", "close"),
        Binding("delete,minus", "wish('DROP')", "drop"),
        Binding("D", "wish('DROP_ALL')", "drop all"),
        Binding("W", "wish('WRITE')", "write"),
        Binding("ctrl+z", "wish('UNDO')", "undo the last edit"),
    ]

    def __init__(
        self, entries: Sequence[Entry], tables: Sequence[Table | None], place: int = 0
    ) -> None:
        """``tables`` are those of the entries, as far as they are at hand."""
        super().__init__()
        self._entries = entries
        self._tables = tables
        self._place = place

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog full"):
            count = len(self._entries)
            title = f"The draft: {count} record{'' if count == 1 else 's'}, nothing written yet"
            yield heading(title)
            pairs = zip(self._entries, self._tables, strict=True)
            words = [line(entry_words(*pair), _SHOWN_CHARACTERS) for pair in pairs]
            yield OptionList(*(Option(Text(w, no_wrap=True)) for w in words), markup=False)
            yield foot(
                "Enter goes to the record · Del discards it · D discards all\n"
                "Ctrl+Z undoes the last edit · W writes · Escape closes"
            )

    def opened(self) -> None:
        if self._entries:
            self.query_one(OptionList).highlighted = min(self._place, len(self._entries) - 1)

    def action_wish(self, verb: str) -> None:
        place = self.query_one(OptionList).highlighted or 0
        self.dismiss(DraftWish(DraftVerb[verb], place))

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        self.dismiss(DraftWish(DraftVerb.GO_TO, event.option_index))


class ConflictDialog(Dialog[list[bool] | None]):
    """Shows what the app changed meanwhile beside what was edited; returns for each record
    whether mine is kept."""

    BINDINGS = [
        Binding("escape", "dismiss(None)", "later"),
        Binding("m", "choose(True)", "mine"),
        Binding("t", "choose(False)", "theirs"),
        Binding("down", "step(1)", "next", show=False),
        Binding("up", "step(-1)", "previous", show=False),
        Binding("enter", "take", "take it"),
    ]

    def __init__(self, conflicts: Sequence[Conflict]) -> None:
        super().__init__()
        self._conflicts = conflicts
        self._chosen: list[bool | None] = [None] * len(conflicts)
        self._place = 0

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog full"):
            yield heading("Nothing was written: the app has changed these records in the meantime")
            with VerticalScroll():
                yield Static("", id="conflict-text", markup=False)
            yield problem_line("conflict-problem")
            yield foot(
                "↑ ↓ next record · m keeps mine · t keeps theirs\n"
                "Enter continues when all are chosen · Escape keeps the draft as it is"
            )

    def opened(self) -> None:
        self._show()
        self.focus()

    def _show(self) -> None:
        colours = self.app.theme_variables
        dim, brass = Style(color=colours["sand-dim"]), Style(color=colours["brass"], bold=True)
        shown: list[Text | RichTable] = []
        for number, conflict in enumerate(self._conflicts):
            here = number == self._place
            words = {None: "not chosen", True: "mine", False: "theirs"}[self._chosen[number]]
            text = Text("› " if here else "  ", brass)
            position = " · ".join(line(value, 30) for value in conflict.edit.position)
            text.append(
                f"{safe_name(conflict.edit.table)} {position}", brass if here else Style.null()
            )
            text.append(f"   {words}", dim)
            shown += [text, _cells_of(conflict, dim)] if here else [text]
        self.query_one("#conflict-text", Static).update(Group(*shown))

    def action_step(self, places: int) -> None:
        self._place = max(0, min(self._place + places, len(self._conflicts) - 1))
        self._show()

    def action_choose(self, mine: bool) -> None:
        self._chosen[self._place] = mine
        following = [n for n, chosen in enumerate(self._chosen) if chosen is None]
        self._place = following[0] if following else self._place
        self._show()

    def action_take(self) -> None:
        if None in self._chosen:
            words = "choose m or t for every record first"
            self.query_one("#conflict-problem", Static).update(words)
        else:
            self.dismiss([bool(chosen) for chosen in self._chosen])


def _cells_of(conflict: Conflict, dim: Style) -> RichTable:
    """The cells that differ, or are edited: as they were, as they are now, as they would be."""
    edit = conflict.edit
    cells = RichTable(
        "",
        "as it was",
        "theirs, now",
        "mine",
        box=None,
        header_style=dim,
        padding=(0, 2, 0, 2),
    )
    for column in cells.columns:
        column.overflow = "fold"
    original = dict(edit.original)
    theirs = dict(zip(conflict.table.column_names, conflict.theirs or (), strict=False))
    for name in conflict.table.column_names:
        before, now = original.get(name), theirs.get(name)
        moved = conflict.theirs is not None and not identical(before, now)
        if moved or name in edit.values:
            # Mine is written to the record as it is now: what was not edited stays theirs.
            values = (before, now, edit.values.get(name))
            shown = [Text(line(value, _SHOWN_CHARACTERS)) for value in values]
            if name not in edit.values:
                shown[2] = Text("not edited", dim)
            cells.add_row(Text(safe_name(name)), *shown)
    if conflict.theirs is None:
        cells.add_row("", "", "deleted", "" if edit.values else "deleted")
    if edit.deleted:
        cells.add_row("", "", "", "delete the record")
    return cells
