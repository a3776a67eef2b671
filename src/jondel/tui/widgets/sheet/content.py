"""What stands on the lines of a sheet: rows, removed and new records, and what marks them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from jondel.core.browse.ghosts import Ghost, Interleaving
from jondel.core.draft.draft_marks import DraftMarks
from jondel.core.model.changes import MARKS, RecordChange
from jondel.core.model.rows import Position
from jondel.core.model.values import ShownRow
from jondel.tui.widgets.sheet.row_marks import (
    DRAFT_MARK,
    FRESH_MARK,
    PLAIN_LOOK,
    RowLook,
    RowMarks,
)
from jondel.tui.widgets.sheet.source import RowSource

NO_DRAFT = DraftMarks({}, frozenset())

_AHEAD_ROWS = 100
"""So many rows before and behind those in view are read before they are asked for."""


class SheetContent:
    """The rows of one source with what marks them; lines count from 0."""

    def __init__(self, source: RowSource | None = None) -> None:
        self.source = source
        self.lines = Interleaving(source.extent.rows if source is not None else 0)
        self.names = tuple(column.name for column in source.columns) if source is not None else ()
        self.marks: RowMarks | None = None
        self.draft = NO_DRAFT
        self.fresh: Mapping[Position, frozenset[int]] = {}
        """Cells, by their columns' indexes, that have just changed."""
        self.chosen: set[Position] = set()
        """The positions of the rows that a person has chosen."""

    @property
    def rows(self) -> int:
        """How many rows the source has, as far as that is known."""
        return self.source.extent.rows if self.source is not None else 0

    # What is there

    def take_source(self, source: RowSource) -> None:
        """Have the same columns' rows read anew: removed records are placed again later."""
        self.source = source
        self.lines = self.lines.with_rows(self.rows, ghosts=False)

    def take_extent(self) -> None:
        """More is known of how many rows there are."""
        self.lines = self.lines.with_rows(self.rows, ghosts=True)

    def set_ghosts(self, ghosts: Sequence[Ghost]) -> None:
        """Show removed records where they were."""
        self.lines = self.lines.with_ghosts(ghosts)

    def set_draft(self, draft: DraftMarks | None) -> None:
        """Show what a draft makes of the rows, its new records at the end."""
        self.draft = draft if draft is not None else NO_DRAFT
        self.lines = self.lines.with_new(len(self.draft.added))

    # What is on a line

    def record_at(self, line: int) -> tuple[Position, ShownRow] | None:
        """The position and values of what is on a line, or None while it has not been read."""
        ghost = self.lines.ghost(line)
        if ghost is not None:
            return ghost.position, ghost.record.before or ()
        new = self.lines.new(line)
        if new is not None:
            return (), self.draft.added[new][1]
        return self.source.row(self.lines.ordinal(line)) if self.source is not None else None

    def row_at(self, line: int) -> int | None:
        """The ordinal of the row on a line; None where that is a removed or a new record."""
        if self.lines.ghost(line) or self.lines.new(line) is not None:
            return None
        return self.lines.ordinal(line)

    def new_at(self, line: int) -> int | None:
        """The number of the draft's new record on a line, if one is there."""
        place = self.lines.new(line)
        return self.draft.added[place][0] if place is not None else None

    def line_of_new(self, number: int) -> int | None:
        """The line of one of the draft's new records."""
        for place, (entry, _) in enumerate(self.draft.added):
            if entry == number:
                return self.lines.lines - len(self.draft.added) + place
        return None

    def change_on(self, line: int) -> RecordChange | None:
        """How what is on a line changed, by the marks; a removed record by itself."""
        ghost = self.lines.ghost(line)
        if ghost is not None:
            return ghost.record
        record = self.record_at(line) if self.marks is not None else None
        return self._change_of(*record) if record else None

    def _change_of(self, position: Position, row: ShownRow) -> RecordChange | None:
        marks = self.marks
        if marks is None or not row or not position:
            return None
        if not marks.key_columns:
            return marks.records.get(tuple(position))
        places = [self.names.index(name) for name in marks.key_columns]
        return marks.records.get(tuple(row[place] for place in places))

    def with_draft(self, position: Position, row: ShownRow) -> ShownRow:
        """A row as it would be with the draft."""
        edited = self.draft.edited.get(position) if self.draft.edited else None
        if not edited:
            return row
        return tuple(edited.get(name, v) for name, v in zip(self.names, row, strict=True))

    def look_of(self, line: int, position: Position) -> RowLook:
        """How what is on a line stands out."""
        look = PLAIN_LOOK
        change = self.change_on(line)
        if not (change or self.fresh or self.chosen or any(self.draft)):
            return look
        if self.lines.new(line) is not None:
            look = RowLook(DRAFT_MARK, "draft", None)
        elif position in self.draft.deleted:
            look = RowLook(DRAFT_MARK, "draft", None, struck=True)
        elif position in self.draft.edited:
            look = RowLook(DRAFT_MARK, "draft", self._places(self.draft.edited[position]))
        elif change is not None:
            cells = self._places([cell.column for cell in change.cells])
            every = change.kind != "changed"
            struck = change.kind == "removed"
            look = RowLook(MARKS[change.kind], change.kind, None if every else cells, struck)
        elif position in self.fresh:
            look = RowLook(FRESH_MARK, "sea", self.fresh[position])
        return look._replace(chosen=position in self.chosen) if self.chosen else look

    def _places(self, names: Mapping[str, object] | Sequence[str]) -> frozenset[int]:
        return frozenset(place for place, name in enumerate(self.names) if name in names)

    def wanted_block(self, in_view: tuple[int, int], current: int) -> tuple[int, bool] | None:
        """The block to read next, and whether any of it is in view or of the current line.

        ``in_view`` are the first and the last line in view. None where all of it is at hand.
        """
        if self.source is None:
            return None
        first, last = (self.lines.ordinal(line) for line in in_view)
        row = self.lines.ordinal(current)
        visible = self.source.missing(first, last) or self.source.missing(row, row)
        if visible:
            return visible[0], True
        ahead = self.source.missing(first - _AHEAD_ROWS, last + _AHEAD_ROWS)
        return (ahead[0], False) if ahead else None
