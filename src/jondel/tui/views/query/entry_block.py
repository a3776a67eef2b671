"""One entry of the tape: a line, and what came of it below that where it is unfolded."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text
from textual import events
from textual.app import ComposeResult
from textual.containers import Vertical
from textual.message import Message
from textual.widget import Widget
from textual.widgets import Static

from jondel.core.browse.display import full_lines, line
from jondel.core.model.changes import Changes
from jondel.core.query.tape import Entry
from jondel.tui.views.changes.change_list import ChangeList
from jondel.tui.views.query.outcome_words import outcome_words
from jondel.tui.widgets.bands import Band
from jondel.tui.widgets.lines import PlainGround
from jondel.tui.widgets.sheet.drawing import HEAD_LINES
from jondel.tui.widgets.sheet.sheet import Sheet
from jondel.tui.widgets.sheet.source import RowSource
from jondel.tui.widgets.styles import ink

_MOST_STATEMENT_LINES = 14
_FEWEST_ROWS = 1
_LIST_LINES = 16


class EntryBlock(PlainGround, Vertical, can_focus=True):
    """Shows an entry; what is in it is put there by the view."""

    DEFAULT_CSS = """
    EntryBlock { height: auto; }
    EntryBlock > .entry-body { height: auto; padding: 0 0 0 2; }
    EntryBlock > .entry-body > Static { height: auto; }
    EntryBlock > Band { height: 1; }
    EntryBlock:focus > Band, EntryBlock:focus-within > Band { background: $row-current; }
    """

    class Chosen(Message):
        """The entry was clicked."""

        def __init__(self, block: EntryBlock) -> None:
            super().__init__()
            self.block = block

    def __init__(self, entry: Entry) -> None:
        super().__init__()
        self.entry = entry
        self.is_open = False
        self.sheet: Sheet | None = None
        self.changes: ChangeList | None = None
        self._head = Band()
        self._body = Vertical(classes="entry-body")
        self._body.display = False

    def compose(self) -> ComposeResult:
        yield self._head
        yield self._body

    def on_mount(self) -> None:
        self._show_head()

    def show(self, entry: Entry) -> None:
        """The entry is another now."""
        self.entry = entry
        self._show_head()

    def _show_head(self) -> None:
        entry = self.entry
        words, style = outcome_words(entry)
        sign = "▾ " if self.is_open else "▸ "
        when = f"{entry.asked_at.astimezone():%H:%M} "
        left = [(sign, "dim"), (when, "dim")]
        if entry.pinned:
            left.append(("pinned ", "strong"))
        if entry.moment:
            left.append((f"{entry.moment} ", "flag"))
        left.append((line(" ".join(entry.sql.split()), 400), "plain"))
        self._head.show(left, [(f"  {words} ", "strong" if style == "problem" else style)])

    # What is unfolded

    def fold(self) -> None:
        """Show the line alone."""
        self.is_open = False
        self._body.display = False
        self._show_head()

    async def unfold(self) -> None:
        """Show the statement and what came of it, as far as that is here."""
        self.is_open = True
        self._show_head()
        if not self._body.children:
            shown = self._told()
            if shown is not None:
                await self._body.mount(Static(shown, markup=False))
        self._body.display = True

    def _told(self) -> Text | None:
        """The statement where the line does not show all of it, and why it failed."""
        entry, parts = self.entry, Text()
        lines = list(full_lines(entry.sql))
        if len(lines) > 1 or entry.error is not None or len(entry.sql) > 60:
            rows = entry.sql.split("\n")
            for number, pieces in enumerate(lines[:_MOST_STATEMENT_LINES]):
                words = "".join(piece.text for piece in pieces if piece.text != "⏎")
                if number < len(rows):  # a statement's indentation is no value's blanks
                    indent = len(rows[number]) - len(rows[number].lstrip(" "))
                    words = " " * indent + words[indent:]
                self._append_line(parts, words, number)
            if len(lines) > _MOST_STATEMENT_LINES:
                left = len(lines) - _MOST_STATEMENT_LINES
                parts.append(f"… {left} more lines; e edits it\n", ink(self, "sand-dim"))
        if entry.parameters:
            given = " · ".join(f"{n} = {line(v, 40)}" for n, v in entry.parameters.items())
            parts.append(f"with {line(given, 400)}\n", ink(self, "sand-dim"))
        if entry.error is not None:
            parts.append(f"{line(entry.error.message, 1000)}\n", ink(self, "removed"))
        for note in entry.notes.splitlines():
            parts.append(f"{line(note, 400)}\n", ink(self, "brass"))
        parts.rstrip()
        return parts if parts.plain else None

    def _append_line(self, parts: Text, words: str, number: int) -> None:
        """Add a line of the statement, with the place of an error marked in it."""
        error, dim = self.entry.error, ink(self, "sand-dim")
        before = self.entry.sql[: error.at] if error is not None and error.at is not None else None
        if before is None or before.count("\n") != number:
            parts.append(f"{words}\n", dim)
            return
        column = len(before) - before.rfind("\n") - 1
        mark = ink(self, "removed", bold=True)
        room = self.parent.size.width if isinstance(self.parent, Widget) else 0
        if len(words) < room - 6:
            parts.append(f"{words}\n", dim)
            parts.append(f"{' ' * column}↑ here\n", mark)
        else:  # it takes several lines, so nothing could stand below it
            parts.append(words[:column], dim)
            parts.append("→ ", mark)
            parts.append(f"{words[column:]}\n", dim)

    async def show_rows(self, source: RowSource, most: int) -> Sheet:
        """Show rows of the statement; ``most`` lines at once."""
        was_there = self.sheet is not None
        if self.sheet is None:
            self.sheet = Sheet()
            await self._replace(self.sheet)
        height = max(_FEWEST_ROWS, min(source.extent.rows, most)) + HEAD_LINES + 1
        self.sheet.styles.height = height
        if was_there:
            self.sheet.show_again(source)
        else:
            self.sheet.show(source)
        return self.sheet

    async def show_changes(self, changes: Changes, nothing: str) -> None:
        """Show what the statements changed, or would change."""
        if self.changes is None:
            self.changes = ChangeList()
            await self._replace(self.changes)
        lines = sum(
            1 + sum(max(1, len(record.cells)) for record in table.records[:_LIST_LINES])
            for table in changes.tables
        ) + len(changes.schema_changes)
        self.changes.styles.height = max(1, min(_LIST_LINES, lines + 1))
        self.changes.show(changes, [nothing])

    async def show_words(self, words: str) -> None:
        """Show a sentence in place of rows or changes."""
        await self._replace(Static(Text(words, ink(self, "sand-dim")), markup=False))

    async def _replace(self, widget: Widget) -> None:
        for child in list(self._body.children)[1 if self._told() is not None else 0 :]:
            await child.remove()
        await self._body.mount(widget)

    def on_click(self, event: events.Click) -> None:
        if event.widget is self._head or event.widget is self:
            event.stop()
            self.post_message(self.Chosen(self))


def shown_of(blocks: Sequence[EntryBlock], focused: Widget | None) -> EntryBlock | None:
    """The block that a widget is, or is in."""
    if focused is None:
        return None
    return next((b for b in blocks if b is focused or b in focused.ancestors), None)
