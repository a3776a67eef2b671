"""The difference between two states of a database."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Literal, NamedTuple, TypeAlias

from jondel.core.model.addresses import TableId
from jondel.core.model.differences import Difference
from jondel.core.model.values import ShownRow, StoredValue, Value

ChangeKind: TypeAlias = Literal["added", "changed", "removed"]

Method: TypeAlias = Literal["same", "pages", "rows", "pages and rows"]
"""How changes were found: ``rows`` read every row, ``pages`` only those on stored pages that
differ, ``pages and rows`` the one for some tables and the other for others; ``same`` knew that
nothing differs and read none."""

MARKS: dict[ChangeKind, str] = {"added": "+", "changed": "~", "removed": "-"}
"""How each kind of change is marked wherever it is shown; never by colour alone."""


class NoValue:
    """Stands where a side has no such column."""

    def __repr__(self) -> str:
        return "NO_VALUE"


NO_VALUE = NoValue()


class CellChange(NamedTuple):
    """One cell before and after; ``before`` is NO_VALUE for a column that is new.

    ``inside`` says what differs between the two, where whoever compared wanted that.
    """

    column: str
    before: Value | NoValue
    after: Value
    inside: Difference | None = None


class RecordChange(NamedTuple):
    """One record that was added, changed or removed.

    ``key`` holds the values of the table's key columns; ``row_id`` the engine's row number on the
    side that still has the record, where there is one; ``before`` and ``after`` the whole rows in
    the column order of their side; ``cells`` the cells that differ, for a changed record. Large
    values are clipped where whoever compared wanted that.
    """

    kind: ChangeKind
    key: tuple[StoredValue, ...]
    before: ShownRow | None
    after: ShownRow | None
    cells: tuple[CellChange, ...] = ()
    row_id: int | None = None


@dataclass(frozen=True)
class ChangeCounts:
    """How many records of a table were added, changed and removed."""

    added: int = 0
    changed: int = 0
    removed: int = 0

    @property
    def total(self) -> int:
        return self.added + self.changed + self.removed

    def __add__(self, other: ChangeCounts) -> ChangeCounts:
        return ChangeCounts(
            self.added + other.added,
            self.changed + other.changed,
            self.removed + other.removed,
        )

    def counted(self, kind: ChangeKind) -> ChangeCounts:
        """These counts and one more record of the kind."""
        return self + ChangeCounts(**{kind: 1})

    def marked(self) -> str:
        """The counts with their marks, as in ``+1 ~2``; empty where nothing changed."""
        parts = ((MARKS["added"], self.added), (MARKS["changed"], self.changed))
        return " ".join(f"{m}{n}" for m, n in (*parts, (MARKS["removed"], self.removed)) if n)


class TableChanges(NamedTuple):
    """The records of one table that differ.

    ``key_columns`` name the key; ``key_is_row_id`` says that it is the engine's row number.
    ``columns_before`` and ``columns_after`` name the columns of each side, empty where the table
    is not there. ``counts`` is exact; ``records`` may hold fewer where a limit was set. ``hidden``
    counts the records that noise rules left out of both.
    """

    schema: str
    table: TableId
    key_columns: tuple[str, ...]
    key_is_row_id: bool
    columns_before: tuple[str, ...]
    columns_after: tuple[str, ...]
    records: tuple[RecordChange, ...]
    counts: ChangeCounts
    hidden: int = 0
    named_by: tuple[str, ...] = ()
    """The columns that name a record for people where its key is but a row number."""
    internal: bool = False
    """True for what the engine keeps for itself; see ``Table``."""
    derived: bool = False
    """True for what the engine keeps in step by itself; see ``Table``."""
    computed: tuple[str, ...] = ()
    """Columns that the engine computes, so that no statement sets them."""

    def name_of(self, record: RecordChange) -> tuple[Value, ...]:
        """What a record is called: its key, or what else no two records share."""
        for columns, row in (
            (self.columns_after, record.after),
            (self.columns_before, record.before),
        ):
            if row is not None and self.named_by and set(self.named_by) <= set(columns):
                values = tuple(row[columns.index(name)] for name in self.named_by)
                return record.key if None in values else values
        return record.key


class SchemaChange(NamedTuple):
    """One change of the schema, in words: what kind, of which object, and the details."""

    kind: str
    object: str
    before: str | None = None
    after: str | None = None
    table: TableId | None = None
    """The table that is changed by it, where it is one's declaration that changed."""


class Unread(NamedTuple):
    """A table that could not be compared, and why."""

    table: TableId
    reason: str


class Changes(NamedTuple):
    """All differences between two states. Tables without differences are left out."""

    tables: tuple[TableChanges, ...] = ()
    schema_changes: tuple[SchemaChange, ...] = ()
    unread: tuple[Unread, ...] = ()
    method: Method = "rows"

    @property
    def counts(self) -> ChangeCounts:
        return total_counts(table.counts for table in self.tables)

    @property
    def hidden(self) -> int:
        """How many records noise rules left out."""
        return sum(table.hidden for table in self.tables)

    @property
    def empty(self) -> bool:
        """Whether there is nothing to show; something may be hidden."""
        return not (self.counts.total or self.schema_changes)

    def table(self, table: TableId) -> TableChanges | None:
        return next((changes for changes in self.tables if changes.table == table), None)


@dataclass(frozen=True)
class ChangeSummary:
    """The sizes of a step's changes, kept with the trail."""

    tables: dict[TableId, ChangeCounts] = field(default_factory=dict)
    schema_changes: int = 0

    @property
    def counts(self) -> ChangeCounts:
        return total_counts(self.tables.values())

    @classmethod
    def of(cls, changes: Changes) -> ChangeSummary:
        return cls(
            {t.table: t.counts for t in changes.tables if t.counts.total},
            len(changes.schema_changes),
        )


def total_counts(counts: Iterable[ChangeCounts]) -> ChangeCounts:
    """Add up counts."""
    return sum(counts, ChangeCounts())
