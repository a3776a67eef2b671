"""The dialog that shows what a step wrote, transaction by transaction."""

from __future__ import annotations

from collections.abc import Iterator

from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical

from jondel.core.formats.changes_text import change_lines
from jondel.tui.frame.dialog import Dialog, foot, heading
from jondel.tui.services.verifying import SeenTransactions
from jondel.tui.widgets.part_lines import PartLine, PartLines

_STYLES = {"+": "added", "~": "changed", "-": "removed"}


class TransactionsDialog(Dialog[None]):
    """Shows them; nothing is chosen."""

    BINDINGS = [Binding("escape,p,enter", "dismiss(None)", "close")]

    def __init__(self, step: str, seen: SeenTransactions) -> None:
        super().__init__()
        self._step, self._seen = step, seen

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog full tall"):
            yield heading(f"{self._step}: {self._seen.words}")
            yield PartLines(id="transactions")
            yield foot("↑ ↓ scrolls · Escape closes")

    def opened(self) -> None:
        lines = self.query_one(PartLines)
        lines.show(list(self._lines()))
        lines.focus()

    def _lines(self) -> Iterator[PartLine]:
        for words in self._seen.crossings:
            yield PartLine([(f"! {words}", "brass")])
        if not self._seen.parts:
            yield PartLine([("They cannot be told apart here: only their number is known.", "dim")])
        for part in self._seen.parts:
            yield PartLine([("", "plain")])
            yield PartLine([(f"transaction {part.number}", "plain")], heading=True)
            for text in change_lines(part.changes):
                style = _STYLES.get(text.strip()[:1], "plain" if text[:1] == " " else "strong")
                yield PartLine([(f" {text}", style)])
