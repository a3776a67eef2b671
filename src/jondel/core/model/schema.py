"""Tables, columns and keys as the database declares them."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from typing import Literal, NamedTuple, TypeAlias

from jondel.core.model.addresses import TableId
from jondel.core.model.column_types import ColumnType

ROW_ID = "rowid"
"""What a row number is called in changes, whatever the engine's name for it in a table is."""
TableKind: TypeAlias = Literal[
    "table",
    "partitioned table",
    "foreign table",
    "virtual table",
    "materialised view",
    "view",
]
"""A ``view`` alone has no rows of its own."""
Addressing: TypeAlias = Literal["row number", "key", "none"]


class Column(NamedTuple):
    """One column. ``key_position`` is its place in the primary key from 1, or 0."""

    name: str
    type: ColumnType = ColumnType()
    not_null: bool = False
    default: str | None = None
    """The default as an SQL expression, or None."""
    key_position: int = 0
    generated: bool = False
    """Whether the engine computes it from other columns, so that it cannot be set."""
    numbered: bool = False
    """Whether the engine gives a number of its own where none is given."""
    comment: str = ""


class ForeignKey(NamedTuple):
    """Columns that point to a record of another table."""

    columns: tuple[str, ...]
    target_table: TableId
    target_columns: tuple[str, ...]
    """Empty where the declaration leaves the target's primary key implied."""
    on_delete: str = "NO ACTION"
    """What the engine does with these records when the target is deleted, in SQL's words."""
    on_update: str = "NO ACTION"
    """The same for when the columns that they point at change."""


@dataclass(frozen=True)
class Table:
    """A table, view or virtual table."""

    id: TableId
    kind: TableKind
    columns: tuple[Column, ...]
    foreign_keys: tuple[ForeignKey, ...] = ()
    row_id: str | None = None
    """A name by which the engine's own row number can be selected, or None where there is none."""
    internal: bool = False
    """True for what the engine keeps for itself; hidden until asked for."""
    shadow_of: str = ""
    """The virtual table whose rows the engine keeps in this one, or nothing."""
    without_row_id: bool = False
    """True where the rows are kept by their primary key and have no number."""
    strict: bool = False
    """True where the engine itself refuses values of another type."""
    identity: int | None = field(default=None, compare=False)
    """What the engine knows it by, whatever it is called; None where it has no such thing."""
    unknown_order: str = ""
    """What orders its rows or indexes that only the app knows, or nothing; then nothing is looked
    for in that order, and nothing is written."""
    unreadable: str | None = None
    """Why the columns could not be read, or None."""
    unique_keys: tuple[tuple[str, ...], ...] = ()
    """Beside the primary key: columns whose values no two rows share, unless one is NULL. An engine
    may leave them out where there is a primary key."""
    schema: str = ""
    """The schema it is in, as the engine calls it, where its address does not say that."""
    comment: str = ""
    derived: bool = False
    """True where the engine keeps it in step with the rows of other tables: counts, statistics."""
    inherited: bool = False
    """True where other tables inherit from it; their rows are not among its own here."""
    is_partition: bool = False
    """True where its rows are those of the partitioned table that it is a part of."""
    partition_of: TableId | None = field(default=None, compare=False)
    """The outermost partitioned table that it is a part of, where that is known."""
    column_numbers: tuple[int, ...] = field(default=(), compare=False)
    """The engine's own number of each column, which a column of the same name that is added later
    does not get; empty where it has none."""
    filled_in: dict[str, str] = field(default_factory=dict, compare=False)
    """By column: what rows that were there before it have in it without being written, as
    ``column_types.as_text`` has it; as far as that is known."""

    @property
    def name(self) -> str:
        """Its own name, without the levels above it."""
        return self.id.name

    @property
    def holds_rows(self) -> bool:
        """Whether it has rows of its own with something in them: not those that are another
        table's, or elsewhere."""
        elsewhere = self.kind in ("view", "foreign table") or self.is_partition
        return bool(self.columns or self.unreadable) and not elsewhere

    @property
    def is_mirrored(self) -> bool:
        """Whether a mirror keeps its rows."""
        return self.holds_rows and not self.internal and self.unreadable is None

    @property
    def levels(self) -> tuple[str, ...]:
        """Its address, with the schema that goes without saying."""
        return (self.schema, *self.id) if self.schema and len(self.id) == 1 else self.id

    @property
    def title(self) -> str:
        """What it is called on the screen and in messages."""
        return str(self.id)

    @cached_property
    def primary_key(self) -> tuple[str, ...]:
        """The declared primary key's columns, in key order; empty where none is declared."""
        members = [column for column in self.columns if column.key_position]
        return tuple(c.name for c in sorted(members, key=lambda c: c.key_position))

    @cached_property
    def column_names(self) -> tuple[str, ...]:
        return tuple(column.name for column in self.columns)

    @property
    def addressing(self) -> Addressing:
        """How one of its rows is told from all others."""
        if self.row_id is not None:
            return "row number"
        return "key" if self.primary_key else "none"

    @cached_property
    def position_columns(self) -> tuple[str, ...]:
        """What addresses and orders this table's rows: the row number, else the primary key.

        Empty for a view, whose rows have an order but no address.
        """
        if self.row_id is not None:
            return (self.row_id,)
        return self.primary_key

    @cached_property
    def naming_columns(self) -> tuple[str, ...]:
        """What names a record for people: the primary key, else what is unique, if anything."""
        return self.primary_key or self.unique_key

    @property
    def unique_key(self) -> tuple[str, ...]:
        """Where no primary key is declared: columns that name a record for people, if any do."""
        return () if self.primary_key else next(iter(self.unique_keys), ())

    def column(self, name: str) -> Column | None:
        return next((column for column in self.columns if column.name == name), None)

    def links_from(self, column: str) -> tuple[ForeignKey, ...]:
        """The foreign keys that the column takes part in."""
        return tuple(key for key in self.foreign_keys if column in key.columns)


