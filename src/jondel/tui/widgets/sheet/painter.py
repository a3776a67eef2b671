"""Draws the lines of the sheet. Every key paints a screen of them, so this is made to be quick."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import TypeAlias

from rich.segment import Segment
from rich.style import Style
from textual.strip import Strip
from textual.widget import Widget

from jondel.core.browse.display import EMPTY_SIGN, NULL_SIGN, Piece, Role, number_text, pieces
from jondel.core.model.values import ShownRow, Value
from jondel.tui.widgets.cell_text import fitted, fitted_text
from jondel.tui.widgets.sheet.columns import GAP, GUTTER, SheetColumns
from jondel.tui.widgets.sheet.row_marks import CHOSEN_MARK, RowLook
from jondel.tui.widgets.styles import ink, value_style

_ROLES: tuple[Role, ...] = ("text", "number", "null", "empty", "blob", "mark", "clip")
_GAP = " " * GAP
_Cells: TypeAlias = Callable[[Iterable[int], Sequence[int]], list[Segment]]


class SheetPainter:
    """The styles of one theme, and how lines are put together from them."""

    def __init__(self, widget: Widget, ground: Style) -> None:
        self._widget = widget
        self.ground = ground
        current = ground + ink(widget, on="row-current")
        self._bases = (ground, current)
        self._roles = tuple(
            {role: base + value_style(widget, role) for role in _ROLES} for base in self._bases
        )
        self._focused = ground + ink(widget, "ink", on="brass")
        self._unfocused = ground + ink(widget, "sand", on="rail")
        self._head = ink(widget, "sand", on="surface")
        self._head_current = ink(widget, "brass", on="surface", bold=True)
        self._remark = ink(widget, "sand-dim", on="surface")
        self._loud: dict[tuple[str, bool, bool], Style] = {}
        self._blank = Strip([], 0)

    def head(self, columns: SheetColumns, current: int, x: int, width: int) -> Strip:
        """The line of names."""
        return self._heading(columns, columns.names, self._head, current, x, width)

    def remarks(self, columns: SheetColumns, current: int, x: int, width: int) -> Strip:
        """The line of what is declared of the columns."""
        return self._heading(columns, columns.remarks, self._remark, current, x, width)

    def _heading(
        self,
        columns: SheetColumns,
        texts: Sequence[str],
        plain: Style,
        current: int,
        x: int,
        width: int,
    ) -> Strip:
        def cells(places: Iterable[int], sizes: Sequence[int]) -> list[Segment]:
            segments = []
            for place, size in zip(places, sizes, strict=True):
                style = self._head_current if place == current else plain
                right = columns.right[place]
                parts = fitted([Piece(texts[place], "text")], size, right=right)
                segments.append(Segment("".join(part.text for part in parts), style))
                segments.append(Segment(_GAP, plain))
            return segments

        strip = self._placed(columns, cells, Segment(" " * GUTTER, plain), plain, x, width)
        frozen = columns.frozen_edge
        if x > 0 and frozen < width:
            sign = Strip([Segment("‹", self._head_current)], 1)
            strip = Strip.join([strip.crop(0, frozen - 1), sign, strip.crop(frozen)])
        if x + width < columns.total_width:
            sign = Strip([Segment("›", self._head_current)], 1)
            strip = Strip.join([strip.crop(0, width - 1), sign])
        return strip

    def row(
        self,
        columns: SheetColumns,
        row: ShownRow,
        look: RowLook,
        *,
        current: bool,
        current_place: int,
        focused: bool,
        x: int,
        width: int,
    ) -> Strip:
        """The line of a row; ``current_place`` counts only on the current one."""
        base = self._bases[current]
        roles = self._roles[current]
        loud = self._loud_style(look.colour, current, look.struck) if look.colour else None

        def cells(places: Iterable[int], sizes: Sequence[int]) -> list[Segment]:
            segments: list[Segment] = []
            text, style = "", base
            for place, size in zip(places, sizes, strict=True):
                field = columns.fields[place]
                value, right = row[field], columns.right[place]
                simple = _simple(value, size, right)
                special: Style | None = None
                if loud is not None and (look.cells is None or field in look.cells):
                    special = loud
                if current and place == current_place:
                    special = self._focused if focused else self._unfocused
                    if loud is not None:
                        special += Style(bold=True, strike=look.struck or None)
                if simple is not None:
                    role: Role = "null" if value is None else "empty" if value == "" else "text"
                    parts: tuple[tuple[str, Style], ...] = ((simple, special or roles[role]),)
                else:
                    parts = tuple(
                        (piece.text, special or roles[piece.role])
                        for piece in fitted(pieces(value, size + 1), size, right=right)
                    )
                for characters, wanted in parts:
                    if wanted is not style:
                        if text:
                            segments.append(Segment(text, style))
                        text, style = "", wanted
                    text += characters
                if special is None and not current:
                    text += _GAP  # blanks look alike in all of these styles
                else:
                    segments.append(Segment(text, style))
                    text, style = _GAP, base
            if text:
                segments.append(Segment(text, style))
            return segments

        sign = loud if loud is not None else base
        mark = CHOSEN_MARK if look.chosen else " "
        if look.chosen:
            sign = self._loud_style("brass", current, False) if loud is None else sign
        gutter = Segment(f"{look.sign}{mark}", sign)
        return self._placed(columns, cells, gutter, base, x, width)

    def words(self, text: str, width: int, *, current: bool = False) -> Strip:
        """A line of words in place of a row."""
        style = self._roles[current]["clip"]
        return Strip([Segment(fitted_text(text, width), style)], width)

    def problem(self, text: str, width: int) -> Strip:
        """A line of what is wrong."""
        style = self.ground + ink(self._widget, "removed")
        return Strip([Segment(fitted_text(text, width), style)], width)

    def blank(self, width: int) -> Strip:
        """A line with nothing on it: the same each time, for it remembers how it was cut."""
        if self._blank.cell_length != width:
            self._blank = Strip.blank(width, self.ground)
        return self._blank

    def _loud_style(self, colour: str, current: bool, struck: bool) -> Style:
        key = (colour, current, struck)
        if key not in self._loud:
            style = self._bases[current] + ink(self._widget, colour, bold=True)
            self._loud[key] = style + Style(strike=True) if struck else style
        return self._loud[key]

    def _placed(
        self,
        columns: SheetColumns,
        cells: _Cells,
        gutter: Segment,
        base: Style,
        x: int,
        width: int,
    ) -> Strip:
        """Put the gutter, the columns that stay and the others, scrolled by ``x``, side by side."""
        frozen, widths = columns.frozen_edge, columns.widths
        still = range(columns.frozen)
        segments = [gutter, *cells(still, widths[: columns.frozen])]
        places = columns.scrolled(x, width)
        if not places:
            return Strip(segments).adjust_cell_length(width, base)
        sizes = widths[places.start : places.stop]
        skipped = frozen + x - columns.edges[places.start]
        end = columns.edges[places.stop] - x
        if end - GAP > width:
            # The last one is cut, which its text then shows; what is left of it may be nothing.
            sizes[-1] = max(0, sizes[-1] - (end - GAP - width))
            end = width + GAP
        moving = cells(places, sizes)
        if skipped > 0:
            moving = list(Strip(moving).crop(skipped, skipped + max(0, width - frozen)))
            return Strip([*segments, *moving]).adjust_cell_length(width, base)
        segments += moving
        if end < width:
            segments.append(Segment(" " * (width - end), base))
            return Strip(segments, width)
        if end > width:  # by no more than the gap behind the last column
            text, style, _ = segments[-1]
            segments[-1] = Segment(text[: width - end], style)
        return Strip(segments, width)


def _simple(value: Value, width: int, right: bool) -> str | None:
    """The cell's text where nothing about it needs care, and it fits."""
    kind = value.__class__
    if kind is str:
        text: str = value  # type: ignore[assignment]
        if not text and width >= len(EMPTY_SIGN):
            text = EMPTY_SIGN
        elif (
            not text
            or len(text) > width
            or not (text.isascii() and text.isprintable())
            or text[0] == " "
            or text[-1] == " "
        ):
            return None
    elif kind is int:
        text = str(value)
        if len(text) > width:
            return None
    elif value is None:
        text = NULL_SIGN
    elif kind is float:
        text = number_text(value)  # type: ignore[arg-type]
        if len(text) > width:
            return None
    else:
        return None
    return text.rjust(width) if right else text.ljust(width)
