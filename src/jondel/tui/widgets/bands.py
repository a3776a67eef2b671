"""One-line bands: the masthead, and the title lines of panes."""

from __future__ import annotations

from collections.abc import Sequence

from rich.cells import cell_len
from rich.segment import Segment
from rich.style import Style
from rich.text import Text
from textual import events
from textual.geometry import Region
from textual.message import Message
from textual.strip import Strip
from textual.widget import Widget

from jondel.tui.widgets.styles import ink


class Band(Widget):
    """A line of parts, each with a style name; parts that do not fit are cut with a sign."""

    DEFAULT_CSS = "Band { height: 1; }"

    class PartClicked(Message):
        """A part was clicked; ``part`` counts those on the left from 0."""

        def __init__(self, band: Band, part: int) -> None:
            super().__init__()
            self.band = band
            self.part = part

        @property
        def control(self) -> Band:
            return self.band

    def __init__(self, *, id: str | None = None, classes: str | None = None) -> None:
        super().__init__(id=id, classes=classes)
        self._left: Sequence[tuple[str, str]] = ()
        self._right: Sequence[tuple[str, str]] = ()
        self._drawn: tuple[tuple[str, int], Strip] | None = None

    def render_lines(self, crop: Region) -> list[Strip]:
        # Titles change with every move, and the toolkit's way to the screen is long.
        width = self.size.width
        if self.app.no_color or crop.size != (width, 1):
            return super().render_lines(crop)
        key = (self.app.theme, width)
        if self._drawn is None or self._drawn[0] != key:
            ground = self.rich_style
            segments = Segment.apply_style(self.render().render(self.app.console), ground)
            self._drawn = key, Strip(segments).adjust_cell_length(width, ground)
        return [self._drawn[1]]

    def show(self, left: Sequence[tuple[str, str]], right: Sequence[tuple[str, str]] = ()) -> None:
        """Show parts, each a text and one of strong, plain, dim, draft, flag, watch."""
        if (left, right) != (self._left, self._right):
            self._left, self._right = left, right
            self._drawn = None
            self.refresh()

    def on_click(self, event: events.Click) -> None:
        end = 0
        for number, (text, _) in enumerate(self._left):
            end += cell_len(text)
            if event.x < end:
                if event.button == 1:
                    self.post_message(self.PartClicked(self, number))
                return

    def render(self) -> Text:
        width = self.size.width
        tail = self._styled(self._right)
        head = self._styled(self._left)
        if tail.cell_len + 4 > width:
            tail = Text()
        room = width - tail.cell_len
        if head.cell_len > room:
            gap = 1 if tail.cell_len else 0
            head.truncate(max(0, room - 1 - gap), overflow="crop")
            head.append("…" + " " * gap, self._style("dim"))
        head.append(" " * (room - head.cell_len))
        head.append_text(tail)
        head.no_wrap = True
        return head

    def _styled(self, parts: Sequence[tuple[str, str]]) -> Text:
        text = Text(no_wrap=True)
        for words, name in parts:
            text.append(words, self._style(name))
        return text

    def _style(self, name: str) -> Style:
        match name:
            case "strong":
                return ink(self, "brass", bold=True)
            case "flag":
                return ink(self, "ink", on="brass", bold=True)
            case "watch":
                return ink(self, "ink", on="sea", bold=True)
            case "draft":
                return ink(self, "draft", bold=True)
            case "dim":
                return ink(self, "sand-dim")
            case _:
                return ink(self, "sand")


def show_band(
    above: Widget, band: Band, parts: Sequence[tuple[str, str]], before: int | str | None = None
) -> None:
    """Show parts in a band that is only there when it is needed; without any it is away.

    ``before`` says before which of the other widgets it belongs; at the end for None.
    """
    if parts:
        band.display = True
        band.show(parts)
        if band.parent is None and above.is_attached:
            above.mount(band, before=before)
    else:
        band.display = False
