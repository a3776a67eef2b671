"""In how many transactions a step was written, and what came in which."""

from __future__ import annotations

from dataclasses import dataclass

from jondel.core.model.addresses import TableId
from jondel.core.model.values import StoredValue

RecordKey = tuple[TableId, tuple[StoredValue, ...]]
"""A record by its table and its key."""


@dataclass(frozen=True)
class Transactions:
    """The transactions of a step.

    ``count`` is None where it is not known, and ``why`` says why. Where it is not ``exact`` there
    may be more. ``records`` says for engines that tell it which records each one wrote last.
    """

    count: int | None
    exact: bool = True
    why: str = ""
    records: tuple[frozenset[RecordKey], ...] = ()
    unchanged: frozenset[RecordKey] = frozenset()
    """Records that were written with the values they had, for engines that tell it."""

    @property
    def words(self) -> str:
        """How many, for a person; why not, where that is not known."""
        if self.count is None:
            return f"in how many transactions is not known: {self.why}"
        number = "1 transaction" if self.count == 1 else f"{self.count} transactions"
        return number if self.exact else f"{number} at least"
