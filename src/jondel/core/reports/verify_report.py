"""A verify run as a report."""

from __future__ import annotations

from collections.abc import Sequence

from jondel.core.verify.run import ActionResult


def verify_report(form: str, database: str, results: Sequence[ActionResult]) -> str:
    return ""
