"""Finds where a value is: in every column of every table, or among what a step changed."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from jondel.core.browse.display import line
from jondel.core.engines.protocol import Database, Hit
from jondel.core.errors import Cancelled, JondelError
from jondel.core.model.changes import Changes, RecordChange, TableChanges
from jondel.core.model.schema import Table
from jondel.core.model.values import Exact, Value

_LONGEST_VALUE = 100_000


class FoundCell(NamedTuple):
    """A cell of a table that holds what was searched for."""

    table: Table
    hit: Hit


class Searched(NamedTuple):
    """A table has been searched to its end, or could not be, for a reason."""

    table: Table
    problem: str = ""


class FoundChange(NamedTuple):
    """A changed cell that holds it after the change, or did before where it is ``earlier``."""

    table: TableChanges
    record: RecordChange
    column: str
    value: Value
    earlier: bool


def find_everywhere(
    database: Database, tables: Sequence[Table], text: str, *, whole: bool
) -> Iterator[FoundCell | Searched]:
    """Search tables one after the other; what is found comes as it is found.

    Text is found whatever its case, numbers as they are written; ``whole`` for values that are
    the text and nothing more. A table that cannot be read is told of and passed over.
    """
    for table in tables:
        if table.unreadable:
            yield Searched(table, table.unreadable)
            continue
        try:
            for hit in database.finder.find_text(table, text, whole=whole):
                yield FoundCell(table, hit)
        except Cancelled:
            raise
        except JondelError as error:
            yield Searched(table, str(error))
        else:
            yield Searched(table)


def find_in_changes(changes: Changes, text: str, *, whole: bool) -> Iterator[FoundChange]:
    """Search the cells that changed; of added and removed records all."""
    wanted = text.casefold()

    def holds(value: Value) -> bool:
        shown = value if isinstance(value, str) else line(value, _LONGEST_VALUE)
        if value is None or isinstance(value, bytes):
            return False
        folded = shown.casefold()
        return folded == wanted if whole else wanted in folded

    for table in changes.tables:
        for record in table.records:
            if record.kind == "changed":
                for cell in record.cells:
                    if holds(cell.after):
                        yield FoundChange(table, record, cell.column, cell.after, False)
                    elif isinstance(cell.before, str | int | float | Exact) and holds(cell.before):
                        yield FoundChange(table, record, cell.column, cell.before, True)
                continue
            removed = record.kind == "removed"
            names = table.columns_before if removed else table.columns_after
            row = record.before if removed else record.after
            for name, value in zip(names, row or (), strict=False):
                if holds(value):
                    yield FoundChange(table, record, name, value, removed)
