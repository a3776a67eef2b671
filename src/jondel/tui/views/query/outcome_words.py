"""What came of a statement, in a few words."""

from __future__ import annotations

from jondel.core.browse.display import grouped
from jondel.core.query.tape import Entry

_HOW = {"rehearsed": "rehearsed", "written": "written"}


def seconds_words(seconds: float) -> str:
    """How long something took, in the unit that fits."""
    if seconds < 0.001:
        return "<1 ms"
    if seconds < 1:
        return f"{seconds * 1000:.0f} ms"
    return f"{seconds:.1f} s" if seconds < 100 else f"{seconds / 60:.0f} min"


def records_words(number: int) -> str:
    """A number of records."""
    return f"{grouped(number)} record{'' if number == 1 else 's'}"


def rows_words(entry: Entry) -> str:
    """How many rows an entry has."""
    rows = entry.rows or 0
    words = f"{grouped(rows)} row{'' if rows == 1 else 's'}"
    return words if entry.complete else f"first {words}"


def outcome_words(entry: Entry) -> tuple[str, str]:
    """What came of an entry, and the name of the style to say it in."""
    if entry.error is not None:
        return "failed", "problem"
    if entry.fate == "not run":
        return "not run", "dim"
    parts = [_HOW[entry.how]] if entry.how in _HOW else []
    if entry.rows is not None:
        parts.append(rows_words(entry))
    if entry.affected is not None:
        parts.append(records_words(entry.affected))
    if entry.summary:
        parts.append(entry.summary)
    if entry.fate == "undone":
        parts.append("undone")
    if entry.step is not None:
        parts.append(f"s{entry.step}")
    parts.append(seconds_words(entry.seconds))
    return " · ".join(parts), "draft" if entry.how == "rehearsed" else "plain"
