"""The list of changes: tables, their records, and for changed records the cells that differ."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple, TypeAlias, cast

from rich.segment import Segment
from rich.style import Style
from textual import events
from textual.binding import Binding
from textual.geometry import Size
from textual.message import Message
from textual.reactive import reactive
from textual.scroll_view import ScrollView
from textual.strip import Strip

from jondel.core.browse.display import Piece, pieces, safe_name
from jondel.core.formats.changes_text import cell_parts, record_name, schema_words
from jondel.core.formats.inside_text import Part, closed_up
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import (
    MARKS,
    CellChange,
    ChangeKind,
    Changes,
    NoValue,
    RecordChange,
    TableChanges,
)
from jondel.core.model.values import StoredValue
from jondel.tui.views.changes.whole_records import cells_of, most_lines_each, packed
from jondel.tui.widgets.cell_text import fitted, fitted_text
from jondel.tui.widgets.styles import change_style, ink, inside_style, value_style

_WIDEST_KEY, _NARROWEST_KEY = 24, 8
_WIDEST_NAME = 24
_MOST_INSIDE = 8
"""Lines for what differs inside one value."""
_ARROW = " → "


class TextLine(NamedTuple):
    """A line about the whole: a heading, or a sentence where there are no changes."""

    text: str
    tail: str = ""
    kind: ChangeKind | None = None
    heading: bool = False


class RecordLine(NamedTuple):
    """A record's line: the whole of an added or removed one, or one cell of a changed one."""

    table: TableChanges
    record: RecordChange
    cell: CellChange | None
    first: bool
    key_width: int
    name_width: int
    rekeyed_from: RecordChange | None = None
    """The record under its key before, where nothing but the key changed."""
    inside: Sequence[Part] = ()
    """One of the places at which the cell's values differ, instead of the values."""
    names_cell: bool = True
    """Whether it is the first line of its cell."""
    cells: tuple[int, int | None] | None = None
    """Which of the cells of a whole record are on this line, where it has several lines."""


Line: TypeAlias = TextLine | RecordLine


