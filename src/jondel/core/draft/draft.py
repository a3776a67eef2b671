"""The draft: what a person has changed and not yet written, record by record."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from typing import NamedTuple, TypeAlias

from jondel.core.model.addresses import TableId
from jondel.core.model.rows import Position
from jondel.core.model.values import StoredValue, identical
from jondel.core.model.writes import Cells

EntryKey: TypeAlias = tuple[TableId, Position] | int
"""What names an entry: a record's table and position, or a new record's number."""


class RecordEdit(NamedTuple):
    """A record to change or to delete, with the cells it held when that was decided.

    ``original`` leaves out cells too large to be held; those are not checked when it is written.
    """

    table: TableId
    position: Position
    original: Cells
    values: Mapping[str, StoredValue]
    deleted: bool = False


class NewRecord(NamedTuple):
    """A record to insert; columns without a value get their default."""

    table: TableId
    number: int
    values: Mapping[str, StoredValue]


Entry: TypeAlias = RecordEdit | NewRecord


class DraftEntries:
    """Edits in the order in which records were first touched."""

    def __init__(
        self,
        edits: Mapping[tuple[TableId, Position], RecordEdit],
        inserts: Mapping[int, NewRecord],
    ) -> None:
        self._edits = dict(edits)
        self._inserts = dict(inserts)

    def __len__(self) -> int:
        return len(self._edits) + len(self._inserts)

    def __iter__(self) -> Iterator[Entry]:
        yield from self._edits.values()
        yield from self._inserts.values()

    @property
    def tables(self) -> dict[TableId, int]:
        """How many entries each table has."""
        counts: dict[TableId, int] = {}
        for entry in self:
            counts[entry.table] = counts.get(entry.table, 0) + 1
        return counts

    def edit_of(self, table: TableId, position: Position) -> RecordEdit | None:
        """What is to become of a record, if anything."""
        return self._edits.get((table, position))

    def of_table(self, table: TableId) -> tuple[list[RecordEdit], list[NewRecord]]:
        """A table's edits and new records."""
        return (
            [edit for edit in self._edits.values() if edit.table == table],
            [new for new in self._inserts.values() if new.table == table],
        )

    def get(self, key: EntryKey) -> Entry | None:
        return self._inserts.get(key) if isinstance(key, int) else self._edits.get(key)

    def frozen(self) -> DraftEntries:
        """The entries as they are now, for another thread: whatever becomes of these here."""
        return DraftEntries(self._edits, self._inserts)


_Before: TypeAlias = dict[EntryKey, Entry | None]
"""What entries were before an edit; None for what was not drafted."""


