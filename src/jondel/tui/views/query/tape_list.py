"""The entries of the tape: gone about, unfolded, added to."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from textual.containers import VerticalScroll

from jondel.core.errors import JondelError
from jondel.core.model.changes import Changes
from jondel.core.query.results import RESULT, table_of
from jondel.core.query.tape import Entry
from jondel.tui.frame.desk import Desk
from jondel.tui.services.moments import NOW, AtResult, AtStep, Moment
from jondel.tui.services.query import FirstRows, QueryService
from jondel.tui.views.query.entry_block import EntryBlock, shown_of
from jondel.tui.views.records.table_rows import TableRows
from jondel.tui.widgets.sheet.headings import columns_of
from jondel.tui.widgets.sheet.source import ListedRows

FIRST_ENTRIES = 60


class TapeList(VerticalScroll, can_focus=False):
    """The entries, newest last."""

    DEFAULT_CSS = "TapeList { height: 1fr; scrollbar-size-vertical: 1; }"

    def __init__(self, desk: Desk) -> None:
        super().__init__(id="tape")
        self._desk = desk
        self.blocks: list[EntryBlock] = []
        """The entries that are shown, newest last."""
        self._changes: dict[int, Changes] = {}
        """What the runs of this session would change, by the number of their last entry."""
        self._preview: EntryBlock | None = None
        """The entry whose rows are still coming."""

    @property
    def _query(self) -> QueryService:
        return self._desk.workspace.query

    @property
    def current(self) -> EntryBlock | None:
        """The entry that the cursor is on."""
        return shown_of(self.blocks, self._desk.focused)

    @property
    def has_preview(self) -> bool:
        """Whether rows are shown of which more are still coming."""
        return self._preview is not None

    async def show_entries(self, entries: Sequence[Entry]) -> None:
        """Show the latest entries, the last one unfolded."""
        self.blocks = [EntryBlock(entry) for entry in entries]
        await self.mount_all(self.blocks)
        if self.blocks:
            await self.unfold(self.blocks[-1])
        self.scroll_end(animate=False)

    async def show_earlier(self) -> bool:
        """Put entries before those that are shown; False where there are none."""
        first = self.blocks[0].entry.number if self.blocks else None
        entries = await self._query.tape.entries(FIRST_ENTRIES, first)
        blocks = [EntryBlock(entry) for entry in entries]
        await self.mount_all(blocks, before=0 if self.blocks else None)
        self.blocks[:0] = blocks
        return bool(blocks)

    # Going about

    def focus_block(self, block: EntryBlock) -> None:
        """Go to an entry."""
        self._desk.focus(block)
        block.scroll_visible(animate=False)

    async def go_to_earlier(self) -> None:
        """Go to the entry before the first that is shown."""
        count = len(self.blocks)
        if await self.show_earlier():
            self.focus_block(self.blocks[len(self.blocks) - count - 1])
        else:
            self._desk.say("this is the first entry")

    async def go_to(self, entry: Entry) -> None:
        """Go to an entry, wherever on the tape it is."""
        while True:
            for block in self.blocks:
                if block.entry.number == entry.number:
                    self.focus_block(block)
                    return
            if not await self.show_earlier():
                self._desk.say("this entry is gone")
                return

    def earlier_runs(self) -> list[Entry]:
        """The entries with rows that the current one can be compared with: those of the same
        statement first, the latest of them before the others."""
        block = self.current
        if block is None or block.entry.rows is None:
            return []
        others = [b.entry for b in reversed(self.blocks) if b is not block]
        others = [entry for entry in others if entry.rows is not None]
        words = block.entry.sql.split()
        return sorted(others, key=lambda entry: entry.sql.split() != words)

    # Unfolding

    async def toggle(self, block: EntryBlock) -> None:
        """Unfold an entry, or fold it."""
        if block.is_open:
            block.fold()
        else:
            await self.unfold(block)
        block.scroll_visible(animate=False)

    async def unfold(self, block: EntryBlock) -> None:
        """Show what came of an entry."""
        await block.unfold()
        try:
            await self._show_outcome(block)
        except JondelError as error:
            await block.show_words(str(error))

    async def _show_outcome(self, block: EntryBlock) -> None:
        entry = block.entry
        if entry.rows is not None:
            if block.sheet is None:
                await self._show_rows(block)
        elif block.changes is not None or not (entry.summary or entry.number in self._changes):
            return
        elif entry.number in self._changes:
            await block.show_changes(self._changes[entry.number], "nothing would be changed")
        elif entry.step is not None:
            step = self._desk.workspace.trail.require_step(entry.step)
            changes = await self._desk.workspace.comparisons.step_changes(step)
            await block.show_changes(changes, "nothing was changed")
        elif entry.how == "rehearsed":
            kept = await self._query.tape.changes_of(entry)
            if kept is not None:
                await block.show_changes(kept, "nothing would be changed")
            else:
                words = "the records are no longer kept; Ctrl+G tries it out again"
                await block.show_words(words)

    async def _show_rows(self, block: EntryBlock) -> None:
        rows = self._desk.workspace.rows
        moment = self.rows_of(block)
        schema = await rows.schema(moment)
        cache, _ = await rows.first_rows(moment, schema.by_id[RESULT], [0])
        sheet = await block.show_rows(TableRows(rows, moment, cache), self._most_rows)
        sheet.on_record = self._desk.show_card

    def rows_of(self, block: EntryBlock) -> AtResult:
        """The rows of an entry, as a moment."""
        return self._query.tape.result_of(block.entry, _origin_of(block.entry))

    @property
    def _most_rows(self) -> int:
        above = self.parent.size.height if self.parent is not None else 0  # type: ignore[attr-defined]
        return max(5, above // 2 - 4)

    # Adding and removing

    async def preview(self, event: FirstRows, text: str) -> None:
        """Show the first rows of a statement while the others still come."""
        now = datetime.now().astimezone()
        block = self._preview = EntryBlock(Entry(0, now, 0, text, "", "read", "done", 0.0))
        self._fold_earlier(run=0)
        await self.mount(block)
        await block.unfold()
        columns = columns_of(table_of(event.columns))
        await block.show_rows(ListedRows(columns, event.rows), self._most_rows)
        self.scroll_end(animate=False)

    async def add(self, entry: Entry, changes: Changes | None = None) -> EntryBlock:
        """Add an entry, in the place of its first rows where these are shown; ``changes`` is what
        it would change."""
        if changes is not None:
            self._changes[entry.number] = changes
        block, self._preview = self._preview, None
        if block is not None and entry.rows is None:
            await block.remove()
            block = None
        if block is None:
            self._fold_earlier(entry.run)
            block = EntryBlock(entry)
            self.blocks.append(block)
            await self.mount(block)
            await self.unfold(block)
        else:
            block.show(entry)
            self.blocks.append(block)
            await self._show_rows(block)
        self.scroll_end(animate=False)
        return block

    def _fold_earlier(self, run: int) -> None:
        for block in self.blocks[-3:]:
            if block.is_open and not block.entry.pinned and block.entry.run != run:
                block.fold()

    async def drop_preview(self) -> None:
        """Take away the rows of a statement that came to nothing."""
        block, self._preview = self._preview, None
        if block is not None:
            await block.remove()

    def forget(self, entries: Sequence[Entry]) -> None:
        """Take away entries that are no longer on the tape."""
        numbers = {entry.number for entry in entries}
        for block in [b for b in self.blocks if b.entry.number in numbers]:
            self.blocks.remove(block)
            block.remove()

    async def take_away(self, block: EntryBlock) -> EntryBlock | None:
        """Take an entry away; returns the one that is in its place then."""
        place = self.blocks.index(block)
        self.blocks.remove(block)
        await block.remove()
        return self.blocks[min(place, len(self.blocks) - 1)] if self.blocks else None


def _origin_of(entry: Entry) -> Moment:
    if not entry.moment:
        return NOW
    number = int(entry.moment[1:]) if entry.moment[1:].isdecimal() else 0
    return AtStep(number)
