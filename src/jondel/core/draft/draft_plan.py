"""What a draft comes to: the statements that write it, in their order, and what must hold after.

What the engine would do by itself when a record is deleted (cascades, links set to NULL) is planned
statement by statement, so that all of it can be seen before it is written, and is checked like the
rest.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import NamedTuple

from jondel.core.browse.display import line, safe_name
from jondel.core.draft.draft import DraftEntries, Entry, NewRecord, RecordEdit
from jondel.core.engines.needed import writer_of
from jondel.core.engines.protocol import Database
from jondel.core.errors import WriteRefused
from jondel.core.model.addresses import TableId
from jondel.core.model.rows import Position
from jondel.core.model.schema import ForeignKey, Schema, Table
from jondel.core.model.values import Clipped, ShownRow, StoredValue
from jondel.core.model.writes import Cells, LinkCheck, RowWrite, WriteKind, WritePlan

_MOST_CASCADED = 10_000


class DraftPlan(NamedTuple):
    """The plan of a draft; ``cascaded`` counts the writes that follow from a deletion, and
    ``inserted`` has the numbers of the new records in the order of their writes."""

    plan: WritePlan
    cascaded: int
    inserted: tuple[int, ...] = ()


def plan_of(draft: DraftEntries, database: Database) -> DraftPlan:
    """Plan a draft against the database as it is now.

    Deletions come first, children before their parents; then changes; then new records, parents
    before their children.

    Raises:
        WriteRefused: a table is gone or cannot be written, or records that may not be deleted point
            at one that is to be.
    """
    return _Planning(draft, database).run()


def cells_of(table: Table, row: ShownRow) -> Cells:
    """A record's cells as far as they are at hand whole."""
    pairs = zip(table.column_names, row, strict=True)
    return tuple((name, value) for name, value in pairs if not isinstance(value, Clipped))


