"""The one dialog that asks before something is done."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Sequence
from enum import Enum
from typing import NamedTuple, TypeAlias

from rich.console import Group, RenderableType
from rich.style import Style
from rich.table import Table as RichTable
from rich.text import Text
from textual import work
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Container, Vertical, VerticalScroll
from textual.widgets import Static

from jondel.core.browse.display import grouped, line, visible
from jondel.core.draft.readable_statements import ReadableStatement
from jondel.core.errors import JondelError
from jondel.core.model.changes import Changes
from jondel.core.model.statements import Statement
from jondel.core.sql.values_in_sql import styled
from jondel.tui.frame.dialog import Dialog, Foot, foot, heading
from jondel.tui.widgets.listed_changes import listed_changes
from jondel.tui.widgets.styles import ink

_STATEMENT_CHARACTERS = 4_000
_WIDE = 120
"""From so many cells on there is room for the statements beside the records."""


class Confirmed(Enum):
    """The answer of a confirmation: nothing of it, all of it, or only the part that is offered."""

    NO = 0
    YES = 1
    PART = 2


ListedStatements: TypeAlias = "tuple[Sequence[ReadableStatement], int]"
"""The first statements that something runs, and of how many."""


class Question(NamedTuple):
    """What is asked before something is done."""

    title: str
    yes: str
    """What is done then, as in "writes them"."""
    lines: Sequence[str] = ()
    """What else there is to know, above the records."""
    changes: Changes | None = None
    """The records that it is about."""
    footnote: str = ""
    """What there is to know below the records."""
    part: str = ""
    """What ``t`` does, as in "restores only boats"; there is no ``t`` without."""
    statements: Callable[[], Awaitable[ListedStatements]] | None = None
    """Finds the statements that would run; raises ``JondelError`` where there are none to tell."""
    no: str = "cancels"
    """What Escape does."""


class ConfirmDialog(Dialog[Confirmed]):
    """Says what something would do, record by record, and asks for it."""

    TAKES_TYPED_AHEAD = False

    BINDINGS = [
        Binding("escape,n", "answer('NO')", "no"),
        Binding("enter,y", "answer('YES')", "yes"),
        Binding("t", "answer('PART')", "only a part of it"),
        Binding("s", "statements", "the statements"),
        Binding("x", "exact", "with all that is checked"),
    ]

    def __init__(self, question: Question) -> None:
        super().__init__()
        self._question = question
        self._found: ListedStatements | None = None
        self._exact = False

    def compose(self) -> ComposeResult:
        question = self._question
        with Vertical(classes="dialog full"):
            yield heading(question.title)
            with Container(id="confirm-body"):
                with VerticalScroll(id="confirm-records"):
                    yield Static(self._told(), id="confirm-text", markup=False)
                with VerticalScroll(id="confirm-statements", classes="-none"):
                    yield Static("", id="statement-text", markup=False)
            if question.footnote:
                yield Static(question.footnote, id="confirm-footnote", markup=False)
            yield foot("", id="confirm-foot")

    def opened(self) -> None:
        self._show_keys()
        self.query_one("#confirm-records").focus()

    def _told(self) -> RenderableType:
        question = self._question
        lines = [Text(line(words, 2_000) if words else "") for words in question.lines]
        if question.changes is None:
            return Group(*lines)
        return Group(*lines, *([Text()] if lines else []), listed_changes(self, question.changes))

    def _show_keys(self) -> None:
        question, keys = self._question, []
        if question.part:
            keys.append(f"t {question.part}")
        if question.statements is not None and not self._statements_shown:
            keys.append("s shows the statements")
        elif question.statements is not None:
            keys.append("s hides the statements")
            if self._found is not None and any(s.guarded for s in self._found[0]):
                keys.append("x shows them shorter" if self._exact else "x shows all they check")
        words = " · ".join([f"Enter {question.yes}", *keys, f"Escape {question.no}"])
        self.query_one("#confirm-foot", Foot).say(words, confirming=("enter", "t"))

    @property
    def _statements_shown(self) -> bool:
        return not self.query_one("#confirm-statements").has_class("-none")

    def action_answer(self, answer: str) -> None:
        if answer != "PART" or self._question.part:
            self.dismiss(Confirmed[answer])

    def action_statements(self) -> None:
        """Show the statements beside the records, or hide them again."""
        if self._question.statements is None:
            return
        panel = self.query_one("#confirm-statements")
        panel.toggle_class("-none")
        frame = self.query_one(".dialog")
        frame.set_class(self._statements_shown, "-two")
        frame.set_class(self.app.size.width >= _WIDE, "-beside")
        self.fit_height()
        shown = panel if self._statements_shown else self.query_one("#confirm-records")
        shown.focus()
        self._show_keys()
        if self._statements_shown and self._found is None:
            self._find()

    @work(exclusive=True)
    async def _find(self) -> None:
        assert self._question.statements is not None
        shown = self.query_one("#statement-text", Static)
        shown.update("planning the statements …")
        try:
            self._found = await self._question.statements()
        except JondelError as error:
            shown.update(line(str(error), 2_000))
        else:
            shown.update(self._listed(self._found))
        self.fit_height()
        self._show_keys()

    def action_exact(self) -> None:
        """Show all that the statements check, or only where the records are."""
        if self._found is not None and self._statements_shown:
            self._exact = not self._exact
            self.query_one("#statement-text", Static).update(self._listed(self._found))
            self.fit_height()
            self._show_keys()

    def _listed(self, found: ListedStatements) -> RichTable:
        dim, brass = ink(self, "sand-dim"), ink(self, "brass")
        listed = RichTable.grid(padding=(0, 1))
        listed.add_column(justify="right", style=brass)
        listed.add_column(overflow="fold")
        statements, total = found
        count = f"{grouped(total)} statement{'' if total == 1 else 's'}"
        listed.add_row("", Text(f"{count}, one transaction, in this order", dim))
        for number, statement in enumerate(statements, 1):
            listed.add_row(str(number), self._statement(statement, dim))
        left = total - len(statements)
        if left:
            listed.add_row("", Text(f"… {grouped(left)} more", dim))
        return listed

    def _statement(self, statement: ReadableStatement, dim: Style) -> Text:
        if self._exact or not statement.guarded:
            return _in_lines(statement.exact)
        text = _in_lines(statement.gist)
        return text.append("\nand the record is still as shown", dim)


def _in_lines(statement: Statement) -> Text:
    """A statement with its values in place, each clause on a line of its own."""
    first, *others = statement.texts
    pieces = [_broken(first)]
    for argument, piece in zip(statement.arguments, others, strict=True):
        value, _ = styled(Statement.value(argument.value), "literals")
        shown = visible(value[:_STATEMENT_CHARACTERS])
        pieces += [shown if len(value) <= _STATEMENT_CHARACTERS else f"{shown}…", _broken(piece)]
    return Text("".join(pieces))


def _broken(piece: str) -> str:
    """A piece of a statement that holds no values, with line breaks before its clauses."""
    shown = visible(piece)
    for word in (" SET ", " VALUES ", " WHERE "):
        shown = shown.replace(word, f"\n{word[1:]}")
    return shown.replace(" AND ", "\n  AND ")