class SchemaObject(NamedTuple):
    """An index, trigger, table or view with the statement that made it."""

    kind: str
    name: TableId
    table: TableId
    """What it belongs to; of a table or view, itself."""
    sql: str | None
    internal: bool = False
    """True for what the engine made by itself."""
    of_constraint: bool = False
    """True for an index that a key or another constraint of its table stands for."""


@dataclass(frozen=True)
class Schema:
    """Everything a database declares, tables in the order in which they are shown."""

    tables: tuple[Table, ...]
    objects: tuple[SchemaObject, ...] = field(default=())

    @cached_property
    def by_id(self) -> dict[TableId, Table]:
        """All tables by their addresses."""
        return {table.id: table for table in self.tables}

    @cached_property
    def _declarations(self) -> dict[tuple[str, TableId], str | None]:
        return {(entry.kind, entry.name): entry.sql for entry in self.objects}

    def declaration(self, table: TableId) -> str | None:
        """The statement that made a table, or None."""
        return self._declarations.get(("table", table))

    def find(self, table: TableId) -> Table | None:
        """Find a table by its address: exactly, else ignoring case where that is unambiguous."""
        exact = self.by_id.get(table)
        if exact is not None:
            return exact
        folded = _folded(table)
        alike = [other for other in self.tables if _folded(other.id) == folded]
        return alike[0] if len(alike) == 1 else None

    def named(self, text: str) -> Table | None:
        """Find a table by what a person calls it: its name, or its address spelled out."""
        spelled, name = TableId.parsed(text), TableId(text)
        return self.by_id.get(spelled) or self.ending_in(name) or self.ending_in(spelled)

    def ending_in(self, levels: TableId) -> Table | None:
        """Find a table by the last levels of where it is, where they tell it from all others."""
        found = self.find(levels)
        if found is not None:
            return found
        ending = _folded(levels)
        alike = [t for t in self.tables if _folded(t.levels)[-len(ending) :] == ending]
        return alike[0] if len(alike) == 1 else None


def _folded(levels: tuple[str, ...]) -> tuple[str, ...]:
    return tuple(level.casefold() for level in levels)
