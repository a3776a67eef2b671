"""The dialog of the app's SQL: what is wrong with it, and what could not be followed."""

from __future__ import annotations

from pathlib import Path

from rich.style import Style
from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import OptionList
from textual.widgets.option_list import Option

from jondel.core.browse.display import grouped, line
from jondel.core.query.source_check import SourceProblem, SourceReport
from jondel.tui.frame.dialog import Dialog, foot, heading

_MOST_LISTED = 2_000


class SourceDialog(Dialog[SourceProblem | None]):
    """Lists the problems; returns the one that was chosen, or None."""

    BINDINGS = [
        Binding("escape", "dismiss(None)", "close"),
        Binding("u", "not_followed", "what was not followed"),
    ]

    def __init__(self, root: Path, report: SourceReport) -> None:
        super().__init__()
        self._root, self._report = root, report
        self._others = False
        """Whether what was not followed is listed."""

    def compose(self) -> ComposeResult:
        report = self._report
        with Vertical(classes="dialog full"):
            yield heading(f"The SQL in {line(str(self._root), 60)}")
            yield OptionList(id="source-problems", markup=False)
            yield foot(
                f"{grouped(report.statements)} statements in {grouped(report.files)} files, "
                f"{grouped(len(report.problems))} wrong, "
                f"{grouped(len(report.not_followed))} not followed\n"
                "Enter brings it into the box · u what was not followed · Escape closes"
            )

    def opened(self) -> None:
        self._show()
        self.query_one(OptionList).focus()

    def _show(self) -> None:
        options = self.query_one(OptionList)
        options.clear_options()
        if self._others:
            listed = [(e.file, e.line, e.why) for e in self._report.not_followed]
        else:
            listed = [(p.file, p.line, p.words) for p in self._report.problems]
        dim = Style(color=self.app.theme_variables["sand-dim"])
        for file, number, words in listed[:_MOST_LISTED]:
            text = Text(no_wrap=True, overflow="ellipsis")
            text.append(f"{line(self._short(file), 60)}:{number}  ", dim)
            options.add_option(Option(text.append(line(words, 300))))
        if not listed:
            words = "everything was followed" if self._others else "nothing is wrong with it"
            options.add_option(Option(Text(words, dim)))
        options.highlighted = 0
        self.fit_height()

    def _short(self, file: str) -> str:
        path = Path(file)
        return str(path.relative_to(self._root) if path.is_relative_to(self._root) else path)

    def action_not_followed(self) -> None:
        """List what was not followed, or the problems again."""
        self._others = not self._others
        self._show()

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        problems = self._report.problems
        if not self._others and event.option_index < len(problems):
            self.dismiss(problems[event.option_index])
