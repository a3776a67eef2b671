"""Keeps the draft of a database in a file, so that it survives a crash, or a kill, at any time."""

from __future__ import annotations

import threading
from collections.abc import Mapping
from contextlib import suppress
from itertools import count
from pathlib import Path
from typing import Any, NamedTuple

from jondel.core.draft.draft import Draft, DraftEntries, Entry, NewRecord, RecordEdit
from jondel.core.errors import StoreUnavailable
from jondel.core.files.claims import Claim
from jondel.core.files.home import private_folder
from jondel.core.files.json_values import json_value, value_from_json
from jondel.core.files.small_files import SmallFile
from jondel.core.model.addresses import TableId
from jondel.core.model.values import StoredValue
from jondel.core.model.writes import Cells

_PURPOSE = "drafts"


class KeptDraft(NamedTuple):
    """A draft from an earlier time. Where it ``was_being_written``, whoever did that was stopped
    then, and the database may hold it already."""

    entries: DraftEntries
    was_being_written: bool


class DraftFile:
    """The file of the draft of the database at a location.

    Each interface has one of its own while it is open, so that none writes what another drafted.
    What an earlier one left is taken over by the next that opens the database. Any thread may use
    it.
    """

    def __init__(self, location: str) -> None:
        self._location = location
        self._file = SmallFile(_PURPOSE, location)
        self._claim: Claim | None = None
        self._lock = threading.Lock()

    def open(self) -> KeptDraft:
        """Claim a file, and take over what nobody works on any more; entries that cannot be
        understood are left out."""
        try:
            self._claim_one()
        except (OSError, StoreUnavailable):
            return self._read(self._file)  # the home is read-only: nothing will be kept
        kept = self._read(self._file)
        for other in SmallFile.all_of(_PURPOSE, self._location):
            if other.number == self._file.number:
                continue
            claim = Claim.on(_lock_of(other))
            if claim is None:
                continue  # another interface works on it
            try:
                kept = self._take_over(kept, other)
            except StoreUnavailable:
                pass  # it stays where it is
            finally:
                claim.release()
        return kept

    def write(self, draft: DraftEntries, *, being_written: bool = False) -> None:
        """Keep a draft as it is now; an empty one leaves no file.

        ``being_written``: it is going to be written to the database, and this file will say soon
        what is left of it.

        Raises:
            StoreUnavailable: it cannot be written.
        """
        with self._lock:
            self._keep(self._file, KeptDraft(draft, being_written))

    def close(self) -> None:
        """Leave the file, and what it keeps, to whoever opens the database next."""
        with self._lock:
            if self._claim is not None:
                self._claim.release()
                self._claim = None

    def _claim_one(self) -> None:
        private_folder(self._file.path.parent)
        for number in count(1):
            self._file = SmallFile(_PURPOSE, self._location, number)
            self._claim = Claim.on(_lock_of(self._file))
            if self._claim is not None:
                return

    def _take_over(self, kept: KeptDraft, other: SmallFile) -> KeptDraft:
        draft, theirs = Draft(kept.entries), self._read(other)
        left = draft.take_in(theirs.entries)
        taken = KeptDraft(draft.frozen(), kept.was_being_written or theirs.was_being_written)
        self._keep(self._file, taken)
        self._keep(other, KeptDraft(left, False))
        return taken

    @staticmethod
    def _read(file: SmallFile) -> KeptDraft:
        draft, content = Draft(), file.read()
        entries = content.get("entries")
        for plain in entries if isinstance(entries, list) else []:
            with suppress(KeyError, TypeError, ValueError):
                draft.put_back(_entry(plain))
        return KeptDraft(draft.frozen(), content.get("being_written") is True)

    @staticmethod
    def _keep(file: SmallFile, kept: KeptDraft) -> None:
        entries = [_plain(entry) for entry in kept.entries]
        mark = {"being_written": True} if kept.was_being_written else {}
        file.write({"entries": entries, **mark} if entries else {})


def _lock_of(file: SmallFile) -> Path:
    return file.path.with_suffix(".lock")


def _plain(entry: Entry) -> dict[str, Any]:
    values = {name: json_value(value) for name, value in entry.values.items()}
    if isinstance(entry, NewRecord):
        return {"table": list(entry.table), "new": entry.number, "values": values}
    return {
        "table": list(entry.table),
        "position": [json_value(value) for value in entry.position],
        "original": [[name, json_value(value)] for name, value in entry.original],
        "values": values,
        "deleted": entry.deleted,
    }


def _entry(plain: Mapping[str, Any]) -> Entry:
    table = TableId.kept(plain["table"])
    values: dict[str, StoredValue] = {
        str(name): value_from_json(value) for name, value in plain["values"].items()
    }
    if "new" in plain:
        return NewRecord(table, int(plain["new"]), values)
    original: Cells = tuple((str(name), value_from_json(v)) for name, v in plain["original"])
    position = tuple(value_from_json(value) for value in plain["position"])
    return RecordEdit(table, position, original, values, plain["deleted"] is True)