class ChangeList(ScrollView, can_focus=True):
    """All changes of a step, record by record."""

    BINDINGS = [
        Binding("up", "move(-1)", "record up", show=False),
        Binding("down", "move(1)", "record down", show=False),
        Binding("pageup", "page(-1)", "a screen up", show=False),
        Binding("pagedown", "page(1)", "a screen down", show=False),
        Binding("home", "first", "first change", show=False),
        Binding("end", "last", "last change", show=False),
        Binding("left", "table(-1)", "table before", show=False),
        Binding("right", "table(1)", "next table", show=False),
    ]
    DEFAULT_CSS = "ChangeList { background: $background; }"

    class RecordWanted(Message):
        """The current record was clicked twice: the person wants to go there."""

        def __init__(self, change_list: ChangeList) -> None:
            super().__init__()
            self.change_list = change_list

        @property
        def control(self) -> ChangeList:
            return self.change_list

    cursor = reactive(0)
    """Index of the current record among all records listed."""

    class RecordHighlighted(Message):
        """Another record is the current one; not sent where there are no records."""

        def __init__(self, changes: ChangeList, table: TableChanges, record: RecordChange) -> None:
            super().__init__()
            self.changes = changes
            self.table = table
            self.record = record

        @property
        def control(self) -> ChangeList:
            return self.changes

    def __init__(self, *, id: str | None = None) -> None:
        super().__init__(id=id)
        self._lines: list[Line] = []
        self._changes: list[Line] = []
        """The lines before whole records got the room that is left over."""
        self._starts: list[int] = []
        self._record_of_line: list[int] = []
        self._sentences: tuple[str, ...] = ()

    def show(self, changes: Changes, nothing: Sequence[str]) -> None:
        """Show these changes, from their beginning; ``nothing`` are sentences for where there are
        none."""
        if changes.empty and not changes.unread and not changes.hidden:
            self.show_text("", *nothing)
            return
        self._sentences = ()
        self._changes = list(_lines(changes, nothing))
        self._take(self._spread())

    def show_text(self, *texts: str) -> None:
        """Show sentences in place of changes."""
        self._sentences, self._changes = texts, []
        self._take(list(self._wrapped()))

    def _spread(self) -> list[Line]:
        """Give whole records as many lines as there is room for."""
        lines, region = self._changes, self.scrollable_content_region
        spare = region.height - len(lines)
        whole = {
            number: cells_of(line.table, line.record, several_lines=True)
            for number, line in enumerate(lines)
            if isinstance(line, RecordLine) and line.cell is None and line.rekeyed_from is None
        } if spare > 0 else {}  # fmt: skip
        counts = {
            number: packed(cells, _room(cast(RecordLine, lines[number]), region.width))
            for number, cells in whole.items()
        }
        most = most_lines_each([len(count) for count in counts.values()], spare)
        if most < 2:
            return lines
        spread: list[Line] = []
        for number, line in enumerate(lines):
            if isinstance(line, RecordLine) and number in counts:
                spread += _in_lines(line, counts[number], most)
            else:
                spread.append(line)
        return spread

    def _wrapped(self) -> Iterator[TextLine]:
        import textwrap

        width = max(20, (self.scrollable_content_region.width or 80) - 2)
        for text in self._sentences:
            yield from map(TextLine, textwrap.wrap(text, width) or [""])

    @property
    def current(self) -> RecordLine | None:
        """The current record's first line."""
        if not self._starts:
            return None
        line = self._lines[self._starts[min(self.cursor, len(self._starts) - 1)]]
        return line if isinstance(line, RecordLine) else None

    def _take(self, lines: list[Line]) -> None:
        self._lines = lines
        self._starts, self._record_of_line = [], []
        for index, line in enumerate(lines):
            if isinstance(line, RecordLine) and line.first:
                self._starts.append(index)
            is_record = isinstance(line, RecordLine)
            self._record_of_line.append(len(self._starts) - 1 if is_record else -1)
        self.virtual_size = Size(self.scrollable_content_region.width, len(lines))
        self.scroll_to(0, 0, animate=False)
        self.set_reactive(ChangeList.cursor, 0)
        self._announce()
        self.refresh()

    def find(self, table: TableId, key: tuple[StoredValue, ...]) -> None:
        """Make a record the current one, if it is listed."""
        for number, start in enumerate(self._starts):
            line = self._lines[start]
            if isinstance(line, RecordLine) and (line.table.table, line.record.key) == (table, key):
                self._go(number)
                return

    def find_table(self, table: TableId) -> None:
        """Make a table's first record the current one, if it has any."""
        for number, start in enumerate(self._starts):
            line = self._lines[start]
            if isinstance(line, RecordLine) and line.table.table == table:
                self._go(number)
                return

    # Drawing

    def render_line(self, y: int) -> Strip:
        width = self.scrollable_content_region.width
        index = y + self.scroll_offset.y
        base = self.rich_style
        if index >= len(self._lines):
            return Strip.blank(width, base)
        line = self._lines[index]
        if isinstance(line, TextLine):
            return self._text_line(line, width, base)
        if self._record_of_line[index] == self.cursor:
            base = base + ink(self, on="row-current")
        segments = list(self._record_segments(line, width, base))
        pointer = "▌" if self._record_of_line[index] == self.cursor and self.has_focus else " "
        pointer_style = base + ink(self, "brass")
        return Strip([Segment(pointer, pointer_style), *segments]).adjust_cell_length(width, base)

    def _text_line(self, line: TextLine, width: int, base: Style) -> Strip:
        if line.heading:
            style = ink(self, "brass", on="surface", bold=True)
            head = Segment(f" {line.text}  ", style)
            tail = Segment(line.tail, style)
            return Strip([head, tail]).adjust_cell_length(width, style)
        style = base + (change_style(self, line.kind) if line.kind else Style())
        text = f" {line.text}  {line.tail}".rstrip()
        return Strip([Segment(fitted_text(text, width), style)], width)

    def _record_segments(self, line: RecordLine, width: int, base: Style) -> Iterator[Segment]:
        record = line.record
        mark = base + change_style(self, "changed" if line.rekeyed_from else record.kind)
        key_width = _key_width(line, width)
        sign = MARKS["changed"] if line.rekeyed_from else MARKS[record.kind]
        head = f"{sign} {fitted_text(record_name(line.table, record), key_width)}"
        yield Segment(head if line.first else " " * (2 + key_width), mark)
        room = _room(line, width)
        yield Segment("  ", base)
        if line.rekeyed_from is not None:
            words = f"only the key changed; it was {record_name(line.table, line.rekeyed_from)}"
            yield Segment(fitted_text(words, room), base + change_style(self, "changed"))
            return
        if line.cell is None:
            yield from self._whole(line, room, base)
            return
        name = safe_name(line.cell.column) if line.names_cell else ""
        yield Segment(fitted_text(name, line.name_width) + "  ", base + ink(self, "sand-dim"))
        room -= line.name_width + 2
        if line.inside:
            yield from self._inside(line.inside, room, base)
            return
        room -= len(_ARROW)
        before = _before(line.cell)
        shown_before = min(max(4, room // 2), sum(len(piece.text) for piece in before))
        dim = ink(self, "sand-dim")
        for piece in fitted(before, shown_before):
            yield Segment(piece.text, base + dim)
        yield Segment(_ARROW, mark)
        for piece in fitted(pieces(line.cell.after), max(4, room - shown_before)):
            yield Segment(piece.text, base + value_style(self, piece.role))

    def _inside(self, parts: Sequence[Part], room: int, base: Style) -> Iterator[Segment]:
        """What differs inside a value; where it does not fit, less of what is the same."""
        strip = Strip(
            [Segment(p.text, base + inside_style(self, p.role)) for p in closed_up(parts, room)]
        )
        if strip.cell_length > room:
            clipped = base + value_style(self, "clip")
            strip = Strip([*strip.crop(0, max(0, room - 1)), Segment("…", clipped)])
        yield from strip

    def _whole(self, line: RecordLine, room: int, base: Style) -> Iterator[Segment]:
        """An added or removed record's cells, one after the other, as far as they fit."""
        name_style = base + ink(self, "sand-dim")
        segments: list[Segment] = []
        first, end = line.cells or (0, None)
        cells = cells_of(line.table, line.record, several_lines=line.cells is not None)
        for name, parts in cells[first:end]:
            if segments:
                segments.append(Segment("  ", base))
            segments.append(Segment(f"{name} ", name_style))
            for piece in parts:
                segments.append(Segment(piece.text, base + value_style(self, piece.role)))
        strip = Strip(segments)
        if strip.cell_length > room:
            clipped = base + value_style(self, "clip")
            strip = Strip([*strip.crop(0, max(0, room - 1)), Segment("…", clipped)])
        yield from strip

    # Moving

    def watch_cursor(self) -> None:
        self._announce()
        self.refresh()

    def watch_has_focus(self, value: bool) -> None:
        super().watch_has_focus(value)
        self.refresh()

    def on_resize(self) -> None:
        if self._sentences:
            self._take(list(self._wrapped()))
        elif (lines := self._spread()) != self._lines:
            current = self.cursor
            self._take(lines)
            self._go(current)
        self.virtual_size = Size(self.scrollable_content_region.width, len(self._lines))

    def _announce(self) -> None:
        line = self.current
        if line is not None:
            self.post_message(self.RecordHighlighted(self, line.table, line.record))

    def _go(self, number: int) -> None:
        if not self._starts:
            return
        self.cursor = max(0, min(number, len(self._starts) - 1))
        first = self._starts[self.cursor]
        later = self._starts[self.cursor + 1] if self.cursor + 1 < len(self._starts) else None
        last = (later if later is not None else len(self._lines)) - 1
        # Keep the table's heading in sight above its first record.
        first = max(0, first - 1) if isinstance(self._lines[first - 1], TextLine) else first
        height, top = self.scrollable_content_region.height, int(self.scroll_target_y)
        if first < top:
            top = first
        elif last >= top + height:
            top = min(first, last - height + 1)
        self.scroll_to(0, top, animate=False, force=True)

    def action_move(self, records: int) -> None:
        self._go(self.cursor + records)

    def action_page(self, screens: int) -> None:
        height = self.scrollable_content_region.height
        line = (self._starts[self.cursor] if self._starts else 0) + screens * height
        line = max(0, min(line, len(self._lines) - 1))
        number = max(self._record_of_line[: line + 1] or [0]) if line else 0
        self._go(max(0, number))

    def action_first(self) -> None:
        self._go(0)

    def action_last(self) -> None:
        self._go(len(self._starts) - 1)

    def action_table(self, tables: int) -> None:
        line = self.current
        if line is None:
            return
        tables_listed: list[TableId] = []
        for start in self._starts:
            other = self._lines[start]
            if isinstance(other, RecordLine) and other.table.table not in tables_listed:
                tables_listed.append(other.table.table)
        place = tables_listed.index(line.table.table) + tables
        self.find_table(tables_listed[max(0, min(place, len(tables_listed) - 1))])

    def on_click(self, event: events.Click) -> None:
        index = event.y + self.scroll_offset.y
        if index < len(self._lines) and self._record_of_line[index] >= 0:
            self._go(self._record_of_line[index])
            if event.chain == 2 and event.button == 1:
                self.post_message(self.RecordWanted(self))


def _key_width(line: RecordLine, width: int) -> int:
    return min(line.key_width, max(_NARROWEST_KEY, width // 5))


def _room(line: RecordLine, width: int) -> int:
    """How many cells there are behind a record's sign and key."""
    return width - 1 - 2 - _key_width(line, width) - 2


def _in_lines(line: RecordLine, counts: Sequence[int], most: int) -> Iterator[RecordLine]:
    """A whole record over several lines, the last of which has all that is left."""
    if len(counts) == 1:
        yield line
        return
    start = 0
    for number, count in enumerate(counts[:most]):
        is_last = number + 1 in (most, len(counts))
        end = None if is_last else start + count
        yield line._replace(cells=(start, end), first=line.first and not number)
        start += count


def _before(cell: CellChange) -> list[Piece]:
    if isinstance(cell.before, NoValue):
        return [Piece("new column", "clip")]
    return pieces(cell.before)


def _lines(changes: Changes, nothing: Sequence[str]) -> Iterator[Line]:
    if changes.empty and not changes.unread:
        yield TextLine("")
        yield TextLine(f"Nothing but noise: {hidden_words(changes.hidden)}. X shows them.")
        yield from map(TextLine, nothing[1:])
        return
    if changes.schema_changes:
        yield TextLine("schema", heading=True)
        for entry in changes.schema_changes:
            words = schema_words(entry)
            detail = "" if "," in words else entry.after or entry.before or ""
            first_line = "".join(piece.text for piece in pieces(detail, 120)) if detail else ""
            yield TextLine(words.replace(": ", "  ", 1), first_line, "changed")
    for table in changes.tables:
        if table.counts.total:
            yield TextLine(safe_name(table.table), table.counts.marked(), heading=True)
            yield from _table_lines(table)
    for unread in changes.unread:
        yield TextLine(f"! {safe_name(unread.table)}", f"not compared: {unread.reason}", "removed")


def _table_lines(table: TableChanges) -> Iterator[Line]:
    sample = table.records[:500]
    key_width = max((len(record_name(table, record)) for record in sample), default=1)
    key_width = min(_WIDEST_KEY, max(3, key_width))
    names = [len(safe_name(cell.column)) for record in sample for cell in record.cells]
    name_width = min(_WIDEST_NAME, max(names, default=1))
    from jondel.core.diff.key_changes import rekeyed_records  # not needed for the first rows

    pairs = rekeyed_records(table)
    left_out = {id(pair.removed) for pair in pairs}
    rekeyed = {id(pair.added): pair.removed for pair in pairs}
    for record in table.records:
        if id(record) in left_out:
            continue
        if id(record) in rekeyed:
            was = rekeyed[id(record)]
            yield RecordLine(table, record, None, True, key_width, name_width, was)
            continue
        cells: tuple[CellChange | None, ...] = record.cells or (None,)
        for index, cell in enumerate(cells):
            line = RecordLine(table, record, cell, index == 0, key_width, name_width)
            yield from _cell_lines(line) if cell is not None and cell.inside else (line,)
    hidden = table.counts.total - len(table.records)
    if hidden:
        more = "1 more record" if hidden == 1 else f"{hidden} more records"
        yield TextLine(f"… {more} of this table are not listed")


def _cell_lines(line: RecordLine) -> Iterator[RecordLine]:
    """A line for each place at which a cell's values differ."""
    assert line.cell is not None
    places = list(cell_parts(line.cell))
    most = _MOST_INSIDE if len(places) > _MOST_INSIDE + 1 else len(places)
    for number, parts in enumerate(places[:most]):
        yield line._replace(inside=parts, names_cell=not number, first=line.first and not number)
    if places[most:]:
        more = Part(f"… {len(places) - most} more parts of it differ: the card has them", "path")
        yield line._replace(inside=(more,), names_cell=False, first=False)


def hidden_words(hidden: int) -> str:
    """How many records noise rules hide."""
    return "1 record is hidden" if hidden == 1 else f"{hidden} records are hidden"
