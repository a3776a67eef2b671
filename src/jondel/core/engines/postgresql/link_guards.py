"""Conditions that keep a link's action from taking place unseen."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from jondel.core.engines.postgresql.sql_text import quoted, source
from jondel.core.errors import WriteRefused
from jondel.core.model.schema import ForeignKey, Schema, Table
from jondel.core.model.writes import RowWrite

_ACTIONS = frozenset({"CASCADE", "SET NULL", "SET DEFAULT"})
_CHILD = "jondel_child"


class LinkGuards:
    """Knows which links act on the rows that point at those of a table."""

    def __init__(self, schema: Schema) -> None:
        self._schema = schema

    def of(self, write: RowWrite) -> str:
        """What is added to the condition of a write's statement."""
        table = self._schema.by_id[write.table]
        return self._not_pointed_at(table, self.acting(write))

    def against_going(self, table: Table) -> str:
        """The condition that no row points at one by a link that acts at once if it goes."""
        at_once = [pair for pair in self._incoming(table) if pair[1].on_delete != "NO ACTION"]
        return self._not_pointed_at(table, at_once)

    def children_of(self, write: RowWrite) -> list[Table]:
        """The tables whose rows a write would have go or change."""
        return list({child.id: child for child, _ in self.acting(write)}.values())

    def acting(self, write: RowWrite) -> list[tuple[Table, ForeignKey]]:
        """The links that act on a write, each with the table that it leads from."""
        if write.kind == "insert":
            return []
        table, changed = self._schema.by_id[write.table], {name for name, _ in write.values}
        return [
            (child, key)
            for child, key in self._incoming(table)
            if (write.kind == "delete" and key.on_delete in _ACTIONS)
            or (key.on_update in _ACTIONS and changed.intersection(_targets(table, key)))
        ]

    def _incoming(self, table: Table) -> Iterator[tuple[Table, ForeignKey]]:
        for child in self._schema.tables:
            if child.is_partition:
                continue  # its links are those of the table that it is a part of
            for key in child.foreign_keys:
                if key.target_table == table.id:
                    yield child, key

    @staticmethod
    def _not_pointed_at(table: Table, links: Sequence[tuple[Table, ForeignKey]]) -> str:
        tests = []
        for child, key in links:
            if child.unreadable:
                raise WriteRefused(
                    f"{table.title}: records of {child.title} may point at it and would go or "
                    f"change with it, and that table cannot be read ({child.unreadable}); "
                    "nothing was written"
                )
            of = source(table).removeprefix("ONLY ")
            same = " AND ".join(
                f"{_CHILD}.{quoted(ours)} = {of}.{quoted(theirs)}"
                for ours, theirs in zip(key.columns, _targets(table, key), strict=True)
            )
            if child.id == table.id:  # a row may point at itself
                same += f" AND {_CHILD}.ctid <> {of}.ctid"
            tests.append(f" AND NOT EXISTS (SELECT 1 FROM {source(child)} {_CHILD} WHERE {same})")
        return "".join(tests)


def _targets(table: Table, key: ForeignKey) -> tuple[str, ...]:
    return key.target_columns or table.primary_key
