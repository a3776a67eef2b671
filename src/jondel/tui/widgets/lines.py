"""Widgets that draw line by line, and do so fast.

The toolkit's way from a line to the screen looks up styles, opacity and borders for every line
anew. A screen of rows has none of these, and is painted with every key: here a line goes to the
compositor as it is.
"""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from rich.segment import Segment
from rich.style import Style
from textual.geometry import Region
from textual.scroll_view import ScrollView
from textual.scrollbar import ScrollBar
from textual.strip import Strip
from textual.widget import Widget

from jondel.tui.widgets.styles import ink


class LinesView(ScrollView):
    """A scrolling view without border and padding, whose lines are drawn by ``line_strip``."""

    def on_mount(self) -> None:
        # The toolkit draws its bars line by line too, and they move with every page.
        for bar in (self.vertical_scrollbar, self.horizontal_scrollbar):
            bar.render_lines = partial(_bar_lines, bar, self)  # type: ignore[method-assign]

    def render_lines(self, crop: Region) -> list[Strip]:
        if self.app.no_color:  # lines must pass through the toolkit's filters then
            return super().render_lines(crop)
        width = self.scrollable_content_region.width
        self.about_to_draw(width)
        strips = [self.line_strip(y, width) for y in crop.line_range]
        bar = self.vertical_scrollbar if crop.right > width else None
        if crop.x == 0 and (crop.right == width or (bar is not None and bar.size.width)):
            return strips  # the bar is drawn beside them
        # The compositor drops lines that are too short; before its first layout the bar is missing.
        ground = self.ground
        return [strip.crop_extend(crop.x, crop.right, ground) for strip in strips]

    def render_line(self, y: int) -> Strip:
        width = self.scrollable_content_region.width
        self.about_to_draw(width)
        return self.line_strip(y, width)

    def about_to_draw(self, width: int) -> None:
        """Called before lines are drawn, for what they share."""

    def line_strip(self, y: int, width: int) -> Strip:
        """The line ``y`` of the view, from 0 at its top, exactly ``width`` cells wide."""
        return Strip.blank(width, self.ground)

    @property
    def ground(self) -> Style:
        """The style of where nothing is."""
        return self.rich_style


# Not a widget itself: style rules come down from the first base class only.
if TYPE_CHECKING:
    _MixedIn = Widget
else:
    _MixedIn = object


class PlainGround(_MixedIn):
    """Has a container draw its background fast; nothing else of it is seen."""

    _ground_strip: tuple[tuple[str, int], Strip] | None = None

    def render_lines(self, crop: Region) -> list[Strip]:
        if self.app.no_color or any(self.gutter):
            return Widget.render_lines(self, crop)
        # The same strip again and again: it remembers how the compositor cut it.
        key = (self.app.theme, crop.width)
        if self._ground_strip is None or self._ground_strip[0] != key:
            self._ground_strip = key, Strip.blank(crop.width, self.rich_style)
        return [self._ground_strip[1]] * crop.height


def _bar_lines(bar: ScrollBar, view: LinesView, crop: Region) -> list[Strip]:
    """A bar: its thumb is as long as the part in view, and at least a cell."""
    length = max(1, bar.size.height if bar.vertical else bar.size.width)
    whole = max(1.0, bar.window_virtual_size)
    thumb = max(1, round(length * min(1.0, bar.window_size / whole)))
    room = max(1.0, whole - bar.window_size)
    start = round((length - thumb) * min(1.0, bar.position / room))
    held = bar.grabbed is not None
    colour = "scrollbar-active" if held else "scrollbar-hover" if bar.mouse_over else "scrollbar"
    on, off = ink(view, on=colour), ink(view, on="scrollbar-background")
    if not bar.vertical:
        parts = ((start, off), (thumb, on), (length - start - thumb, off))
        strip = Strip([Segment(" " * cells, style) for cells, style in parts], length)
        return [strip.crop(crop.x, crop.right)] * crop.height
    blank = " " * crop.width
    strips = [Strip([Segment(blank, style)], crop.width) for style in (off, on)]
    return [strips[start <= y < start + thumb] for y in crop.line_range]
