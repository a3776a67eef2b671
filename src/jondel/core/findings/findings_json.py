"""Findings as JSON and as lines of text."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from jondel.core.browse.display import line, safe_name
from jondel.core.files.json_values import json_value
from jondel.core.findings.finding import Finding
from jondel.core.model.schema import Schema
from jondel.core.model.values import Clipped

_VALUE_CHARACTERS = 60


def findings_json(findings: Sequence[Finding], schema: Schema) -> dict[str, Any]:
    """All findings, in their order."""
    return {"findings": [_finding(finding, schema) for finding in findings]}


def _finding(finding: Finding, schema: Schema) -> dict[str, Any]:
    entry: dict[str, Any] = {"kind": finding.kind}
    if finding.table is not None:
        declared = schema.by_id.get(finding.table)
        levels = dict(zip(("schema", "catalog"), reversed(finding.table.above), strict=False))
        if not levels and declared is not None and declared.schema:
            levels = {"schema": declared.schema}
        entry |= {**levels, "table": finding.table.name}
    if finding.column:
        entry["column"] = finding.column
    if finding.key:
        key = zip(finding.key_columns, map(json_value, finding.key), strict=False)
        entry["key"] = dict(key)
    if finding.column:
        value = finding.value
        entry["value"] = (
            {"clipped": True, "bytes": value.size}
            if isinstance(value, Clipped)
            else json_value(value)
        )
    entry |= {"evidence": finding.evidence, "sure": round(finding.sure, 2)}
    if finding.others:
        entry["others"] = finding.others
    return entry


def finding_words(finding: Finding) -> str:
    """A finding on one line: where, what, on what evidence, how sure."""
    where = safe_name(finding.place) if finding.table is not None else "the step"
    if finding.key:
        where += f" {' · '.join(line(part, _VALUE_CHARACTERS) for part in finding.key)}"
    value = f" {line(finding.value, _VALUE_CHARACTERS)}" if finding.column else ""
    others = f" (and {finding.others} more)" if finding.others else ""
    sure = f"{finding.sure:.0%} sure"
    return f"{finding.kind}: {where}{value} — {line(finding.evidence, 400)}, {sure}{others}"
