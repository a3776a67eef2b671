"""Keeps the draft of a database in a file, so that it survives a crash, or a kill, at any time."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import suppress
from typing import Any

from jondel.core.draft.draft import Draft, Entry, NewRecord, RecordEdit
from jondel.core.keeping.json_values import json_value, value_from_json
from jondel.core.keeping.small_files import SmallFile
from jondel.core.model.values import StoredValue
from jondel.core.model.writes import Cells


class KeptDraft:
    """The file of the draft of the database at a location."""

    def __init__(self, location: str) -> None:
        self._file = SmallFile("drafts", location)

    def exists(self) -> bool:
        """Whether there may be a draft; quick."""
        return self._file.path.exists()

    def read(self) -> Draft:
        """What was kept; entries that cannot be understood are left out."""
        draft = Draft()
        entries = self._file.read().get("entries")
        for plain in entries if isinstance(entries, list) else []:
            with suppress(KeyError, TypeError, ValueError):
                draft.put_back(_entry(plain))
        return draft

    def write(self, draft: Draft) -> None:
        """Keep a draft as it is now; an empty one leaves no file.

        Raises:
            StoreUnavailable: it cannot be written.
        """
        self._file.write({"entries": [_plain(entry) for entry in draft]} if len(draft) else {})


def _plain(entry: Entry) -> dict[str, Any]:
    values = {name: json_value(value) for name, value in entry.values.items()}
    if isinstance(entry, NewRecord):
        return {"table": entry.table, "new": entry.number, "values": values}
    return {
        "table": entry.table,
        "position": [json_value(value) for value in entry.position],
        "original": [[name, json_value(value)] for name, value in entry.original],
        "values": values,
        "deleted": entry.deleted,
    }


def _entry(plain: Mapping[str, Any]) -> Entry:
    table = str(plain["table"])
    values: dict[str, StoredValue] = {
        str(name): value_from_json(value) for name, value in plain["values"].items()
    }
    if "new" in plain:
        return NewRecord(table, int(plain["new"]), values)
    original: Cells = tuple((str(name), value_from_json(v)) for name, v in plain["original"])
    position = tuple(value_from_json(value) for value in plain["position"])
    return RecordEdit(table, position, original, values, plain["deleted"] is True)