class _Planning:
    def __init__(self, draft: DraftEntries, database: Database) -> None:
        self._draft = draft
        self._database = database
        self._schema = database.schema()
        self._tables: dict[TableId, Table] = {}
        self._rank = _ranks(self._schema)
        self._deletes: dict[tuple[TableId, Position], RowWrite] = {}
        self._nulled: dict[tuple[TableId, Position], RowWrite] = {}
        self._checks: dict[LinkCheck, None] = {}
        self._incoming = _incoming(self._schema)

    def run(self) -> DraftPlan:
        updates: list[RowWrite] = []
        inserts: list[tuple[int, RowWrite]] = []
        doomed = [e for e in self._draft if isinstance(e, RecordEdit) and e.deleted]
        for edit in doomed:
            table = self._table(edit.table)
            self._deletes[edit.table, edit.position] = _delete(table, edit)
        asked = len(self._deletes)
        for edit in doomed:
            self._follow(self._table(edit.table), dict(edit.original))
        for entry in self._draft:
            if isinstance(entry, NewRecord):
                table = self._table(entry.table)
                inserts.append((entry.number, _insert(table, entry)))
                self._check_outgoing(table, entry.values, entry.values)
            elif not entry.deleted:
                table = self._table(entry.table)
                updates.append(_update(table, entry))
                after = {**dict(entry.original), **entry.values}
                self._check_outgoing(table, after, entry.values)
                self._check_incoming(table, dict(entry.original), entry.values)
        deletes = sorted(self._deletes.values(), key=lambda w: -self._rank[w.table])
        inserts.sort(key=lambda numbered: self._rank[numbered[1].table])
        inserted = tuple(number for number, _ in inserts)
        cascaded = len(deletes) - asked + len(self._nulled)
        writes = (*self._nulled.values(), *deletes, *updates, *(write for _, write in inserts))
        return DraftPlan(WritePlan(writes, tuple(self._checks), triggers=True), cascaded, inserted)

    def _table(self, wanted: TableId) -> Table:
        if wanted not in self._tables:
            self._tables[wanted] = self._written_table(wanted)
        return self._tables[wanted]

    def _written_table(self, wanted: TableId) -> Table:
        table = self._schema.find(wanted)
        if table is None or table.id != wanted:
            raise WriteRefused(f"{wanted}: the table is no longer there; drop what is drafted")
        reason = writer_of(self._database).why_not_written(table)
        if reason:
            raise WriteRefused(f"{wanted}: cannot be written: {reason}")
        return table

    # What goes with a deleted record

    def _follow(self, parent: Table, row: Mapping[str, StoredValue]) -> None:
        """Plan what becomes of the records that point at a deleted one, however far that goes."""
        following = [self._pointing(parent, row)]
        while following:
            deleted = next(following[-1], None)
            if deleted is None:
                following.pop()
            else:
                following.append(self._pointing(*deleted))

    def _pointing(
        self, parent: Table, row: Mapping[str, StoredValue]
    ) -> Iterator[tuple[Table, Mapping[str, StoredValue]]]:
        """Plan for the records that point at a deleted one; gives those that are deleted too."""
        for child, key in self._incoming.get(parent.id, ()):
            columns = key.target_columns or parent.primary_key
            values = tuple(_cell(row, name) for name in columns)
            if None in values or len(columns) != len(key.columns):
                continue
            cells = tuple(zip(key.columns, values, strict=True))
            action = key.on_delete.upper()
            if action == "CASCADE":
                yield from self._cascade(child, cells)
            elif action == "SET NULL":
                self._set_null(child, key, cells)
            else:
                self._checks[_check(child, key, parent, columns, values)] = None

    def _cascade(
        self, child: Table, cells: Cells
    ) -> Iterator[tuple[Table, Mapping[str, StoredValue]]]:
        for position, row in self._children(child, cells):
            if (child.id, position) in self._deletes:
                continue
            edit = self._draft.edit_of(child.id, position)
            if edit is not None and any(name in edit.values for name, _ in cells):
                continue  # it will not point there any more
            entry = RecordEdit(child.id, position, cells_of(child, row), {}, True)
            self._deletes[child.id, position] = _delete(child, entry)
            self._require_few()
            yield child, dict(entry.original)

    def _set_null(self, child: Table, key: ForeignKey, cells: Cells) -> None:
        for position, row in self._children(child, cells):
            edit = self._draft.edit_of(child.id, position)
            handled = (child.id, position) in self._deletes or (
                edit is not None and any(name in edit.values for name in key.columns)
            )
            if not handled:
                entry = RecordEdit(
                    child.id, position, cells_of(child, row), dict.fromkeys(key.columns)
                )
                self._nulled[child.id, position] = _update(child, entry)
                self._require_few()

    def _children(self, child: Table, cells: Cells) -> Iterator[tuple[Position, ShownRow]]:
        reason = writer_of(self._database).why_not_written(child)
        found = self._database.rows.matching_rows(child, cells, _MOST_CASCADED + 1)
        if reason and found.rows:
            raise WriteRefused(f"{child.title}: would be written too, and cannot be: {reason}")
        return zip(found.positions, found.rows, strict=True)

    def _require_few(self) -> None:
        if len(self._deletes) + len(self._nulled) > _MOST_CASCADED + len(self._draft):
            raise WriteRefused(f"more than {_MOST_CASCADED} records would go with it")

    # What must hold

    def _check_outgoing(
        self, table: Table, after: Mapping[str, StoredValue], changed: Mapping[str, StoredValue]
    ) -> None:
        for key in table.foreign_keys:
            parent = self._schema.find(key.target_table)
            if parent is None or not any(_has(changed, name) for name in key.columns):
                continue
            columns = key.target_columns or parent.primary_key
            values = tuple(_cell(after, name) for name in key.columns)
            if None not in values and len(columns) == len(values):
                self._checks[_check(table, key, parent, columns, values)] = None

    def _check_incoming(
        self, table: Table, before: Mapping[str, StoredValue], changed: Mapping[str, StoredValue]
    ) -> None:
        """A key that others point at is to change."""
        for child, key in self._incoming.get(table.id, ()):
            columns = key.target_columns or table.primary_key
            values = tuple(_cell(before, name) for name in columns)
            touched = any(_has(changed, name) for name in columns)
            if touched and None not in values and len(columns) == len(key.columns):
                self._checks[_check(child, key, table, columns, values)] = None


def _delete(table: Table, entry: RecordEdit) -> RowWrite:
    return _write("delete", table, _expected(table, entry), (), entry)


