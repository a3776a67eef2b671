"""The dialog of noise rules: what could be hidden at a change, and what is."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import OptionList
from textual.widgets.option_list import Option

from jondel.core.browse.display import safe_name
from jondel.core.diff.noise import KINDS, NoiseRules, RuleKind
from jondel.core.model.addresses import TableId
from jondel.tui.frame.dialog import Dialog, foot, heading


@dataclass(frozen=True)
class RuleWish:
    """A noise rule to be kept, or to be given up."""

    kind: RuleKind
    name: str
    keep: bool


class NoiseDialog(Dialog[RuleWish | None]):
    """Offers what could be hidden at a change, and the rules that are there."""

    BINDINGS = [Binding("escape,x", "dismiss(None)", "close")]

    def __init__(self, table: TableId | None, columns: Sequence[str], rules: NoiseRules) -> None:
        super().__init__()
        self._wishes = list(_rule_wishes(table, columns, rules))

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog wide"):
            yield heading("Noise rules")
            yield OptionList(
                *(Option(_rule_words(wish)) for wish in self._wishes), id="rules", markup=False
            )
            yield foot("Enter hides it, or shows it again · Escape closes")

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        self.dismiss(self._wishes[event.option_index])


def _rule_wishes(
    table: TableId | None, columns: Sequence[str], rules: NoiseRules
) -> list[RuleWish]:
    wishes = []
    if table is not None:
        for column in columns:
            wishes.append(RuleWish("columns", f"{table}.{column}", True))
        for column in columns:
            wishes.append(RuleWish("only", f"{table}.{column}", True))
        for column in columns:
            wishes.append(RuleWish("columns", f"*.{column}", True))
        wishes.append(RuleWish("tables", str(table), True))
    known = set(rules.listed())
    wishes = [wish for wish in wishes if (wish.kind, wish.name) not in known]
    return wishes + [RuleWish(kind, name, False) for kind, name in rules.listed()]


def _rule_words(wish: RuleWish) -> Text:
    name = safe_name(wish.name)
    if not wish.keep:
        return Text(f"show again  {name}  ({KINDS[wish.kind]})")
    words = {
        "tables": f"table {name}: every change",
        "columns": f"column {name}",
        "only": f"records in which only {name} changed",
    }
    return Text(f"hide  {words[wish.kind]}")
