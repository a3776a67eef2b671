"""Which tables a list shows, and in which order: all, those found, the changed ones first."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import NamedTuple, TypeAlias

from jondel.core.model.addresses import TableId
from jondel.core.model.changes import ChangeCounts
from jondel.core.model.schema import Table


class TableFacts(NamedTuple):
    """What is known of the tables listed, each by its address.

    Counts that are not known yet are left out; None is for a table whose rows cannot be counted.
    ``drafted`` counts what a draft has for a table.
    """

    counts: Mapping[TableId, int | None] = {}
    changes: Mapping[TableId, ChangeCounts] = {}
    drafted: Mapping[TableId, int] = {}


class FoldedTables(NamedTuple):
    """A line that stands for so many tables without rows."""

    tables: int


Entry: TypeAlias = Table | FoldedTables


def shown_names(tables: Sequence[Table]) -> dict[TableId, str]:
    """What each table is called in a list: by its own name where all are in one schema."""
    if len({table.id[:-1] for table in tables}) <= 1:
        return {table.id: table.name for table in tables}
    return {table.id: table.title for table in tables}


def changed_first(tables: Sequence[Table], facts: TableFacts) -> list[Table]:
    """The tables that changed, or have something drafted, before the others."""
    return sorted(tables, key=lambda table: not _has_changes(table, facts))


def folded(tables: Sequence[Table], facts: TableFacts, shown: TableId | None) -> list[Entry]:
    """The tables, those without rows as one line at the end; the one ``shown`` stays listed."""

    def is_folded(table: Table) -> bool:
        empty = facts.counts.get(table.id, 1) == 0 and not table.unreadable
        return empty and not _has_changes(table, facts) and table.id != shown

    kept: list[Entry] = [table for table in tables if not is_folded(table)]
    left = len(tables) - len(kept)
    return [*kept, FoldedTables(left)] if left else kept


def found_tables(tables: Sequence[Table], typed: str) -> list[Table]:
    """The tables that what was typed may mean, the best first."""
    by_whole_name = "." in typed
    ranked = [(_rank(t.title if by_whole_name else t.name, typed), t) for t in tables]
    found = [(rank, table) for rank, table in ranked if rank is not None]
    return [table for _, table in sorted(found, key=lambda entry: entry[0])]


def _has_changes(table: Table, facts: TableFacts) -> bool:
    counts = facts.changes.get(table.id)
    return bool(counts and counts.total) or bool(facts.drafted.get(table.id))


def _rank(name: str, typed: str) -> int | None:
    """How well a name fits what was typed, 0 for best; None where it does not."""
    name, typed = name.casefold(), typed.casefold()
    if name.startswith(typed):
        return 0
    if any(part.startswith(typed) for part in name.replace("-", "_").split("_")):
        return 1
    return 2 if len(typed) > 1 and typed in name else None
