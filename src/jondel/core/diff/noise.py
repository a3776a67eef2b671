"""Noise rules: changes that an app makes all the time and nobody wants to see again."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from fnmatch import fnmatchcase
from typing import Literal, TypeAlias

from jondel.core.errors import RuleInvalid
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import CellChange, RecordChange

RuleKind: TypeAlias = Literal["tables", "columns", "only"]

KINDS: dict[RuleKind, str] = {
    "tables": "every change in the table",
    "columns": "changes of the column",
    "only": "records in which nothing else changed",
}
"""What a rule of each kind hides."""


@dataclass(frozen=True)
class NoiseRules:
    """What to hide.

    ``tables`` are names of tables, alone or with the levels above them. ``columns`` are names like
    ``bookings.updated_at``: a change of
    such a cell is no change. ``only`` are names likewise: a record in which only such cells
    changed is hidden, and shown with them where something else changed too. ``*`` stands for any
    text and ``?`` for one character; case does not count.
    """

    tables: tuple[str, ...] = ()
    columns: tuple[str, ...] = ()
    only: tuple[str, ...] = ()

    def __bool__(self) -> bool:
        return bool(self.tables or self.columns or self.only)

    @property
    def key(self) -> str:
        """Equal for equal rules, empty without any."""
        return repr((self.tables, self.columns, self.only)) if self else ""

    def listed(self) -> list[tuple[RuleKind, str]]:
        """All rules, with their kinds."""
        return [(kind, name) for kind in KINDS for name in getattr(self, kind)]

    def with_rule(self, kind: RuleKind, name: str) -> NoiseRules:
        """These rules and one more.

        Raises:
            RuleInvalid: the name is none that a rule of the kind can have.
        """
        check_rule(kind, name)
        rules = getattr(self, kind)
        return self if name in rules else replace(self, **{kind: (*rules, name)})

    def without_rule(self, kind: RuleKind, name: str) -> NoiseRules:
        rules = tuple(rule for rule in getattr(self, kind) if rule != name)
        return replace(self, **{kind: rules})

    def hide_table(self, table: TableId) -> bool:
        return bool(self.tables) and _matches(_names(table), self.tables)

    def without_noise(self, table: TableId, record: RecordChange) -> RecordChange | None:
        """What is left of a record's change; None where all of it is noise."""
        if self.hide_table(table):
            return None
        if record.kind != "changed" or not (self.columns or self.only):
            return record
        cells = tuple(c for c in record.cells if not _matches(_names(table, c), self.columns))
        if all(_matches(_names(table, cell), self.only) for cell in cells):
            return None
        return record if len(cells) == len(record.cells) else record._replace(cells=cells)


def check_rule(kind: RuleKind, name: str) -> None:
    """Raise ``RuleInvalid`` unless the name fits a rule of the kind."""
    if not name.strip():
        raise RuleInvalid("a noise rule cannot be empty; name a table or a column")
    if kind != "tables" and "." not in name:
        raise RuleInvalid(
            f"{name!r}: a column is named with its table, as in bookings.{name} or *.{name}"
        )


def _names(table: TableId, cell: CellChange | None = None) -> list[str]:
    """What a rule may call a table, or a cell's column."""
    column = f".{cell.column}" if cell is not None else ""
    return [f"{name}{column}" for name in dict.fromkeys((str(table), table.name))]


def _matches(names: Iterable[str], patterns: Iterable[str]) -> bool:
    folded = [name.casefold() for name in names]
    # Names may hold brackets, which mean nothing here.
    wanted = [pattern.casefold().replace("[", "[[]") for pattern in patterns]
    return any(fnmatchcase(name, pattern) for pattern in wanted for name in folded)