class Draft(DraftEntries):
    """Edits that are being made. Each can be undone, and done again, until it is written."""

    def __init__(self, entries: DraftEntries | None = None) -> None:
        if entries is None:
            super().__init__({}, {})
        else:
            super().__init__(entries._edits, entries._inserts)
        self._next = max(self._inserts, default=0) + 1
        self._done: list[_Before] = []
        self._undone: list[_Before] = []
        self._edit: _Before | None = None
        """What the edit that is being made has touched so far."""

    def set_cell(
        self, table: TableId, position: Position, original: Cells, column: str, value: StoredValue
    ) -> None:
        """Have a cell hold another value; what it holds already is no edit."""
        key = (table, position)
        known = self._edits.get(key) or RecordEdit(table, position, original, {})
        values = dict(known.values)
        before = dict(known.original)
        if column in before and identical(before[column], value):
            values.pop(column, None)
        else:
            values[column] = value
        self._set(key, known._replace(values=values) if values or known.deleted else None)

    def delete(self, table: TableId, position: Position, original: Cells) -> None:
        """Have a record deleted."""
        key = (table, position)
        known = self._edits.get(key) or RecordEdit(table, position, original, {})
        self._set(key, known._replace(deleted=True))

    def keep(self, table: TableId, position: Position) -> None:
        """Do not have a record deleted after all."""
        known = self._edits.get((table, position))
        edited = known is not None and known.values
        self._set((table, position), known._replace(deleted=False) if known and edited else None)

    def insert(self, table: TableId, values: Mapping[str, StoredValue]) -> int:
        """Have a record added; returns its number."""
        number, self._next = self._next, self._next + 1
        self._set(number, NewRecord(table, number, dict(values)))
        return number

    def change_new(self, number: int, values: Mapping[str, StoredValue]) -> None:
        """Have a new record hold other values."""
        self._set(number, self._inserts[number]._replace(values=dict(values)))

    def renew(self, key: tuple[TableId, Position], original: Cells) -> None:
        """Take a record as it is now for what the edit is of."""
        self._set(key, self._edits[key]._replace(original=original))

    def drop(self, key: EntryKey) -> None:
        """Forget one entry."""
        self._set(key, None)

    def drop_all(self) -> None:
        """Forget everything."""
        with self.one_edit():
            for entry in list(self):
                self.drop(key_of(entry))

    # Undoing

    @contextmanager
    def one_edit(self) -> Iterator[None]:
        """Have all that is done in the block be undone as one."""
        if self._edit is not None:
            yield
            return
        self._edit = {}
        try:
            yield
        finally:
            made, self._edit = self._edit, None
            if made:
                self._done.append(made)
                self._undone.clear()

    @property
    def can_undo(self) -> bool:
        return bool(self._done)

    @property
    def can_redo(self) -> bool:
        return bool(self._undone)

    def undo(self) -> list[Entry]:
        """Undo the last edit; returns the entries that it was about."""
        return self._turn_back(self._done, self._undone)

    def redo(self) -> list[Entry]:
        """Do again what was undone last; returns the entries that it is about."""
        return self._turn_back(self._undone, self._done)

    def _turn_back(self, edits: list[_Before], others: list[_Before]) -> list[Entry]:
        edit, after = edits.pop(), {}
        for key, before in edit.items():
            after[key] = self.get(key)
            self._put(key, before)
        others.append(after)
        about = [after[key] or edit[key] for key in edit]
        return [entry for entry in about if entry is not None]

    def _set(self, key: EntryKey, entry: Entry | None) -> None:
        """Have an entry be this, as an edit, or a part of one, that can be undone."""
        before = self.get(key)
        if _is_same(before, entry):
            return
        with self.one_edit():
            assert self._edit is not None
            self._edit.setdefault(key, before)
            self._put(key, entry)

    def _put(self, key: EntryKey, entry: Entry | None) -> None:
        if isinstance(key, int):
            if isinstance(entry, NewRecord):
                self._inserts[key] = entry
            else:
                self._inserts.pop(key, None)
        elif isinstance(entry, RecordEdit):
            self._edits[key] = entry
        else:
            self._edits.pop(key, None)

    # Writing and keeping

    def take_out(self, written: DraftEntries, placed: Mapping[EntryKey, Position]) -> None:
        """Forget what was written; what was edited meanwhile stays, as an edit of what is there.

        ``placed`` says where records are now that were added, or that have another position.
        What was done before can no longer be undone one by one.
        """
        for entry in written:
            now = self.get(key_of(entry))
            if now is entry or now is None:
                self.drop(key_of(entry))
            elif isinstance(now, RecordEdit) and isinstance(entry, RecordEdit):
                self._go_on_from(entry, now, placed)
            elif isinstance(now, NewRecord) and now.number in placed:
                self.drop(now.number)
                position = placed[now.number]
                for name, value in now.values.items():
                    if name not in entry.values or not identical(entry.values[name], value):
                        self.set_cell(now.table, position, (), name, value)
        self._done.clear()
        self._undone.clear()

    def _go_on_from(
        self, written: RecordEdit, now: RecordEdit, placed: Mapping[EntryKey, Position]
    ) -> None:
        if written.deleted:
            return  # it is gone: whoever writes the edit is told so
        self.drop(key_of(now))
        held = {**dict(now.original), **written.values}
        values = {
            name: value
            for name, value in now.values.items()
            if name not in held or not identical(held[name], value)
        }
        # A cell that was set back to what it held before has another value now.
        for name in written.values.keys() - now.values.keys():
            before = dict(now.original)
            if name in before:
                values[name] = before[name]
        if values or now.deleted:
            position = placed.get(key_of(written), now.position)
            self._edits[now.table, position] = now._replace(
                position=position, original=tuple(held.items()), values=values
            )

    def take_in(self, entries: DraftEntries) -> DraftEntries:
        """Take another draft in too; returns what cannot be, for records that are edited here."""
        left = Draft()
        for entry in entries:
            if isinstance(entry, NewRecord):
                self.put_back(entry._replace(number=self._next))
            elif key_of(entry) in self._edits:
                left.put_back(entry)
            else:
                self.put_back(entry)
        return left

    def put_back(self, entry: Entry) -> None:
        """Take in an entry as it was kept; that is no edit."""
        self._put(key_of(entry), entry)
        if isinstance(entry, NewRecord):
            self._next = max(self._next, entry.number + 1)


def key_of(entry: Entry) -> EntryKey:
    """What names an entry."""
    return entry.number if isinstance(entry, NewRecord) else (entry.table, entry.position)


def _is_same(one: Entry | None, other: Entry | None) -> bool:
    """Whether two entries of one key come to the same; 1, 1.0 and '1' do not."""
    if one is None or other is None:
        return one is other
    deleted = [isinstance(entry, RecordEdit) and entry.deleted for entry in (one, other)]
    originals = [entry.original for entry in (one, other) if isinstance(entry, RecordEdit)]
    return (
        deleted[0] == deleted[1]
        and all(original is originals[0] for original in originals)
        and one.values.keys() == other.values.keys()
        and all(identical(one.values[name], other.values[name]) for name in one.values)
    )
