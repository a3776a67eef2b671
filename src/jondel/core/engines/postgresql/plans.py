"""PostgreSQL's plans, from EXPLAIN in JSON."""

from __future__ import annotations

import json
from typing import Any

from jondel.core.model.plans import Concern, PlanStep

_MANY_ROWS = 1000
_DETAILS = (
    *("Index Cond", "Hash Cond", "Merge Cond", "Join Filter", "Filter"),
    *("Sort Key", "Group Key"),
)


def plan_of(document: str) -> tuple[PlanStep, ...]:
    """The plan that a document tells."""
    return (_step(json.loads(document)[0]["Plan"]),)


def _step(node: dict[str, Any]) -> PlanStep:
    words = [str(node.get("Node Type", "?"))]
    if node.get("Relation Name"):
        words.append(str(node["Relation Name"]))
    if node.get("Index Name"):
        words.append(f"by {node['Index Name']}")
    for detail in _DETAILS:
        if detail in node:
            told = node[detail]
            words.append(", ".join(told) if isinstance(told, list) else str(told))
    loops = float(node.get("Actual Loops", 1) or 1)
    rows = node.get("Actual Rows")
    total = node.get("Actual Total Time")
    return PlanStep(
        " ".join(words),
        str(node.get("Alias", "")),
        _concern(node),
        node.get("Plan Rows"),
        None if rows is None else float(rows) * loops,
        None if total is None else float(total) * loops / 1000,
        tuple(_step(inner) for inner in node.get("Plans", ())),
    )


def _concern(node: dict[str, Any]) -> Concern:
    kind = node.get("Node Type")
    if kind == "Seq Scan":
        read = float(node.get("Plan Rows", 0)) + float(node.get("Rows Removed by Filter", 0))
        return "reads all" if read > _MANY_ROWS or "Filter" in node else ""
    return "sorts" if kind in ("Sort", "Incremental Sort") else ""
