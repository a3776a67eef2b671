"""A set of records written to a file: as SQL that inserts them, or as a JSON fixture."""

from __future__ import annotations

from pathlib import Path

from jondel.core.errors import ExportFailed
from jondel.core.exports.record_set import RecordSet, SetRecord
from jondel.core.exports.results_file import results_file
from jondel.core.exports.tables import Exported
from jondel.core.files.json_values import dumped, json_value
from jondel.core.formats.row_writers import RowForm
from jondel.core.sql.create_table import names_in_sql, table_in_sql
from jondel.core.sql.dialect import Dialect
from jondel.core.sql.values_in_sql import literal

FIXTURE_FORMS: tuple[RowForm, ...] = ("sql", "json")


def write_fixture(found: RecordSet, path: Path, form: RowForm, dialect: Dialect) -> Exported:
    """Write records so that they can be put into another database.

    SQL is one transaction. A JSON fixture has a list of records, each with its ``table`` and its
    ``row``; those that others point at come first.

    Raises:
        ExportFailed: the format holds no records of several tables, or it cannot be written.
    """
    if form not in FIXTURE_FORMS:
        raise ExportFailed("a record with all that it needs is written as SQL or JSON")
    with results_file(path, form, dialect) as out:
        if form == "sql":
            out.write_text(f"BEGIN;\n{dialect.defers_links};\n")
            for record in found.records:
                out.write_text(f"{_insert(record, dialect)};\n")
            out.write_text("COMMIT;\n")
        else:
            lines = ",\n  ".join(_object(record) for record in found.records)
            out.write_text(f'{{"records": [\n  {lines}\n]}}\n')
    return Exported((path,), len(found.records))


def _insert(record: SetRecord, dialect: Dialect) -> str:
    table, row = record
    pairs = [
        (column.name, value)
        for column, value in zip(table.columns, row, strict=True)
        if not column.generated
    ]
    names = names_in_sql((name for name, _ in pairs), dialect)
    values = ", ".join(literal(value, dialect.forms) for _, value in pairs)
    return f"INSERT INTO {table_in_sql(table.id, dialect)} ({names}) VALUES ({values})"


def _object(record: SetRecord) -> str:
    table, row = record
    pairs = zip(table.column_names, map(json_value, row), strict=True)
    return dumped({"table": str(table.id), "row": dict(pairs)})
