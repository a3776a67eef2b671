"""The dialog of one condition: a column, how it is compared, and with what."""

from __future__ import annotations

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Horizontal, Vertical
from textual.widgets import OptionList, Static
from textual.widgets.option_list import Option

from jondel.core.browse.display import line, safe_name
from jondel.core.browse.typed_values import as_typed, typed_value
from jondel.core.errors import ValueUnsuitable
from jondel.core.model.filters import (
    OPERATORS,
    ColumnCondition,
    Condition,
    Operator,
    SqlCondition,
    WordsCondition,
)
from jondel.core.model.schema import Table
from jondel.core.model.values import StoredValue
from jondel.tui.frame.dialog import Dialog, field_heading, foot, heading, problem_line
from jondel.tui.widgets.text_fields import TextField

_ANY_COLUMN = "any column"
_TEXT_OPERATORS = ("contains", "does not contain", "starts with", "ends with", "matches")


class ConditionDialog(Dialog[Condition | None]):
    """Makes or changes a condition; returns it, or None."""

    BINDINGS = [
        Binding("escape", "dismiss(None)", "close"),
        # At once, so that what is typed next goes into the next field.
        Binding("tab", "app.focus_next", "on", priority=True),
        Binding("shift+tab", "app.focus_previous", "back", priority=True),
        Binding("ctrl+s", "take", "take it"),
    ]

    def __init__(self, table: Table, column: str, condition: Condition | None) -> None:
        super().__init__()
        self._table = table
        self._names = list(table.column_names)
        self._operators: list[Operator] = list(OPERATORS)
        self._sql = condition if isinstance(condition, SqlCondition) else None
        self._column, self._operator, self._values = column, "is", ""
        match condition:
            case ColumnCondition(name, operator, values):
                self._column, self._operator = name, operator
                self._values = ", ".join(self._written(value, operator) for value in values)
            case WordsCondition(text):
                self._column, self._operator, self._values = "", "contains", text
            case SqlCondition(sql):
                self._values = sql

    @staticmethod
    def _written(value: StoredValue, operator: str) -> str:
        if operator in _TEXT_OPERATORS:
            return str(value)
        return as_typed(value)

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog wide"):
            yield heading("A condition")
            if self._sql is None:
                with Horizontal(id="condition-lists"):
                    yield OptionList(
                        *(Option(Text(safe_name(name))) for name in self._names),
                        Option(Text(_ANY_COLUMN)),
                        id="condition-column",
                        markup=False,
                    )
                    yield OptionList(
                        *(Option(Text(name)) for name in self._operators),
                        id="condition-operator",
                        markup=False,
                    )
            yield field_heading("", id="condition-hint")
            yield TextField(self._values, id="condition-values", classes="field")
            yield problem_line("condition-problem")
            yield foot("Tab next field · Enter in the value accepts it · Escape closes")

    def opened(self) -> None:
        if self._sql is None:
            columns = self.query_one("#condition-column", OptionList)
            known = self._column in self._names
            columns.highlighted = self._names.index(self._column) if known else len(self._names)
            operators = self.query_one("#condition-operator", OptionList)
            operators.highlighted = self._operators.index(self._operator)  # type: ignore[arg-type]
            self.set_focus(operators)
        else:
            self.set_focus(self.query_one("#condition-values", TextField))
        self._show_hint()

    def on_option_list_option_highlighted(self, event: OptionList.OptionHighlighted) -> None:
        event.stop()
        self._show_hint()

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        if event.option_list.id == "condition-column":
            self.set_focus(self.query_one("#condition-operator", OptionList))
        elif OPERATORS[self._chosen_operator][0]:
            self.set_focus(self.query_one("#condition-values", TextField))
        else:
            self.action_take()

    @property
    def _chosen_operator(self) -> Operator:
        return self._operators[self.query_one("#condition-operator", OptionList).highlighted or 0]

    @property
    def _chosen_column(self) -> str:
        """The column's name; empty for any."""
        place = self.query_one("#condition-column", OptionList).highlighted or 0
        return self._names[place] if place < len(self._names) else ""

    def _show_hint(self) -> None:
        hint = "condition in SQL"
        if self._sql is None:
            fewest, most = OPERATORS[self._chosen_operator]
            hints: dict[tuple[int, int | None], str] = {
                (0, 0): "no value",
                (1, 1): "value",
                (2, 2): "two values, separated by a comma",
            }
            hint = hints.get((fewest, most), "values, separated by commas")
            if self._chosen_operator in ("matches", "does not match"):
                hint = "pattern: * stands for anything, ? for one character"
            if not self._chosen_column:
                hint = "words"
        self.query_one("#condition-hint", Static).update(hint)

    def on_input_submitted(self, event: TextField.Submitted) -> None:
        event.stop()
        self.action_take()

    def action_take(self) -> None:
        typed = self.query_one("#condition-values", TextField).entered
        if self._sql is not None:
            if typed.strip():
                self.dismiss(SqlCondition(typed))
            return
        column, operator = self._chosen_column, self._chosen_operator
        if not column:
            if typed.strip():
                self.dismiss(WordsCondition(typed))
            else:
                self._say("type the words to look for")
            return
        fewest, most = OPERATORS[operator]
        declared = self._table.column(column)
        if most == 0:
            parts: list[str] = []
        else:
            parts = [typed] if most == 1 else parted(typed)
        if operator in _TEXT_OPERATORS or operator == "does not match":
            values: tuple[StoredValue, ...] = tuple(parts)
        else:
            try:
                values = tuple(typed_value(part, declared) for part in parts)
            except ValueUnsuitable as error:
                self._say(line(str(error), 200))
                return
        if len(values) < fewest or (most is not None and len(values) > most):
            self._say(f"{operator} takes {fewest if fewest == most else 'some'} values")
        elif most == 1 and typed == "":
            self._say("type a value; for empty text choose “is empty”")
        else:
            self.dismiss(ColumnCondition(column, operator, values))

    def _say(self, words: str) -> None:
        self.query_one("#condition-problem", Static).update(words)


def parted(typed: str) -> list[str]:
    """The values of a text with commas between them; none within single quotes separates."""
    parts, current, quoted = [], "", False
    for character in typed:
        if character == "'":
            quoted = not quoted
        if character == "," and not quoted:
            parts.append(current.strip())
            current = ""
        else:
            current += character
    return [*parts, current.strip()] if current.strip() or parts else []
