"""Writes the rows of a plan within a transaction, and finds what keeps it from being committed."""

from __future__ import annotations

import threading
from collections import Counter
from collections.abc import Sequence
from typing import cast

import apsw

from jondel.core.engines.sqlite.obstacles import ObstacleSearch
from jondel.core.engines.sqlite.sql_text import quoted
from jondel.core.engines.sqlite.state_wait import check_stop
from jondel.core.errors import RecordsMovedOn, WriteError, WriteRefused
from jondel.core.model.addresses import TableId
from jondel.core.model.statements import Statement
from jondel.core.model.values import StoredValue
from jondel.core.model.writes import LinkCheck, Obstacle, RowWrite, WritePlan

_NO_ROW = -(2**63)
"""What the number of the last row that was inserted is set to before the next one is."""
_CHECKED_SINGLY = 100
"""More links than this between two tables are checked with one statement for all."""
_MOST_OBSTACLES = 100
_Relation = tuple[TableId, tuple[str, ...], TableId, tuple[str, ...]]
"""A link's child, its columns, its parent, and its columns."""


class PlanRun:
    """One plan in one transaction."""

    def __init__(self, connection: apsw.Connection, stop: threading.Event) -> None:
        self._connection = connection
        self._stop = stop
        self._obstacles: list[Obstacle] = []
        self._search = ObstacleSearch(connection)
        self._not_written: set[TableId] = set()
        """The tables of which a row could not be written: links to and from them say nothing."""
        self._only_taken = True
        """Whether all obstacles are records that hold already what others are to hold."""

    def run(self, plan: WritePlan, statements: Sequence[Statement]) -> list[int | None]:
        """Returns the row numbers of the rows that were inserted.

        Raises:
            RecordsMovedOn: a row is not as expected, or what is inserted is there already.
            WriteRefused: with all that stands in the way, up to a limit.
        """
        inserted: list[int | None] = []
        relations = Counter(_relation(check) for check in plan.checks)
        many = {relation for relation, times in relations.items() if times > _CHECKED_SINGLY}
        dangling = {relation: self._dangling(relation) for relation in many}
        for write, statement in zip(plan.writes, statements, strict=True):
            check_stop(self._stop)
            self._connection.set_last_insert_rowid(_NO_ROW)
            changed = self._write(write, statement)
            row_id = self._connection.last_insert_rowid()
            row = row_id if changed and row_id != _NO_ROW else None
            self._search.written(write, row)
            if write.kind == "insert":
                inserted.append(row)
        checks = [check for check in plan.checks if not self._says_nothing(check)]
        for check in self._broken(checks, dangling):
            for obstacle in self._search.behind(check):
                self._add(obstacle)
        if self._obstacles:
            raise self._refusal()
        return inserted

    def _write(self, write: RowWrite, statement: Statement) -> int:
        try:
            changed = self._run(statement)
        except apsw.ConstraintError as error:
            self._not_written.add(write.table)
            taken = write.kind == "insert" and "UNIQUE" in str(error)
            self._add(self._search.of_constraint(write, str(error)), taken=taken)
            if not self._connection.in_transaction:  # a declaration or a trigger wanted that
                raise self._refusal() from error
            return 0
        except apsw.SQLError as error:
            if "no such collation" in str(error) or "no such function" in str(error):
                raise WriteRefused(
                    f"{write.table}: cannot be written without what only the app has ({error}); "
                    "nothing was written"
                ) from error
            raise WriteError(f"{write.table}: {error}; nothing was written") from error
        if write.kind != "insert" and changed != 1:
            if self._obstacles:  # it may be for these
                raise self._refusal()
            raise RecordsMovedOn(
                f"{write.table} {write.record}: it is no longer as it was "
                "(changed or removed meanwhile); nothing was written"
            )
        return changed

    def _run(self, statement: Statement) -> int:
        values = cast("tuple[apsw.SQLiteValue]", statement.values)
        self._connection.execute(statement.text(), values)
        return self._connection.changes()

    def _add(self, obstacle: Obstacle, *, taken: bool = False) -> None:
        self._obstacles.append(obstacle)
        self._only_taken &= taken
        if len(self._obstacles) == _MOST_OBSTACLES:
            raise self._refusal()

    def _refusal(self) -> WriteError:
        first, others = self._obstacles[0], len(self._obstacles) - 1
        more = f" (and {others} more such)" if others else ""
        kind = RecordsMovedOn if self._only_taken else WriteRefused
        return kind(f"{first.reason}{more}; nothing was written", self._obstacles)

    # Links

    def _says_nothing(self, check: LinkCheck) -> bool:
        return bool(self._not_written & {check.child, check.parent})

    def _broken(
        self, checks: Sequence[LinkCheck], dangling: dict[_Relation, set[tuple[StoredValue, ...]]]
    ) -> list[LinkCheck]:
        """The links that lead nowhere now and did not before."""
        broken: list[LinkCheck] = []
        positions: dict[_Relation, tuple[str, ...]] = {}
        for check in checks:
            check_stop(self._stop)
            if _relation(check) in dangling:
                positions[_relation(check)] = check.child_position_columns
            elif self._search.leads_nowhere(check):
                broken.append(check)
            if len(broken) == _MOST_OBSTACLES:
                return broken
        for relation, columns in positions.items():
            values = self._dangling(relation) - dangling[relation]
            broken += [LinkCheck(*relation, value, columns) for value in values]
        return broken

    def _dangling(self, relation: _Relation) -> set[tuple[StoredValue, ...]]:
        """The values by which rows of the child point at nothing."""
        child, columns, parent, parent_columns = relation
        present = " AND ".join(f"c.{quoted(name)} IS NOT NULL" for name in columns)
        joined = " AND ".join(
            f"p.{quoted(theirs)} = c.{quoted(ours)}"
            for theirs, ours in zip(parent_columns, columns, strict=True)
        )
        names = ", ".join(f"c.{quoted(name)}" for name in columns)
        return set(
            self._connection.execute(
                f"SELECT DISTINCT {names} FROM {quoted(child.name)} c WHERE {present} "
                f"AND NOT EXISTS (SELECT 1 FROM {quoted(parent.name)} p WHERE {joined})"
            )
        )


def _relation(check: LinkCheck) -> _Relation:
    return check.child, check.child_columns, check.parent, check.parent_columns
