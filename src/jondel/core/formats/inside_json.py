"""What differs inside a value as JSON."""

from __future__ import annotations

import json
from typing import Any

from jondel.core.model.differences import (
    BlobDifference,
    Difference,
    JsonDifference,
    MemberDifference,
    TextDifference,
    TimeDifference,
)


def inside_json(difference: Difference) -> dict[str, Any]:
    """A difference as a JSON object, of which ``kind`` says what it is.

    Places in texts are counted in characters, those in blobs in bytes, both from 0.
    """
    match difference:
        case TextDifference():
            return {"kind": "text", **_text(difference)}
        case JsonDifference(members, more, text):
            return {
                "kind": "json",
                "members": [_member(member) for member in members],
                **_more(more),
                **({"written_differently": _text(text)} if text is not None else {}),
            }
        case BlobDifference():
            return {
                "kind": "blob",
                "offset": difference.offset,
                "same_at_end": difference.same_at_end,
                "sizes": list(difference.sizes),
                "kinds": list(difference.kinds),
            }
        case TimeDifference():
            return {
                "kind": "time",
                "counted_in": difference.kind,
                "before": difference.before,
                "after": difference.after,
                "seconds": difference.seconds,
            }


def _text(difference: TextDifference) -> dict[str, Any]:
    places = [
        {
            "at": [edit.at_before, edit.at_after],
            "lengths": list(edit.lengths),
            "before": edit.before,
            "after": edit.after,
            "lead": edit.lead,
            "trail": edit.trail,
        }
        for edit in difference.edits
    ]
    return {"places": places, **_more(difference.more)}


def _member(member: MemberDifference) -> dict[str, Any]:
    entry: dict[str, Any] = {"change": member.kind, "path": list(member.path)}
    if member.before is not None:
        entry["before"] = json.loads(member.before)
    if member.after is not None:
        entry["after"] = json.loads(member.after)
    if member.text is not None:
        entry["text"] = _text(member.text)
    return entry


def _more(more: int) -> dict[str, int]:
    return {"more": more} if more else {}
