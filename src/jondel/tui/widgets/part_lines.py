"""Lines of parts, each in a style of its own, that scroll; some of them can be chosen."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from rich.cells import cell_len
from rich.segment import Segment
from rich.style import Style
from textual import events
from textual.binding import Binding
from textual.geometry import Size
from textual.message import Message
from textual.scroll_view import ScrollView
from textual.strip import Strip

from jondel.tui.widgets.cell_text import fitted_text
from jondel.tui.widgets.styles import ink

Parts = Sequence[tuple[str, str]]
"""Pieces of text with their styles: strong, dim, plain, added, changed, removed, draft, sea."""


class PartLine(NamedTuple):
    """A line. One with ``chosen`` can be gone to; that is what it stands for."""

    parts: Parts
    chosen: object = None
    heading: bool = False


class PartLines(ScrollView, can_focus=True):
    """The lines, and a cursor on one of those that can be gone to."""

    BINDINGS = [
        Binding("up", "move(-1)", "line up", show=False),
        Binding("down", "move(1)", "line down", show=False),
        Binding("pageup", "page(-1)", "a screen up", show=False),
        Binding("pagedown", "page(1)", "a screen down", show=False),
        Binding("home", "end(0)", "first line", show=False),
        Binding("end", "end(-1)", "last line", show=False),
    ]
    DEFAULT_CSS = "PartLines { background: $background; scrollbar-size: 1 1; overflow-x: hidden; }"

    class Moved(Message):
        """The cursor is on another line."""

        def __init__(self, lines: PartLines) -> None:
            super().__init__()
            self.lines = lines

        @property
        def control(self) -> PartLines:
            return self.lines

    class Wanted(Message):
        """The current line was clicked twice."""

        def __init__(self, lines: PartLines) -> None:
            super().__init__()
            self.lines = lines

        @property
        def control(self) -> PartLines:
            return self.lines

    def __init__(self, *, id: str | None = None, classes: str | None = None) -> None:
        super().__init__(id=id, classes=classes)
        self._shown: list[PartLine] = []
        self._stops: list[int] = []
        self._cursor = 0

    def show(self, lines: Sequence[PartLine]) -> None:
        """Show other lines; the cursor stays on what it is on, where that is still there."""
        was, place = self.chosen, self._cursor
        self._shown = list(lines)
        self._stops = [n for n, line in enumerate(self._shown) if line.chosen is not None]
        same = [at for at, n in enumerate(self._stops) if self._shown[n].chosen == was]
        self._cursor = same[0] if same else max(0, min(place, len(self._stops) - 1))
        self.virtual_size = Size(self.scrollable_content_region.width, len(self._shown))
        self.refresh()

    @property
    def chosen(self) -> object:
        """What the cursor's line stands for; None where there is nothing to choose."""
        if not self._stops:
            return None
        return self._shown[self._stops[min(self._cursor, len(self._stops) - 1)]].chosen

    def choose(self, wanted: object) -> None:
        """Put the cursor on the line of something, if it is there."""
        for at, number in enumerate(self._stops):
            if self._shown[number].chosen == wanted:
                self._go(at)
                return

    def render_line(self, y: int) -> Strip:
        width = self.scrollable_content_region.width
        index = y + self.scroll_offset.y
        base = self.rich_style
        if index >= len(self._shown):
            return Strip.blank(width, base)
        line = self._shown[index]
        current = bool(self._stops) and index == self._stops[self._cursor]
        if line.heading:
            base = base + ink(self, "brass", on="surface", bold=True)
        elif current:
            base = base + ink(self, on="row-current")
        pointer = "▌" if current and self.has_focus else " "
        segments = [Segment(pointer, base + ink(self, "brass"))]
        room = width - 1
        for text, name in line.parts:
            if room <= 0:
                break
            cells = cell_len(text)
            shown = text if cells <= room else fitted_text(text, room)
            segments.append(Segment(shown, base + self._style(name, heading=line.heading)))
            room -= cells
        return Strip(segments).adjust_cell_length(width, base)

    def _style(self, name: str, *, heading: bool) -> Style:
        if heading:
            return Style()
        match name:
            case "strong":
                return ink(self, "sand", bold=True)
            case "dim":
                return ink(self, "sand-dim")
            case "plain":
                return ink(self, "sand")
        return ink(self, name, bold=name in ("added", "changed", "removed", "brass"))

    # Going about

    def _go(self, at: int) -> None:
        self._cursor = max(0, min(at, len(self._stops) - 1))
        if self._stops:
            line = self._stops[self._cursor]
            # The lines above the first that can be gone to are seen, too.
            line = 0 if self._cursor == 0 else line
            top, height = self.scroll_offset.y, self.scrollable_content_region.height
            if line < top or line >= top + height:
                wanted = line if line < top else line - height + 1
                self.scroll_to(0, wanted, animate=False, force=True)
        self.post_message(self.Moved(self))
        self.refresh()

    def action_move(self, by: int) -> None:
        if self._stops:
            self._go(self._cursor + by)
        else:
            self.scroll_to(0, self.scroll_offset.y + by, animate=False, force=True)

    def action_page(self, by: int) -> None:
        height = max(1, self.scrollable_content_region.height - 1)
        if not self._stops:
            self.scroll_to(0, self.scroll_offset.y + by * height, animate=False, force=True)
            return
        wanted = self._stops[self._cursor] + by * height
        nearest = min(range(len(self._stops)), key=lambda at: abs(self._stops[at] - wanted))
        self._go(nearest)

    def action_end(self, at: int) -> None:
        if self._stops:
            self._go(0 if at == 0 else len(self._stops) - 1)
        else:
            self.scroll_to(0, 0 if at == 0 else len(self._shown), animate=False, force=True)

    def on_click(self, event: events.Click) -> None:
        line = event.y + self.scroll_offset.y
        if line in self._stops:
            again = self._stops[self._cursor] == line and event.chain == 2
            self._go(self._stops.index(line))
            if again:
                self.post_message(self.Wanted(self))

    def on_focus(self) -> None:
        self.refresh()

    def on_blur(self) -> None:
        self.refresh()

    def on_resize(self) -> None:
        self.virtual_size = Size(self.scrollable_content_region.width, len(self._shown))
