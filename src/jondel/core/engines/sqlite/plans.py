"""SQLite's plans, from EXPLAIN QUERY PLAN (https://sqlite.org/eqp.html)."""

from __future__ import annotations

import re
from collections.abc import Sequence

from jondel.core.model.plans import Concern, PlanStep
from jondel.core.model.values import ShownRow

_READS = re.compile(r"(SCAN|SEARCH) (?:TABLE )?(?:SUBQUERY )?(\S+)(?: AS (\S+))?")
EXPLAIN = "EXPLAIN QUERY PLAN "


def plan_of(rows: Sequence[ShownRow]) -> tuple[PlanStep, ...]:
    """The plan that EXPLAIN QUERY PLAN tells: of each row its number, its parent and its words."""
    below: dict[object, list[ShownRow]] = {}
    for row in rows:
        below.setdefault(row[1], []).append(row)
    return _steps(0, below)


def _steps(parent: object, below: dict[object, list[ShownRow]]) -> tuple[PlanStep, ...]:
    return tuple(
        _step(str(row[3]), _steps(row[0], below) if row[0] != parent else ())
        for row in below.get(parent, ())
    )


def _step(words: str, steps: tuple[PlanStep, ...]) -> PlanStep:
    reads = _READS.match(words)
    table = (reads[3] or reads[2]) if reads is not None else ""
    return PlanStep(words, table, _concern(words), steps=steps)


def _concern(words: str) -> Concern:
    if "AUTOMATIC" in words:
        return "makes an index"
    if "USE TEMP B-TREE" in words:
        return "sorts"
    constant = words.startswith("SCAN CONSTANT") or "VIRTUAL TABLE" in words
    if words.startswith("SCAN ") and not constant and " USING " not in words:
        return "reads all"
    return ""
