"""What was found, in words and as plain data. A password is in neither."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

from jondel.core.find.looking import FoundDatabase
from jondel.core.model.sizes import size_text


def facts_of(entry: FoundDatabase) -> str:
    """What is known of a database, in one line."""
    says_itself = entry.tables is not None or (not entry.state and entry.engine == "sqlite")
    facts = ["" if says_itself else entry.engine, entry.state]
    if entry.size is not None:
        facts.append(size_text(entry.size))
    if entry.tables is not None:
        facts.append(f"{entry.tables} table{'' if entry.tables == 1 else 's'}")
    if entry.written_at is not None:
        written = datetime.fromtimestamp(entry.written_at).astimezone()
        facts.append(f"changed {written:%Y-%m-%d %H:%M}")
    return " · ".join(fact for fact in facts if fact)


def as_plain(entry: FoundDatabase) -> dict[str, Any]:
    """A database as JSON has it; what is not known is left out."""
    plain: dict[str, Any] = {"engine": entry.engine, "found_in": list(entry.places)}
    if entry.engine == "sqlite":
        plain["path"] = entry.shown
    else:
        plain |= {"url": entry.shown, "tables": entry.tables}
    plain["bytes"] = entry.size
    plain["reachable"] = entry.reachable
    plain["state"] = entry.state or None
    if entry.written_at is not None:
        plain["changed_at"] = datetime.fromtimestamp(entry.written_at, UTC).isoformat()
    return {name: value for name, value in plain.items() if value is not None}
