"""The dialog of the statement behind a sheet: to read, to copy, to paste another one."""

from __future__ import annotations

from rich.style import Style
from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical, VerticalScroll
from textual.widgets import Static

from jondel.core.browse.display import full_lines, line
from jondel.core.errors import JondelError
from jondel.core.model.schema import Schema
from jondel.core.model.statements import Statement
from jondel.core.model.values import Clipped
from jondel.core.sql.conditions import Sheetlike, sheet_of
from jondel.core.sql.values_in_sql import MARK_STYLES, styled
from jondel.tui.frame.dialog import Dialog, Foot, foot, heading, problem_line
from jondel.tui.widgets.text_fields import TextBox

_SHOWN_CHARACTERS = 20_000


class StatementDialog(Dialog[Sheetlike | None]):
    """Shows a statement with its values in a style; returns what a pasted SELECT would show."""

    BINDINGS = [
        Binding("escape", "dismiss(None)", "close"),
        Binding("m", "style", "other marks"),
        Binding("c", "copy", "copy"),
        Binding("p", "paste", "paste another"),
        Binding("ctrl+s", "take", "show it as a sheet"),
    ]

    def __init__(self, statement: Statement, schema: Schema) -> None:
        super().__init__()
        self._statement = statement
        self._schema = schema
        self._style_place = 0

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog full"):
            yield heading("", id="statement-title")
            with VerticalScroll():
                yield Static("", id="statement-text", markup=False)
            yield TextBox(id="statement-paste", classes="field -none")
            yield problem_line("statement-problem")
            yield foot("", id="statement-foot")

    def opened(self) -> None:
        self._show()
        self.query_one(VerticalScroll).focus()

    def _show(self) -> None:
        style = MARK_STYLES[self._style_place]
        named = "with literals" if style == "literals" else f"with {style} parameters"
        self.query_one("#statement-title", Static).update(f"The SQL of this sheet, {named}")
        text, arguments = styled(self._statement, style)
        dim = Style(color=self.app.theme_variables["sand-dim"])
        shown = Text()
        for pieces in full_lines(text[:_SHOWN_CHARACTERS]):
            shown.append("".join(piece.text for piece in pieces if piece.text != "⏎") + "\n")
        for number, (mark, value) in enumerate(arguments, 1):
            shown.append(f"\n{mark if style in (':name', '$1') else number}  ", dim)
            shown.append(line(value))
        self.query_one("#statement-text", Static).update(shown)
        self.query_one("#statement-foot", Foot).say(
            "m parameter style · c copy · p paste a SELECT to see it as a sheet · Escape closes"
        )

    def action_style(self) -> None:
        self._style_place = (self._style_place + 1) % len(MARK_STYLES)
        self._show()

    def action_copy(self) -> None:
        """Copy the statement, and the values where it has marks for them."""
        text, arguments = styled(self._statement, MARK_STYLES[self._style_place])
        if arguments:
            listed = ", ".join(
                styled(Statement.value(v), "literals")[0]
                for _, v in arguments
                if not isinstance(v, Clipped)
            )
            text += f"\n-- {listed}".replace("\n--", "\n-- values:", 1)
        self.app.copy_to_clipboard(text)
        self.query_one("#statement-problem", Static).update("copied")

    def action_paste(self) -> None:
        """Open a field for a SELECT."""
        box = self.query_one(TextBox)
        box.remove_class("-none")
        box.focus()
        self.query_one("#statement-foot", Foot).say(
            "type or paste a SELECT of one table · Ctrl+S shows it as a sheet · Escape closes"
        )

    def action_take(self) -> None:
        box = self.query_one(TextBox)
        if box.has_class("-none"):
            return
        try:
            self.dismiss(sheet_of(box.entered, self._schema))
        except JondelError as error:
            self.query_one("#statement-problem", Static).update(line(str(error), 500))
