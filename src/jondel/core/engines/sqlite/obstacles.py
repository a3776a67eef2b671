"""Finds the records for which a plan cannot be written, within its transaction."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

import apsw

from jondel.core.engines.sqlite.sql_text import quoted, quoted_list
from jondel.core.engines.sqlite.write_statements import bound_value
from jondel.core.model.addresses import TableId
from jondel.core.model.rows import Position
from jondel.core.model.values import InvalidText, StoredValue
from jondel.core.model.writes import LinkCheck, Obstacle, RowWrite

_MOST_POSITIONS = 1_000
_NAMED = 3
_SHOWN_CHARACTERS = 60


class ObstacleSearch:
    """Looks at the database as it is with what was written so far."""

    def __init__(self, connection: apsw.Connection) -> None:
        self._connection = connection
        self._written: list[tuple[RowWrite, int | None]] = []

    def written(self, write: RowWrite, row_id: int | None) -> None:
        """Take note of a write; ``row_id`` is the number of a row that was inserted."""
        self._written.append((write, row_id))

    def _written_to(self, table: TableId) -> dict[Position, RowWrite]:
        """What was inserted into a table or changed in it, by position."""
        found: dict[Position, RowWrite] = {}
        for write, row_id in self._written:
            if write.table != table or write.kind == "delete":
                continue
            position: Position | None = (row_id,) if row_id is not None else None
            if write.kind == "update" or position is None:
                cells = {**dict(write.expected), **dict(write.values)}
                position = _cells(write.position_columns, cells)
            if position is not None:
                found[position] = write
        return found

    # Links

    def leads_nowhere(self, check: LinkCheck) -> bool:
        """Whether rows of the child point at a row of the parent that is not there."""
        child, values = _matching(check.child.name, check.child_columns, check.values)
        parent, others = _matching(check.parent.name, check.parent_columns, check.values)
        found = self._connection.execute(
            # What is pointed at is there as a rule, and has an index.
            f"SELECT CASE WHEN EXISTS(SELECT 1 {parent}) THEN 0 ELSE EXISTS(SELECT 1 {child}) END",
            (*others, *values),
        ).get
        return bool(found)

    def behind(self, check: LinkCheck) -> list[Obstacle]:
        """The records that lead nowhere by a link: those that were written, and the others."""
        child, parent = check.child, check.parent
        positions, total = self._rows(
            child, check.child_columns, check.values, check.child_position_columns
        )
        written = self._written_to(child)
        ours = tuple(position for position in positions if position in written)
        others = tuple(position for position in positions if position not in written)
        found = []
        if ours or not positions:
            words = ", ".join(written[position].record for position in ours[:_NAMED])
            who = f"{child} {words}".rstrip()
            where = _named(check.child_columns, check.values)
            reason = f"{who} would point at a record of {parent} that is not there ({where})"
            there = tuple(p for p in ours if written[p].kind == "update")
            found.append(Obstacle(reason, child, there, len(ours)))
        if others:
            count = total - len(ours)
            verb = "points" if count == 1 else "point"
            where = _named(check.parent_columns, check.values)
            who = f"{child} {_listed(others, count)}"
            reason = f"{who} {verb} at {parent} with {where}, which would be gone"
            found.append(Obstacle(reason, child, others, count, check))
        return found

    # Constraints

    def of_constraint(self, write: RowWrite, error: str) -> Obstacle:
        """Why a row could not be written; ``error`` is what SQLite says."""
        record = f"{write.table} {write.record}"
        kind, _, what = error.partition(" constraint failed: ")
        names = _columns_of(write.table.name, what)
        if kind.endswith("NULL") and names:
            return Obstacle(f"{record}: {names[0]} must not be NULL", write.table)
        if kind == "CHECK":
            return Obstacle(f"{record}: the check {_short(what)} does not hold", write.table)
        if kind != "UNIQUE":
            return Obstacle(f"{record}: {error}", write.table)
        values = _cells(names, {**dict(write.expected), **dict(write.values)}) if names else None
        if values is None:
            return Obstacle(f"{record}: what must be unique is there already ({what})", write.table)
        positions, total = self._rows(write.table, names, values, write.position_columns)
        who = f"{write.table} {_listed(positions, total)}".strip() if total else "another record"
        reason = f"{record}: {_named(names, values)} must be unique, and {who} has that already"
        return Obstacle(reason, write.table, positions, total)

    def _rows(
        self,
        table: TableId,
        columns: Sequence[str],
        values: Sequence[StoredValue],
        position_columns: Sequence[str],
    ) -> tuple[tuple[Position, ...], int]:
        """The first positions of the rows that hold values, and how many rows do."""
        matching, bound = _matching(table.name, columns, values)
        try:
            total = self._connection.execute(f"SELECT count(*) {matching}", bound).get
            if not position_columns:
                return (), total
            names = quoted_list(position_columns)
            select = f"SELECT {names} {matching} LIMIT {_MOST_POSITIONS}"
            return tuple(self._connection.execute(select, bound)), total
        except apsw.SQLError:  # a name in a message need not be a column's
            return (), 0


def _matching(
    table: str, columns: Sequence[str], values: Sequence[StoredValue]
) -> tuple[str, list[Any]]:
    where = " AND ".join(
        f"{quoted(name)} = {_mark(value)}" for name, value in zip(columns, values, strict=True)
    )
    return f"FROM {quoted(table)} WHERE {where}", [bound_value(value) for value in values]


def _mark(value: StoredValue) -> str:
    return "CAST(? AS TEXT)" if isinstance(value, InvalidText) else "?"


def _columns_of(table: str, what: str) -> tuple[str, ...]:
    """The columns that a message names; none where it names something else."""
    start = f"{table}."
    if not what.startswith(start):
        return ()
    return tuple(re.split(f", {re.escape(start)}", what[len(start) :]))


def _cells(names: Sequence[str], row: dict[str, StoredValue]) -> Position | None:
    folded = {name.casefold(): value for name, value in row.items()}
    keys = [name.casefold() for name in names]
    return tuple(folded[key] for key in keys) if all(key in folded for key in keys) else None


def _named(names: Sequence[str], values: Sequence[StoredValue]) -> str:
    pairs = zip(names, values, strict=True)
    return ", ".join(f"{name} = {_short(repr(value))}" for name, value in pairs)


def _listed(positions: Sequence[Position], total: int) -> str:
    """Some records in words: the first few, and how many more there are."""
    named = [_short(" · ".join(map(str, position))) for position in positions[:_NAMED]]
    more = total - len(named)
    if not more:
        return ", ".join(named)
    return f"{', '.join(named)} and {more} more" if named else f"({total})"


def _short(text: str) -> str:
    return text if len(text) <= _SHOWN_CHARACTERS else f"{text[: _SHOWN_CHARACTERS - 1]}…"
