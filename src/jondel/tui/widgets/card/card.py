"""The card: one record, shown vertically, every value in full, with the records linked to it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, cast

from rich.cells import cell_len, chop_cells
from rich.segment import Segment
from rich.style import Style
from textual import events
from textual.binding import Binding
from textual.geometry import Size
from textual.message import Message
from textual.strip import Strip

from jondel.core.browse.display import Role
from jondel.core.formats.inside_text import Role as InsideRole
from jondel.core.model.changes import RecordChange, TableChanges
from jondel.core.model.schema import Table
from jondel.core.model.values import ShownRow, Value
from jondel.tui.widgets.card.content import (
    CardLine,
    CardView,
    FieldSpot,
    FoldSpot,
    LinkSpot,
    Run,
    Spot,
    change_lines,
    link_lines,
    record_lines,
)
from jondel.tui.widgets.lines import LinesView
from jondel.tui.widgets.styles import change_style, ink, inside_style, value_style

if TYPE_CHECKING:
    from jondel.core.browse.link_tree import LinkLine, LinkNode, RecordNode

_MARGIN = 1
_NARROWEST = 8
"""Cells to wrap into at least; a card that is folded away has none."""
_INKS = {"name": "sand-dim", "type": "sea", "time": "sea", "flag": "removed", "draft": "draft"}
_MORE_INKS = {"link-target": "brass", "guess": "sand-dim"}


class Card(LinesView, can_focus=True):
    """The current record, or what happened to a record. Long lines wrap, at any character."""

    BINDINGS = [
        Binding("up", "move(-1)", "up", show=False),
        Binding("down", "move(1)", "down", show=False),
        Binding("pageup", "page(-1)", "a screen up", show=False),
        Binding("pagedown", "page(1)", "a screen down", show=False),
        Binding("home", "move(-100000)", "to the first field", show=False),
        Binding("end", "move(100000)", "to the last line", show=False),
        Binding("right", "unfold(True)", "unfold", show=False),
        Binding("left", "unfold(False)", "fold", show=False),
        Binding("enter", "go", "go to the linked record; read on, unfold", show=False),
    ]
    DEFAULT_CSS = "Card { background: $surface; overflow-x: hidden; scrollbar-size: 1 1; }"

    class LinkUnfolded(Message):
        """A link, or a record at the end of one, is open now, and what is in it not known yet."""

        def __init__(self, card: Card, node: LinkNode | RecordNode) -> None:
            super().__init__()
            self.card = card
            self.node = node

        @property
        def control(self) -> Card:
            return self.card

    class Walked(Message):
        """The person wants to go where a link, or a record at the end of one, leads."""

        def __init__(self, card: Card, line: LinkLine) -> None:
            super().__init__()
            self.card = card
            self.line = line

        @property
        def control(self) -> Card:
            return self.card

    class MoreWanted(Message):
        """The person wants to read on in a value of which the card has only the beginning."""

        def __init__(self, card: Card, column: str) -> None:
            super().__init__()
            self.card = card
            self.column = column

        @property
        def control(self) -> Card:
            return self.card

    def __init__(self, *, id: str | None = None) -> None:
        super().__init__(id=id)
        self._shown: tuple[Table, ShownRow, RecordChange | None] | None = None
        self._view = CardView()
        self._unfolded: set[FoldSpot] = set()
        self._links: Sequence[LinkNode] = ()
        self._content: list[CardLine] = []
        self._wrapped: list[tuple[int, list[Run], int]] = []
        self._wrapped_for = 0
        self._cursor: Spot | None = None
        self._strips: dict[int, Strip] = {}
        self._styles: dict[str, Style] = {}
        self._theme = ""
        self._base = Style()
        self._blank = Strip([], 0)

    # What is shown

    def show_record(
        self,
        table: Table,
        row: ShownRow,
        change: RecordChange | None = None,
        *,
        readings: Mapping[str, str] | None = None,
        edited: Mapping[str, Value] | None = None,
    ) -> None:
        """Show a record's values, marking the cells by which it changed.

        ``readings`` say by column how values read as times; ``edited`` are values of a draft.
        """
        same_table = self._shown is not None and self._shown[0].id == table.id
        same_row = same_table and self._shown is not None and self._shown[1] is row
        self._shown = (table, row, change)
        self._view = CardView(self._unfolded, readings or {}, edited or {})
        if not same_table:
            self._unfolded.clear()
            self._cursor = None
        if not same_row:
            self._links = ()
        self._build(keep_place=same_table)

    @property
    def links(self) -> Sequence[LinkNode]:
        """The links that are shown."""
        return self._links

    def show_links(self, links: Sequence[LinkNode]) -> None:
        """Show the record's links below its values."""
        self._links = links
        self._build(keep_place=True)

    def refresh_links(self) -> None:
        """More is known of the links shown."""
        self._build(keep_place=True)

    def show_change(self, changes: TableChanges, record: RecordChange) -> None:
        """Show what happened to a record: all its values, before and after where they differ."""
        self._shown, self._links = None, ()
        self._take(list(change_lines(changes, record, CardView(self._unfolded))), keep_place=False)

    def clear(self, words: str = "") -> None:
        """Show a sentence in place of a record."""
        self._shown, self._links = None, ()
        self._take([CardLine(0, [(words, "name")])], keep_place=False)

    def _build(self, *, keep_place: bool) -> None:
        if self._shown is None:
            return
        lines = list(record_lines(*self._shown, self._view))
        if self._links:
            lines += [CardLine(0, [("", "name")]), *link_lines(self._links, self._view)]
        self._take(lines, keep_place=keep_place)

    @property
    def text(self) -> str:
        """All of the card as plain text, a line a field's name or line of a value."""
        return "\n".join(
            " " * indent + "".join(characters for characters, _ in runs)
            for indent, runs, _ in self._content
        )

    @property
    def column(self) -> str:
        """The column whose field the cursor is on or in; empty where it is elsewhere."""
        return self._cursor.column if isinstance(self._cursor, FieldSpot | FoldSpot) else ""

    @property
    def link(self) -> LinkLine | None:
        """The link or linked record that the cursor is on."""
        if not isinstance(self._cursor, LinkSpot):
            return None
        from jondel.core.browse.link_tree import lines_of_links

        lines = list(lines_of_links(self._links))
        return lines[self._cursor.number] if self._cursor.number < len(lines) else None

    def _take(self, content: list[CardLine], *, keep_place: bool) -> None:
        if content == self._content:
            return
        self._content = content
        self._wrap()
        spots = {line.spot for line in content}
        if self._cursor not in spots:
            self._cursor = None
        if keep_place:
            self.scroll_to(None, min(self.scroll_y, self.max_scroll_y), animate=False)
        else:
            self.scroll_to(0, 0, animate=False)

    # Drawing

    def _wrap(self) -> None:
        self._wrap_to(self.scrollable_content_region.width)
        size = Size(self._wrapped_for, len(self._wrapped))
        if size != self.virtual_size:
            self.virtual_size = size
        self.refresh()

    def _wrap_to(self, width: int) -> None:
        self._wrapped_for = width
        self._strips.clear()
        self._wrapped = [
            (line.indent, wrapped, number)
            for number, line in enumerate(self._content)
            for wrapped in wrapped_runs(
                line.runs, max(_NARROWEST, width - line.indent - 2 * _MARGIN)
            )
        ]

    def on_resize(self, event: events.Resize) -> None:
        width = self.scrollable_content_region.width
        if Size(width, len(self._wrapped)) != self.virtual_size or width != self._wrapped_for:
            self._wrap()

    def watch_has_focus(self, value: bool) -> None:
        super().watch_has_focus(value)
        self._strips.clear()
        self.refresh()

    def about_to_draw(self, width: int) -> None:
        if width != self._wrapped_for:  # drawn for the first time before the resize is told
            self._wrap_to(width)
        theme = self.app.current_theme.name
        if theme != self._theme:
            self._theme, self._base = theme, self.rich_style
            self._blank = Strip([], 0)
            self._styles.clear()
            self._strips.clear()

    def line_strip(self, y: int, width: int) -> Strip:
        index = y + self.scroll_offset.y
        if index >= len(self._wrapped):
            if self._blank.cell_length != width:
                self._blank = Strip.blank(width, self._base)
            return self._blank
        strip = self._strips.get(index)
        if strip is None or strip.cell_length != width:
            indent, runs, number = self._wrapped[index]
            spot = self._content[number].spot
            current = self.has_focus and spot is not None and spot == self._cursor
            base = self._base + ink(self, on="row-current") if current else self._base
            ground = ink(self, on="row-current") if current else Style()
            segments = [Segment(" " * (indent + _MARGIN), base)]
            segments += [Segment(chars, self._style(name) + ground) for chars, name in runs]
            strip = Strip(segments).adjust_cell_length(width, base)
            self._strips[index] = strip
        return strip

    def _style(self, name: str) -> Style:
        style = self._styles.get(name)
        if style is None:
            if name.startswith("inside-"):
                own = inside_style(self, cast(InsideRole, name.removeprefix("inside-")))
            elif name == "changed":
                own = change_style(self, "changed")
            elif name in _INKS or name in _MORE_INKS:
                italic = True if name in ("time", "guess") else None
                own = ink(self, _INKS.get(name) or _MORE_INKS[name], italic=italic)
            else:
                own = value_style(self, cast(Role, name))
            style = self._styles[name] = self._base + own
        return style

    # Moving

    def _spots(self) -> list[tuple[int, Spot]]:
        """What the cursor can be on, with the first of the wrapped lines of each."""
        places: dict[Spot, int] = {}
        for index, (_, _, number) in enumerate(self._wrapped):
            spot = self._content[number].spot
            if spot is not None:
                places.setdefault(spot, index)
        return [(index, spot) for spot, index in places.items()]

    def go_to_field(self, column: str) -> None:
        """Put the cursor on a field."""
        self._put_cursor(FieldSpot(column))

    def _put_cursor(self, spot: Spot) -> None:
        places = {known: index for index, known in self._spots()}
        if spot not in places:
            return
        self._cursor = spot
        self._strips.clear()
        self.refresh()
        index, top = places[spot], int(self.scroll_target_y)
        height = max(1, self.scrollable_content_region.height)
        if index < top or index >= top + height:
            self.scroll_to(None, max(0, index - height // 3), animate=False, force=True)

    def action_move(self, places: int) -> None:
        spots = self._spots()
        if not spots:
            self.scroll_to(None, self.scroll_y + places, animate=False)
            return
        known = [spot for _, spot in spots]
        at = known.index(self._cursor) if self._cursor in known else (-1 if places > 0 else 0)
        self._put_cursor(known[max(0, min(at + places, len(known) - 1))])

    def action_page(self, screens: int) -> None:
        height = max(1, self.scrollable_content_region.height - 1)
        top = max(0, min(self.scroll_target_y + screens * height, self.max_scroll_y))
        self.scroll_to(None, top, animate=False, force=True)
        inside = [spot for index, spot in self._spots() if top <= index < top + height]
        if inside:
            self._cursor = inside[0]
            self._strips.clear()
            self.refresh()

    def on_click(self, event: events.Click) -> None:
        index = self.scroll_offset.y + event.y
        if index < len(self._wrapped):
            spot = self._content[self._wrapped[index][2]].spot
            if spot is not None and spot == self._cursor and event.chain > 1:
                self.action_go()
            elif spot is not None:
                self._put_cursor(spot)

    def action_unfold(self, opened: bool) -> None:
        """Unfold, or fold, what the cursor is on."""
        line = self.link
        if line is not None:
            node = line.link or line.record
            if node is None or node.open == opened:
                return
            node.open = opened
            self._build(keep_place=True)
            if opened:
                self.post_message(self.LinkUnfolded(self, node))
        elif isinstance(self._cursor, FoldSpot):
            self._fold(self._cursor)

    def _fold(self, spot: FoldSpot) -> None:
        self._unfolded ^= {spot}
        self._build(keep_place=True)
        self._strips.clear()
        self.refresh()

    def action_go(self) -> None:
        """Go where the link leads; elsewhere read on, or fold and unfold."""
        line = self.link
        if line is not None:
            self.post_message(self.Walked(self, line))
        elif isinstance(self._cursor, FoldSpot) and self._cursor.path:
            self._fold(self._cursor)
        elif self.column:
            if isinstance(self._cursor, FoldSpot):
                self._fold(self._cursor)
            self.post_message(self.MoreWanted(self, self.column))


def wrapped_runs(runs: Iterable[Run], width: int) -> Iterator[list[Run]]:
    """Break a line into lines of at most ``width`` cells, which must be 2 or more."""
    line: list[Run] = []
    room = width
    for characters, name in runs:
        rest = characters
        if len(rest) > width and rest.isascii():
            # Each character is a cell: cut without measuring, for a value may be long.
            cuts = range(room, len(rest), width)
            if room:
                line.append((rest[:room], name))
            yield line
            *whole, last = [rest[cut : cut + width] for cut in cuts]
            yield from ([(part, name)] for part in whole)
            line, room = [(last, name)], width - len(last)
            continue
        while cell_len(rest) > room:
            first = chop_cells(rest, room)[0] if room else ""
            if cell_len(first) > room:
                first = ""  # a wide character does not fit any more
            if not first and room == width:
                first = rest[:1]  # whatever it is, go on
            if first:
                line.append((first, name))
                rest = rest[len(first) :]
            yield line
            line, room = [], width
            if cell_len(rest) > width:
                *more, rest = chop_cells(rest, width)
                yield from ([(part, name)] for part in more)
        if rest:
            line.append((rest, name))
            room -= cell_len(rest)
    yield line
