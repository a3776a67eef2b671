"""What came of a verify run, as JSON."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from jondel.core.files.json_values import json_value
from jondel.core.formats.changes_json import address_json, row_json
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import NoValue
from jondel.core.verify.candidates import cells_of
from jondel.core.verify.expectation import ExpectedRecord
from jondel.core.verify.matcher_forms import matcher_form
from jondel.core.verify.run import ActionResult
from jondel.core.verify.verdict import Found, Mismatch, Verdict


def run_json(results: Sequence[ActionResult]) -> dict[str, Any]:
    """All results, in their order."""
    return {"actions": [result_json(result) for result in results]}


def result_json(result: ActionResult) -> dict[str, Any]:
    """What came of one run of an action: its step, its outcome, what is not as expected."""
    entry: dict[str, Any] = {"name": result.action.name}
    if result.action.repeat > 1:
        entry["turn"] = result.turn
    step = result.step
    entry |= {"step": step.after.id if step is not None else None, "target": result.target}
    entry |= {"met": result.met}
    if result.problem:
        entry["problem"] = result.problem
    if step is not None:
        outcome = step.outcome
        entry["outcome"] = {
            "status": outcome.status,
            "seconds": round(outcome.seconds, 6),
            "said": outcome.said,
            **({"failure": outcome.failure} if outcome.failure else {}),
        }
        entry["settled"] = step.settled
        if step.transactions is not None:
            entry["transactions"] = step.transactions.count
    return entry | (verdict_json(result.verdict) if result.verdict is not None else {})


def verdict_json(verdict: Verdict) -> dict[str, Any]:
    """What is not as expected; ``unexpected``, ``missing`` and ``differing`` are always there."""
    entry: dict[str, Any] = {
        "unexpected": [
            {
                **_record(unexpected.found),
                **(
                    {"nearest": _wanted(unexpected.nearest), "cells": _cells(unexpected.cells)}
                    if unexpected.nearest is not None
                    else {}
                ),
            }
            for unexpected in verdict.unexpected
        ],
        "missing": [
            {
                **address_json(missing.table),
                **_wanted(missing.wanted),
                **({"nearest": _record(missing.nearest)} if missing.nearest is not None else {}),
            }
            for missing in verdict.missing
        ],
        "differing": [
            {**_record(differing.found), "cells": _cells(differing.cells)}
            for differing in verdict.differing
        ],
    }
    if verdict.counts:
        entry["counts"] = [
            {
                **_address(count.table),
                "kind": count.kind,
                "found": count.found,
                "expected": {"at_least": count.wanted.least, "at_most": count.wanted.most},
            }
            for count in verdict.counts
        ]
    if verdict.problems:
        entry["problems"] = list(verdict.problems)
    if verdict.more_unexpected:
        entry["more_unexpected"] = verdict.more_unexpected
    return entry


def _address(table: TableId) -> dict[str, str]:
    return address_json(table)


def _record(found: Found) -> dict[str, Any]:
    table, record = found
    row = cells_of(table, record)
    if record.kind == "changed":
        changed = {cell.column for cell in record.cells}
        row = {name: value for name, value in row.items() if name in changed}
    return {
        **address_json(table.table, table.schema),
        "kind": record.kind,
        "key": row_json(table.key_columns, record.key),
        "row": {name: json_value(value) for name, value in row.items()},
    }


def _wanted(wanted: ExpectedRecord) -> dict[str, Any]:
    return {
        "kind": wanted.kind,
        **({"key": {name: matcher_form(m) for name, m in wanted.key}} if wanted.key else {}),
        "expected": {name: matcher_form(matcher) for name, matcher in wanted.cells},
    }


def _cells(cells: Sequence[Mismatch]) -> dict[str, Any]:
    return {
        cell.column: {
            "found": None if isinstance(cell.found, NoValue) else json_value(cell.found),
            "expected": cell.wanted,
        }
        for cell in cells
    }
