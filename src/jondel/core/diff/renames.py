"""Recognises tables and columns that were renamed, where what is stored leaves no doubt."""

from __future__ import annotations

from dataclasses import dataclass, field

from jondel.core.engines.protocol import Database
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Column, Table
from jondel.core.model.values import identical

_SAMPLED_ROWS = 50


@dataclass(frozen=True)
class Renames:
    """``tables`` leads from new names to old ones, ``columns`` by new table likewise."""

    tables: dict[TableId, TableId] = field(default_factory=dict)
    columns: dict[TableId, dict[str, str]] = field(default_factory=dict)

    def old_table(self, new: TableId) -> TableId:
        """What a table was called before."""
        return self.tables.get(new, new)


def find_renames(before: Database, after: Database) -> Renames:
    """Find what was renamed between two states.

    A table was where it is stored where another one was that is gone now, and both are declared
    alike. A column was where its place in the table is the same, it is declared alike but for the
    name, and most rows that both states begin with hold the same value in it.
    """
    if before.schema() is after.schema():
        return Renames()
    old, new = ({t.id: t for t in side.schema().tables} for side in (before, after))
    gone = {old[table].identity: table for table in old.keys() - new.keys()}
    tables: dict[TableId, TableId] = {}
    for name in sorted(new.keys() - old.keys()):
        was = gone.get(new[name].identity) if new[name].identity else None
        if was is not None and old[was].columns == new[name].columns:
            tables[name] = was
    columns: dict[TableId, dict[str, str]] = {}
    for name, table in new.items():
        earlier = old.get(tables.get(name, name))
        if earlier is not None and earlier.identity == table.identity and table.kind == "table":
            renamed = _renamed_columns(earlier, table)
            if renamed and _values_stayed(before, after, earlier, table, renamed):
                columns[name] = renamed
    return Renames(tables, columns)


def _renamed_columns(was: Table, now: Table) -> dict[str, str]:
    """New names and the old ones; empty unless all columns are otherwise declared alike."""
    if len(was.columns) != len(now.columns):
        return {}
    pairs = list(zip(was.columns, now.columns, strict=True))
    if not all(_nameless(one) == _nameless(other) for one, other in pairs):
        return {}
    old_names, new_names = set(was.column_names), set(now.column_names)
    renamed = {new.name: old.name for old, new in pairs if old.name != new.name}
    # Names that changed places cannot be told from contents that did, and keys are compared by
    # the names of their columns.
    unclear = any(
        (old.name != new.name and (old.name in new_names or new.name in old_names))
        or (old.name != new.name and new.key_position)
        for old, new in pairs
    )
    return {} if unclear else renamed


def _nameless(column: Column) -> Column:
    return column._replace(name="")


def _values_stayed(
    before: Database, after: Database, was: Table, now: Table, renamed: dict[str, str]
) -> bool:
    """Whether most of the rows that both begin with hold the same in the renamed columns.

    Not all: the app may have written to them since. NULL tells nothing.
    """
    windows = [
        database.rows.read_window(table, 0, _SAMPLED_ROWS)
        for database, table in ((before, was), (after, now))
    ]
    earlier = dict(zip(windows[0].positions, windows[0].rows, strict=True))
    places = [i for i, column in enumerate(now.columns) if column.name in renamed]
    equal, differing = 0, 0
    for position, row in zip(windows[1].positions, windows[1].rows, strict=True):
        other = earlier.get(position)
        for place in places if other is not None else ():
            assert other is not None
            if not identical(other[place], row[place]):
                differing += 1
            elif row[place] is not None:
                equal += 1
    return equal > differing
