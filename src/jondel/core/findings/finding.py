"""A finding: what is suspicious, where, on what evidence, and how sure that is."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, NamedTuple, TypeAlias, get_args

from jondel.core.model.addresses import TableId
from jondel.core.model.values import StoredValue, Value

FindingKind: TypeAlias = Literal[
    "empty text",
    "type",
    "shifted",
    "points at nothing",
    "time format",
    "time range",
    "blanks",
    "encoding",
    "control characters",
    "json",
    "near duplicate",
    "cut",
    "rare value",
    "boolean spelling",
    "constraint",
    "total",
    "nothing changed",
    "touched twice",
    "half done",
]
FINDING_KINDS: tuple[FindingKind, ...] = get_args(FindingKind)


class Suspicion(NamedTuple):
    """What is suspicious about one value: of which kind, on what evidence, how sure from 0 to 1."""

    kind: FindingKind
    evidence: str
    sure: float


@dataclass(frozen=True)
class Finding:
    """Something suspicious in stored data, or in what a step did.

    ``column`` is empty where it is about a whole record or table; ``key`` is empty where it is
    about no single record. ``others`` counts further records that the same is true of.
    """

    kind: FindingKind
    table: TableId | None
    column: str
    key_columns: tuple[str, ...]
    key: tuple[StoredValue, ...]
    value: Value
    evidence: str
    sure: float
    others: int = 0

    @property
    def place(self) -> str:
        """Where it is, as far as tables and columns go: what a dismissal is of."""
        if self.table is None:
            return ""
        return f"{self.table}.{self.column}" if self.column else str(self.table)