def _update(table: Table, entry: RecordEdit) -> RowWrite:
    values = tuple(entry.values.items())
    _require_columns(table, entry.values)
    return _write("update", table, _expected(table, entry), values, entry)


def _insert(table: Table, entry: NewRecord) -> RowWrite:
    _require_columns(table, entry.values)
    return _write("insert", table, (), tuple(entry.values.items()), entry)


def _write(kind: WriteKind, table: Table, expected: Cells, values: Cells, entry: Entry) -> RowWrite:
    record = record_words(entry, table)
    return RowWrite(kind, table.id, expected, values, record, table.position_columns)


def _require_columns(table: Table, values: Mapping[str, StoredValue]) -> None:
    for name in values:
        column = table.column(name)
        if column is None:
            raise WriteRefused(f"{table.title}.{name}: the column is no longer there")
        if column.generated:
            raise WriteRefused(f"{table.title}.{name}: is generated and cannot be set")


def _expected(table: Table, entry: RecordEdit) -> Cells:
    """The position, and every cell that was shown; a column that is gone cannot be checked."""
    position = tuple(zip(table.position_columns, entry.position, strict=True))
    named = {name for name, _ in position}
    known = set(table.column_names)
    shown = tuple(c for c in entry.original if c[0] in known and c[0] not in named)
    return (*position, *shown)


def record_words(entry: RecordEdit | NewRecord, table: Table | None) -> str:
    """An entry's record in a few words; ``table`` is None where it is not at hand."""
    if isinstance(entry, NewRecord):
        return f"new record {entry.number}"
    held = dict(entry.original)
    names = table.naming_columns if table is not None else ()
    name = tuple(held.get(column) for column in names)
    if not name or None in name:
        name = entry.position
    return " · ".join(line(value, 40) for value in name)


def entry_words(entry: RecordEdit | NewRecord, table: Table | None) -> str:
    """An entry on one line: the record, and what is to become of it; see ``record_words``."""
    record = f"{safe_name(entry.table)} {record_words(entry, table)}"
    if isinstance(entry, RecordEdit) and entry.deleted:
        return f"{record}: delete"
    before = dict(entry.original) if isinstance(entry, RecordEdit) else {}
    cells = ", ".join(
        f"{safe_name(name)} {f'{line(before[name], 30)} → ' if name in before else ''}"
        f"{line(value, 30)}"
        for name, value in entry.values.items()
    )
    return f"{record}: {cells or 'all defaults'}"


def _cell(row: Mapping[str, StoredValue], name: str) -> StoredValue:
    folded = name.casefold()
    return next((value for key, value in row.items() if key.casefold() == folded), None)


def _has(row: Mapping[str, StoredValue], name: str) -> bool:
    folded = name.casefold()
    return any(key.casefold() == folded for key in row)


def _check(
    child: Table,
    key: ForeignKey,
    parent: Table,
    columns: tuple[str, ...],
    values: tuple[StoredValue, ...],
) -> LinkCheck:
    ends = child.id, key.columns, parent.id, columns
    return LinkCheck(*ends, values, child.position_columns)


def _incoming(schema: Schema) -> dict[TableId, list[tuple[Table, ForeignKey]]]:
    incoming: dict[TableId, list[tuple[Table, ForeignKey]]] = {}
    for child in schema.tables:
        for key in child.foreign_keys:
            parent = schema.find(key.target_table)
            if parent is not None:
                incoming.setdefault(parent.id, []).append((child, key))
    return incoming


def _ranks(schema: Schema) -> dict[TableId, int]:
    """For each table how far down it is: parents before children; cycles wherever they are met."""
    parents = {
        table.id: {
            parent.id
            for key in table.foreign_keys
            if (parent := schema.find(key.target_table)) is not None and parent is not table
        }
        for table in schema.tables
    }
    ranks: dict[TableId, int] = {}
    for start in parents:
        path = {} if start in ranks else {start: iter(parents[start])}
        while path:
            name, left = next(reversed(path.items()))
            above = next((name for name in left if name not in ranks and name not in path), None)
            if above is not None:
                path[above] = iter(parents[above])
            else:
                del path[name]
                ranked = [ranks[parent] for parent in parents[name] if parent in ranks]
                ranks[name] = max(ranked, default=-1) + 1
    return ranks
