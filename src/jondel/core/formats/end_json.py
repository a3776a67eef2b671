"""One end of a comparison as JSON."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

from jondel.core.snapshots.catalogue import Snapshot

if TYPE_CHECKING:
    from jondel.core.engines.protocol import Database


def end_json(end: Snapshot | Database) -> dict[str, Any]:
    """One end of a comparison: a snapshot, or the live database."""
    if isinstance(end, Snapshot):
        return {
            "id": end.id,
            "label": end.label,
            "taken_at": end.taken_at.isoformat(),
            "trigger": {"kind": end.trigger.kind, "text": end.trigger.text},
        }
    taken_at = datetime.now(UTC).isoformat()
    return {"now": True, "location": end.location, "taken_at": taken_at}
