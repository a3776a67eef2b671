"""Which columns point at records of which table: as declared, as guessed, as a person says."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Literal, NamedTuple, TypeAlias

from jondel.core.engines.protocol import Database
from jondel.core.model.addresses import TableId
from jondel.core.model.rows import Position
from jondel.core.model.schema import Schema, Table
from jondel.core.model.values import Clipped, ShownRow, StoredValue

Standing: TypeAlias = Literal["declared", "guessed", "confirmed", "added"]


class Link(NamedTuple):
    """Columns of a child table that hold a parent's key.

    ``when`` names a column of the child and the value it must hold for the link to be meant: where
    an id column points into several tables, and a column beside it says into which.
    """

    child: TableId
    columns: tuple[str, ...]
    parent: TableId
    parent_columns: tuple[str, ...]
    when: tuple[str, StoredValue] | None = None

    def words(self) -> str:
        """The link in words, as in ``boats.berth_id → berths.id``."""
        ours, theirs = ", ".join(self.columns), ", ".join(self.parent_columns)
        condition = f" where {self.when[0]} is {self.when[1]!s}" if self.when else ""
        return f"{self.child}.{ours} → {self.parent}.{theirs}{condition}"


class LinkDecisions(NamedTuple):
    """What a person said of links: these hold, those do not.

    As a project's file has them tables may be called by less than their whole address.
    """

    confirmed: frozenset[Link] = frozenset()
    refused: frozenset[Link] = frozenset()
    added: frozenset[Link] = frozenset()

    def confirm(self, link: Link) -> LinkDecisions:
        return self._replace(confirmed=self.confirmed | {link}, refused=self.refused - {link})

    def refuse(self, link: Link) -> LinkDecisions:
        """Do not offer a link any more; one that was added by hand is gone."""
        if link in self.added:
            return self._replace(added=self.added - {link})
        return self._replace(confirmed=self.confirmed - {link}, refused=self.refused | {link})

    def add(self, link: Link) -> LinkDecisions:
        return self._replace(added=self.added | {link}, refused=self.refused - {link})

    def resolved(self, schema: Schema) -> LinkDecisions:
        """These with the addresses of tables that there are."""

        def address(table: TableId) -> TableId:
            found = schema.ending_in(table) or schema.named(str(table))
            return found.id if found is not None else table

        def of(links: frozenset[Link]) -> frozenset[Link]:
            return frozenset(
                link._replace(child=address(link.child), parent=address(link.parent))
                for link in links
            )

        return LinkDecisions(*map(of, self))


def declared_links(schema: Schema) -> list[Link]:
    """The links that the schema's foreign keys make; those to tables that are not there are out."""
    links = []
    for table in schema.tables:
        for key in table.foreign_keys:
            parent = schema.find(key.target_table)
            if parent is None:
                continue
            columns = key.target_columns or parent.primary_key
            named = [_named(parent, name) for name in columns]
            ours = [_named(table, name) for name in key.columns]
            if len(named) == len(ours) and all(named) and all(ours):
                links.append(
                    Link(table.id, tuple(map(str, ours)), parent.id, tuple(map(str, named)))
                )
    return list(dict.fromkeys(links))


def all_links(
    declared: Iterable[Link], guessed: Iterable[Link], decisions: LinkDecisions
) -> dict[Link, Standing]:
    """Every link that holds or may hold, with its standing; refused ones are left out."""
    standing: dict[Link, Standing] = dict.fromkeys(declared, "declared")
    for link in decisions.added:
        standing.setdefault(link, "added")
    for link in decisions.confirmed:
        standing.setdefault(link, "confirmed")
    for link in guessed:
        if link not in decisions.refused:
            standing.setdefault(link, "guessed")
    return standing


# Following links


class LinkedRecord(NamedTuple):
    """A record at an end of a link; the position is empty where its table gives none."""

    table: Table
    position: Position
    row: ShownRow


def target_values(link: Link, table: Table, row: ShownRow) -> tuple[StoredValue, ...] | None:
    """What the parent's key must be for a child's row; None where the link is not meant there."""
    if link.when is not None and _value(table, row, link.when[0]) != link.when[1]:
        return None
    return _values(table, row, link.columns)


def children_cells(
    link: Link, parent: Table, row: ShownRow
) -> tuple[tuple[str, StoredValue], ...] | None:
    """What a child's row must hold to point at a parent's row; None where nothing can."""
    values = _values(parent, row, link.parent_columns)
    if values is None:
        return None
    cells = tuple(zip(link.columns, values, strict=True))
    return (*cells, link.when) if link.when is not None else cells


def target_of(
    database: Database, schema: Schema, link: Link, table: Table, row: ShownRow
) -> LinkedRecord | None:
    """The record that a row points at by a link, if it is there."""
    parent, values = schema.find(link.parent), target_values(link, table, row)
    if parent is None or values is None:
        return None
    cells = tuple(zip(link.parent_columns, values, strict=True))
    window = database.rows.matching_rows(parent, cells, 1)
    return LinkedRecord(parent, window.positions[0], window.rows[0]) if window.rows else None


def _values(table: Table, row: ShownRow, columns: Sequence[str]) -> tuple[StoredValue, ...] | None:
    """The values of some columns; None where one is NULL or not at hand in full."""
    values = tuple(_value(table, row, name) for name in columns)
    return None if any(v is None or isinstance(v, Clipped) for v in values) else values  # type: ignore[return-value]


def _value(table: Table, row: ShownRow, column: str) -> object:
    names = table.column_names
    return row[names.index(column)] if column in names and len(row) == len(names) else None


def _named(table: Table, name: str) -> str | None:
    """The table's own spelling of a column's name."""
    folded = name.casefold()
    return next((found for found in table.column_names if found.casefold() == folded), None)
