"""The box that statements are written in."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import lru_cache

from rich.style import Style
from rich.text import Text
from textual import events
from textual.binding import Binding
from textual.message import Message

from jondel.core.query.lets import chosen_of
from jondel.core.sql.dialect import Dialect
from jondel.core.sql.tokens import Lexis, tokens
from jondel.tui.widgets.styles import ink
from jondel.tui.widgets.text_fields import TextBox

_MOST_COLOURED = 200_000
"""Characters; a longer script is left plain, so that typing in it never waits."""
_INKS = {"string": "sea", "blob": "sea", "number": "sea", "parameter": "draft",
         "comment": "sand-dim", "loose quote": "removed"}  # fmt: skip


class StatementBox(TextBox):
    """Any number of lines of SQL, in colours."""

    BINDINGS = [
        Binding("tab", "take_way", "take what is offered", show=False),
        Binding("shift+tab", "outdent", "less indented", show=False),
        Binding("ctrl+n", "other_way", "another of those that are offered", show=False),
    ]

    class WayWanted(Message):
        """What is offered to go on with is to be taken, or something ``else_`` is to be offered."""

        def __init__(self, *, else_: bool = False) -> None:
            super().__init__()
            self.else_ = else_

    def __init__(self, dialect: Dialect, *, id: str | None = None) -> None:
        super().__init__(id=id)
        self.dialect = dialect
        self.highlight_cursor_line = False  # its ink would cover ours
        self._marked: list[tuple[int, int]] = []

    class Pasted(Message):
        """A text was pasted into an empty box, or all of it was replaced."""

        def __init__(self, text: str) -> None:
            super().__init__()
            self.text = text

    def on_paste(self, event: events.Paste) -> None:
        replaced = self.selected == (0, len(self.text))
        super().on_paste(event)
        if replaced:
            self.post_message(self.Pasted(event.text.replace("\r\n", "\n").replace("\r", "\n")))

    # The text by characters

    @property
    def cursor_at(self) -> int:
        """Where the cursor is, in characters from the beginning."""
        return self._place(self.cursor_location)

    @property
    def selected(self) -> tuple[int, int]:
        """Where the selection begins and ends, in characters."""
        ends = sorted(map(self._place, self.selection))
        return ends[0], ends[1]

    def _place(self, location: tuple[int, int]) -> int:
        row, column = location
        lines = self.document.lines
        return sum(len(line) + 1 for line in lines[:row]) + column

    def _location(self, place: int) -> tuple[int, int]:
        before = self.text[:place]
        return before.count("\n"), len(before) - before.rfind("\n") - 1

    def put(self, start: int, end: int, text: str) -> None:
        """Put a text in place of some characters, with the cursor behind it."""
        done = self.replace(
            text, self._location(start), self._location(end), maintain_selection_offset=False
        )
        self.move_cursor(done.end_location)

    def go_to(self, place: int) -> None:
        """Put the cursor at a character."""
        self.move_cursor(self._location(max(0, place)))

    def chosen_text(self) -> str:
        """What is to be run: the selection, else the statement at the cursor, with the values that
        are named before all statements; empty where there is neither."""
        start, end = self.selected
        if start == end:
            start = end = self.cursor_at
        return self._field_text.take_out(chosen_of(self.text, start, end, self.dialect))

    # How it looks

    def get_line(self, line_index: int) -> Text:
        line = super().get_line(line_index)
        if len(self.text) > _MOST_COLOURED:
            return line
        spans = _spans(self.text, self.dialect.lexis, self.dialect.reserved)
        for start, end, name in spans.get(line_index, ()):
            line.stylize(ink(self, "brass" if name == "keyword" else name), start, end)
        begins = self._place((line_index, 0))
        for first, last in self._marked:
            if first < begins + len(line.plain) + 1 and last > begins:
                wrong = ink(self, "removed") + Style(underline=True)
                line.stylize(wrong, max(0, first - begins), max(0, last - begins))
        return line

    def action_take_way(self) -> None:
        """Take what is offered, or indent at the beginning of a line."""
        row, column = self.cursor_location
        if not self.document.get_line(row)[:column].strip():
            self.indent()
        else:
            self.post_message(self.WayWanted())

    def action_other_way(self) -> None:
        """Offer another way to go on."""
        self.post_message(self.WayWanted(else_=True))

    def mark(self, places: Sequence[tuple[int, int]]) -> None:
        """Mark characters at which something is wrong."""
        if list(places) != self._marked:
            self._marked = list(places)
            self._line_cache.clear()
            self.refresh()

    def indent(self) -> None:
        """Go on to the next stop for indented text."""
        column = self.cursor_location[1]
        self.insert(" " * (4 - column % 4))

    def action_outdent(self) -> None:
        """Take up to four blanks from the beginning of the line."""
        row = self.cursor_location[0]
        line = self.document.get_line(row)
        blanks = min(4, len(line) - len(line.lstrip(" ")))
        if blanks:
            self.delete((row, 0), (row, blanks))


@lru_cache(maxsize=8)
def _spans(
    text: str, lexis: Lexis, keywords: frozenset[str]
) -> dict[int, list[tuple[int, int, str]]]:
    """By line, where something stands that is coloured."""
    lines: dict[int, list[tuple[int, int, str]]] = {}
    starts = [0, *(n + 1 for n, character in enumerate(text) if character == "\n")]
    row = 0
    for start, end, name in _coloured(text, lexis, keywords):
        while row + 1 < len(starts) and starts[row + 1] <= start:
            row += 1
        at = row
        while at < len(starts) and starts[at] < end:
            last = starts[at + 1] - 1 if at + 1 < len(starts) else len(text)
            begins = max(start, starts[at]) - starts[at]
            lines.setdefault(at, []).append((begins, min(end, last) - starts[at], name))
            at += 1
    return lines


def _coloured(text: str, lexis: Lexis, keywords: frozenset[str]) -> Iterator[tuple[int, int, str]]:
    for token in tokens(text, lexis):
        if token.kind == "word":
            if token.text.upper() in keywords or token.text.upper() in _MORE_KEYWORDS:
                yield token.start, token.end, "keyword"
        elif token.kind in _INKS:
            yield token.start, token.end, _INKS[token.kind]


_MORE = """
ASC BEGIN BY CASCADE COLUMN CROSS DESC END EXPLAIN FALSE FIRST FULL IF INNER KEY LAST LEFT LIKE
NATURAL NULLS OFFSET OUTER OVER PARTITION PLAN PRAGMA QUERY RECURSIVE REPLACE RIGHT ROLLBACK
SAVEPOINT TEMP TEMPORARY TRIGGER TRUE TRUNCATE VACUUM VIEW WINDOW WITH WITHOUT
"""
_MORE_KEYWORDS = frozenset(_MORE.split())
"""Beside those that are reserved."""
