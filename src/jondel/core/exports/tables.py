"""Tables written to files: one, the rows of it that a sheet shows, or several."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import NamedTuple

from jondel.core.browse.windows import rows_of
from jondel.core.engines.protocol import Database
from jondel.core.errors import ExportFailed
from jondel.core.exports.results_file import results_file
from jondel.core.exports.results_out import HOLD_SEVERAL, ResultsOut
from jondel.core.formats.row_writers import ENDINGS, RowForm
from jondel.core.model.filters import Arrangement
from jondel.core.model.outcomes import ResultColumn, ResultSink
from jondel.core.model.rows import Position
from jondel.core.model.schema import Schema, Table
from jondel.core.model.sizes import size_text
from jondel.core.model.values import Clipped, Row, ShownRow, StoredValue
from jondel.core.sql.completion import name_in_sql
from jondel.core.sql.create_table import create_table, table_in_sql
from jondel.core.sql.dialect import Dialect

_ROWS_AT_ONCE = 500
_LARGEST_VALUE = 1 << 30
_NOT_IN_FILE_NAMES = re.compile(r'[\x00-\x1f\x7f/\\:*?"<>|]')
_EVERYTHING = Arrangement()


class TableExport(NamedTuple):
    """What of a table is written: some columns, in their order, of the rows of an arrangement."""

    table: Table
    columns: tuple[str, ...]
    arrangement: Arrangement = _EVERYTHING

    @classmethod
    def whole(cls, table: Table) -> TableExport:
        """All of a table."""
        return cls(table, table.column_names)


class Exported(NamedTuple):
    """The files that were written, how many rows they hold, and what there is to know of them."""

    paths: tuple[Path, ...]
    rows: int
    notes: tuple[str, ...] = ()


def export_tables(
    database: Database,
    exports: Sequence[TableExport],
    path: Path,
    form: RowForm,
    dialect: Dialect,
    *,
    with_table: bool = False,
    progress: Callable[[int], None] = lambda rows: None,
) -> Exported:
    """Write tables to a file; several in a form that holds but one go into a folder of files.

    SQL has a table before those that point at it. ``dialect`` is that of whoever reads SQL.
    ``progress`` is told the rows that are written by now, and may raise to stop it all.

    Raises:
        ExportFailed: it cannot be written, and nothing is there that was not before.
    """
    schema, notes = database.schema(), list[str]()
    exports = parents_first(exports)
    written = _Progress(progress)
    with ExitStack() as stack:
        if len(exports) == 1 or form in HOLD_SEVERAL:
            file = results_file(path, form, dialect, with_table=with_table, told=notes.append)
            paths, outs = [path], [stack.enter_context(file)] * len(exports)
        else:
            paths = [path / name for name in _file_names(exports, form)]
            _make_folder(path)
            outs = [
                stack.enter_context(results_file(one, form, dialect, told=notes.append))
                for one in paths
            ]
        for export, out in zip(exports, outs, strict=True):
            _write(database, schema, export, out, form, dialect, written)
        if form == "sql" and with_table:
            for export, out in zip(exports, outs, strict=True):
                for statement in _belongings(schema, export.table, dialect):
                    out.write_text(f"{statement};\n")
    return Exported(tuple(paths), written.rows, tuple(notes))


class _Progress:
    """Counts the rows of all tables."""

    def __init__(self, told: Callable[[int], None]) -> None:
        self.rows = 0
        self._told = told

    def add(self, rows: int) -> None:
        self.rows += rows
        self._told(self.rows)


def _write(
    database: Database,
    schema: Schema,
    export: TableExport,
    out: ResultsOut,
    form: RowForm,
    dialect: Dialect,
    written: _Progress,
) -> None:
    table = export.table
    if form == "sql":  # what the engine computes is not inserted
        settable = {column.name for column in table.columns if not column.generated}
        export = export._replace(columns=tuple(n for n in export.columns if n in settable))
    declared = schema.declaration(table.id)
    sink = out.sink(
        table.title,
        into=table_in_sql(table.id, dialect),
        made_by=declared or create_table(table, dialect),
    )
    write_rows(database, export, sink, written.add)


def write_rows(
    database: Database,
    export: TableExport,
    sink: ResultSink,
    progress: Callable[[int], None] = lambda rows: None,
) -> None:
    """Hand the rows of a table on; ``progress`` is told how many came with each few.

    Raises:
        ExportFailed: a value is too large to be read.
    """
    table = export.table
    columns = [column for name in export.columns if (column := table.column(name)) is not None]
    sink.begin([ResultColumn(c.name, c.type, table.id, c.name) for c in columns])
    by_key = export.arrangement.natural and bool(table.position_columns)
    batches = (
        database.scanner.stream_rows(table, export.columns, table.position_columns)
        if by_key
        else _arranged(database, export)
    )
    for batch in batches:
        sink.take(batch)
        progress(len(batch))
    sink.end(complete=True)


def _arranged(database: Database, export: TableExport) -> Iterator[list[ShownRow]]:
    table = export.table
    places = [table.column_names.index(name) for name in export.columns]
    order = database.finder.arrange(table, export.arrangement)
    batch: list[ShownRow] = []
    for position, row in rows_of(database, table, order):
        if not row:
            continue  # it went since the order was made
        whole = whole_row(database, table, position, row)
        batch.append(tuple(whole[place] for place in places))
        if len(batch) == _ROWS_AT_ONCE:
            yield batch
            batch = []
    if batch:
        yield batch


def whole_row(database: Database, table: Table, position: Position, row: ShownRow) -> Row:
    """A row with all its values whole.

    Raises:
        ExportFailed: one is too large to be read.
    """
    read = row
    if any(isinstance(value, Clipped) for value in row) and position:
        read = database.rows.read_record(table, position, _LARGEST_VALUE) or row
    values: list[StoredValue] = []
    for name, value in zip(table.column_names, read, strict=True):
        if isinstance(value, Clipped):
            raise ExportFailed(
                f"{table.title}.{name}: a value of {size_text(value.size)} is too large to be read"
            )
        values.append(value)
    return tuple(values)


def parents_first(exports: Sequence[TableExport]) -> list[TableExport]:
    """Tables before those that point at them, as far as they do not point at each other."""
    left = {export.table.id: export for export in exports}
    ordered: list[TableExport] = []
    while left:
        free = [
            export
            for export in left.values()
            if not any(
                link.target_table in left and link.target_table != export.table.id
                for link in export.table.foreign_keys
            )
        ]
        for export in free or list(left.values())[:1]:
            ordered.append(left.pop(export.table.id))
    return ordered


def _belongings(schema: Schema, table: Table, dialect: Dialect) -> Iterator[str]:
    """What makes the indexes and triggers of a table, and those of its constraints that stand
    apart from it."""
    for entry in schema.objects:
        if entry.table != table.id or not entry.sql or entry.of_constraint:
            continue
        if entry.kind in ("index", "trigger"):
            yield entry.sql.rstrip().rstrip(";")
        elif entry.kind == "constraint" and not entry.sql.startswith("FOREIGN KEY"):
            name = name_in_sql(entry.name.name, dialect)
            yield f"ALTER TABLE {table_in_sql(table.id, dialect)} ADD CONSTRAINT {name} {entry.sql}"


def _file_names(exports: Sequence[TableExport], form: RowForm) -> list[str]:
    names: list[str] = []
    for export in exports:
        stem = name = file_stem(export.table)
        number = 2
        while name.casefold() in (known.casefold() for known in names):
            name, number = f"{stem} {number}", number + 1
        names.append(name)
    return [f"{name}.{ENDINGS[form]}" for name in names]


def file_stem(table: Table) -> str:
    """A name for a file with a table's rows."""
    return _NOT_IN_FILE_NAMES.sub("_", table.title).strip(" .") or "table"


def _make_folder(path: Path) -> None:
    try:
        os.makedirs(path, exist_ok=True)
    except OSError as error:
        raise ExportFailed(
            f"{path}: the folder for the tables cannot be made ({error.strerror})"
        ) from error
