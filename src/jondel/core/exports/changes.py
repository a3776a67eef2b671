"""Changes written to a file, in the formats of rows.

As rows there is one for each cell that an added or removed record has, or that differs in a changed
one. As SQL they are the statements that make them, those that other rows depend on first.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from pathlib import Path

from jondel.core.diff.compare import Comparison, Scope, TableDifference, compare
from jondel.core.engines.protocol import Database
from jondel.core.errors import ExportFailed
from jondel.core.exports.results_file import results_file
from jondel.core.exports.results_out import ResultsOut
from jondel.core.exports.tables import Exported, TableExport, parents_first
from jondel.core.files.json_values import dumped, json_value
from jondel.core.formats.changes_json import write_changes
from jondel.core.formats.row_writers import RowForm
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import (
    MARKS,
    ChangeCounts,
    ChangeKind,
    Changes,
    NoValue,
    RecordChange,
    TableChanges,
)
from jondel.core.model.outcomes import ResultColumn
from jondel.core.model.schema import Schema
from jondel.core.model.values import ShownRow
from jondel.core.query.change_statements import statement_of_change
from jondel.core.snapshots.catalogue import Snapshot
from jondel.core.sql.dialect import Dialect

_COLUMNS = ("change", "table", "key", "column", "before", "after")
_ORDER: tuple[ChangeKind, ...] = ("removed", "changed", "added")


def export_changes(
    ends: tuple[Snapshot | Database, Snapshot | Database],
    sides: tuple[Database, Database],
    scope: Scope,
    path: Path,
    form: RowForm,
    dialect: Dialect,
    progress: Callable[[int], None] = lambda records: None,
) -> Exported:
    """Write what differs between two states; ``dialect`` is that of whoever reads SQL.

    ``progress`` is told how many records are written by now, and may raise to stop it all.

    Raises:
        ExportFailed: it cannot be written, and nothing is there that was not before.
    """
    notes: list[str] = []
    counted = _Counted(progress)
    with results_file(path, form, dialect, told=notes.append) as out:
        match form:
            case "json":
                counted.count = write_changes(out.text, ends, sides, scope).records
            case "table" | "markdown":
                counted.count = _for_reading(out, sides, scope, form)
            case "sql":
                _statements(out, sides, scope, dialect, counted)
            case _:
                sink = out.sink("changes")
                sink.begin([ResultColumn(name) for name in _COLUMNS])
                for difference, record in _records(sides, scope):
                    counted.one()
                    sink.take(list(_rows(difference, record)))
                sink.end(complete=True)
    return Exported((path,), counted.count, tuple(notes))


class _Counted:
    def __init__(self, told: Callable[[int], None]) -> None:
        self.count = 0
        self._told = told

    def one(self) -> None:
        self.count += 1
        self._told(self.count)


def _counts(sides: tuple[Database, Database], scope: Scope) -> Changes:
    return compare(*sides, replace(scope, keep_records=0))


def _records(
    sides: tuple[Database, Database], scope: Scope
) -> Iterator[tuple[TableDifference, RecordChange]]:
    for table, difference in Comparison(*sides, scope).tables():
        if not isinstance(difference, TableDifference):
            raise ExportFailed(f"{table}: cannot be compared ({difference.reason})")
        for record in difference.records:
            change = scope.noise.without_noise(difference.table, record)
            if change is not None:
                yield difference, change


def _rows(difference: TableDifference, record: RecordChange) -> Iterator[ShownRow]:
    key = record.key[0] if len(record.key) == 1 else dumped([json_value(v) for v in record.key])
    head = (MARKS[record.kind], str(difference.table), key)
    if record.kind == "changed":
        for cell in record.cells:
            before = None if isinstance(cell.before, NoValue) else cell.before
            yield (*head, cell.column, before, cell.after)
        return
    gone = record.kind == "removed"
    columns = difference.columns_before if gone else difference.columns_after
    for name, value in zip(columns, (record.before if gone else record.after) or (), strict=True):
        yield (*head, name, *((value, None) if gone else (None, value)))


def _for_reading(
    out: ResultsOut, sides: tuple[Database, Database], scope: Scope, form: RowForm
) -> int:
    from jondel.core.formats.changes_markdown import change_markdown
    from jondel.core.formats.changes_text import change_lines

    changes = compare(*sides, scope)
    lines = change_markdown(changes) if form == "markdown" else change_lines(changes, whole=True)
    for line in lines:
        out.write_text(f"{line}\n")
    return changes.counts.total


def _statements(
    out: ResultsOut,
    sides: tuple[Database, Database],
    scope: Scope,
    dialect: Dialect,
    counted: _Counted,
) -> None:
    """The statements that make the second state of the first."""
    for change in Comparison(*sides, scope).schema_changes():
        out.write_text(f"-- {change.kind}: {' '.join(change.object.split())}\n")
    out.write_text(f"BEGIN;\n{dialect.defers_links};\n")
    counts = {changes.table: changes.counts for changes in _counts(sides, scope).tables}
    for kind in _ORDER:
        differing = [table for table, count in counts.items() if getattr(count, kind)]
        tables = _in_order(sides[0 if kind == "removed" else 1].schema(), differing)
        for table in reversed(tables) if kind == "removed" else tables:
            for difference, record in _records(sides, replace(scope, tables=frozenset({table}))):
                if record.kind == kind:
                    counted.one()
                    statement = statement_of_change(_about(difference), record, dialect)
                    out.write_text(f"{statement};\n")
    out.write_text("COMMIT;\n")


def _about(difference: TableDifference) -> TableChanges:
    """What statements are told of a table."""
    return TableChanges(
        difference.schema,
        difference.table,
        difference.key.columns,
        difference.key.is_row_id,
        difference.columns_before,
        difference.columns_after,
        (),
        ChangeCounts(),
        computed=difference.computed,
    )


def _in_order(schema: Schema, tables: Sequence[TableId]) -> list[TableId]:
    """Tables before those that point at them."""
    known = [schema.by_id[table] for table in tables if table in schema.by_id]
    ordered = [export.table.id for export in parents_first(list(map(TableExport.whole, known)))]
    return [*ordered, *(table for table in tables if table not in schema.by_id)]
