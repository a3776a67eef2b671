"""The dialog in which what is to be expected is looked over: what varies, and what is exact."""

from __future__ import annotations

from collections.abc import Iterator

from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical

from jondel.core.browse.display import safe_name
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import MARKS
from jondel.core.verify.acceptance import varies
from jondel.core.verify.expectation import Expectation, ExpectedTable
from jondel.tui.frame.dialog import Dialog, foot, heading
from jondel.tui.widgets.part_lines import PartLine, PartLines

_MOST_RECORDS = 40
Cell = tuple[TableId, str]
"""A column of a table."""


class AcceptDialog(Dialog[frozenset[Cell] | None]):
    """Shows an expectation that is about to be made; returns the columns that vary beside those
    that were found to, or None."""

    BINDINGS = [
        Binding("escape", "dismiss(None)", "close"),
        Binding("enter", "take", "expect it"),
        Binding("space", "vary", "varies"),
    ]

    def __init__(self, name: str, expectation: Expectation, *, replaces: bool) -> None:
        super().__init__()
        self._called = name
        self._expectation = expectation
        self._replaces = replaces
        self._varying: set[Cell] = set()

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog full tall"):
            replaces = ", instead of what it was so far" if self._replaces else ""
            yield heading(f"Expect this of {safe_name(self._called)!r} from now on{replaces}?")
            yield PartLines(id="expected")
            yield foot("Enter expects it · Space has a column vary, or not · Escape closes")

    def opened(self) -> None:
        self._show()
        self.query_one(PartLines).focus()

    def _show(self) -> None:
        self.query_one(PartLines).show(list(self._lines()))

    def _lines(self) -> Iterator[PartLine]:
        if not self._expectation.tables:
            yield PartLine([("Nothing was written; nothing is to be written.", "plain")])
        for words in self._expectation.schema:
            yield PartLine([(f"schema  {words}", "plain")])
        for table in self._expectation.tables:
            yield PartLine([(safe_name(table.table), "plain")], heading=True)
            yield from self._records(table)
        yield PartLine([("", "plain")])
        yield PartLine([("No other table is to change.", "dim")])

    def _records(self, table: ExpectedTable) -> Iterator[PartLine]:
        for record in table.records[:_MOST_RECORDS]:
            key = " ".join(f"{safe_name(name)} {m.words}" for name, m in record.key)
            times = f" × {record.times.words}" if record.times.least != 1 else ""
            yield PartLine([(f" {MARKS[record.kind]} {key}{times}", record.kind)])
            width = max((len(safe_name(name)) for name, _ in record.cells), default=0)
            for name, matcher in record.cells:
                cell = (table.table, name)
                marked = cell in self._varying
                words = "varies" if marked else matcher.words
                style = "sea" if marked or varies(matcher) else "plain"
                sign = "≈" if style == "sea" else "="
                yield PartLine([(f"   {sign} {safe_name(name):<{width}}  {words}", style)], cell)
            if record.digest:
                yield PartLine([("   = all other cells, by their digest", "plain")])
        left = len(table.records) - _MOST_RECORDS
        if left > 0:
            yield PartLine([(f"   and {left} more records", "dim")])

    def action_vary(self) -> None:
        """Have the column vary, or not."""
        cell = self.query_one(PartLines).chosen
        if isinstance(cell, tuple):
            self._varying ^= {cell}
            self._show()

    def action_take(self) -> None:
        """Expect it so."""
        self.dismiss(frozenset(self._varying))
