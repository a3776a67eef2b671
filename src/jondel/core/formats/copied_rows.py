"""Rows as text to be pasted elsewhere: plain, CSV, JSON, Markdown."""

from __future__ import annotations

import io
import json
from collections.abc import Sequence
from enum import Enum
from typing import Any

from jondel.core.browse.display import line, safe_name
from jondel.core.errors import ReadError
from jondel.core.files.json_values import json_value
from jondel.core.formats.changes_json import address_json, cells_json, row_json
from jondel.core.formats.changes_markdown import markdown_row, markdown_rule
from jondel.core.formats.changes_text import WHOLE
from jondel.core.formats.row_writers import RowForm, writer_to
from jondel.core.model.changes import Changes, RecordChange, TableChanges
from jondel.core.model.outcomes import ResultColumn
from jondel.core.model.values import InvalidText, StoredValue


class CopyForm(Enum):
    """How rows are written; the value is the ending of a file of it."""

    TEXT = "txt"
    CSV = "csv"
    JSON = "json"
    MARKDOWN = "md"

    @property
    def words(self) -> str:
        """As in "3 rows as CSV"."""
        return {"txt": "text", "csv": "CSV", "json": "JSON", "md": "Markdown"}[self.value]


def cell_as(value: StoredValue, column: str, form: CopyForm) -> str:
    """One value by itself; as text exactly what is stored, NULL as nothing."""
    if form is CopyForm.JSON:
        return _json(value)
    if form is CopyForm.TEXT:
        return _plain(value)
    return rows_as((column,), [(value,)], form)


def record_as(columns: Sequence[str], row: Sequence[StoredValue], form: CopyForm) -> str:
    """One record, a line for each column where the form allows that."""
    pairs = list(zip(columns, row, strict=True))
    match form:
        case CopyForm.TEXT:
            return "\n".join(f"{name}\t{_plain(value)}" for name, value in pairs)
        case CopyForm.JSON:
            return _object(columns, row, "  ")
        case CopyForm.MARKDOWN:
            lines = [markdown_row(("column", "value")), markdown_rule(2)]
            lines += [markdown_row((safe_name(n), line(value, WHOLE))) for n, value in pairs]
            return "\n".join(lines)
    return rows_as(columns, [row], form)


def rows_as(columns: Sequence[str], rows: Sequence[Sequence[StoredValue]], form: CopyForm) -> str:
    """Several rows: as text a line each with tabs between the values and no heading."""
    match form:
        case CopyForm.TEXT:
            return "\n".join("\t".join(map(_plain, row)) for row in rows)
        case CopyForm.CSV:
            return _written("csv", columns, rows)
        case CopyForm.MARKDOWN:
            return _written("markdown", columns, rows)
        case CopyForm.JSON:
            objects = ",\n".join(f"  {_object(columns, row)}" for row in rows)
            return f"[\n{objects}\n]" if rows else "[]"


def _written(form: RowForm, columns: Sequence[str], rows: Sequence[Sequence[StoredValue]]) -> str:
    out = io.StringIO()
    writer = writer_to(form, out)
    writer.begin([ResultColumn(name) for name in columns])
    writer.take([tuple(row) for row in rows])
    writer.end(complete=True)
    return out.getvalue().removesuffix("\n")


def changes_as_json(changes: Changes) -> str:
    """Changes as ``diff --json`` has them, without the two states.

    Raises:
        ReadError: a value is at hand in part only.
    """
    tables = []
    for table in changes.tables:
        kinds: dict[str, list[dict[str, Any]]] = {"added": [], "removed": [], "changed": []}
        for record in table.records:
            kinds[record.kind].append(_change(table, record))
        head = {**address_json(table.table, table.schema), "key": list(table.key_columns)}
        tables.append({**head, **kinds})
    return json.dumps({"tables": tables}, ensure_ascii=False, allow_nan=False, indent=2)


def _change(table: TableChanges, record: RecordChange) -> dict[str, Any]:
    key = row_json(table.key_columns, record.key)
    try:
        if record.kind == "changed":
            return {"key": key, "cells": cells_json(record.cells)}
        columns = table.columns_after if record.kind == "added" else table.columns_before
        row = record.after if record.kind == "added" else record.before
        return {"key": key, "row": row_json(columns, row or ())}
    except TypeError as error:
        raise ReadError(
            f"{table.table}: a value is too large to be copied; jondel diff --json has it"
        ) from error


def _plain(value: StoredValue) -> str:
    match value:
        case None:
            return ""
        case bytes():
            return f"0x{value.hex()}"
        case InvalidText(raw):
            return raw.decode("utf-8", "surrogateescape")
        case _:
            return str(value)


def _json(value: StoredValue) -> str:
    return json.dumps(json_value(value), ensure_ascii=False, allow_nan=False)


def _object(columns: Sequence[str], row: Sequence[StoredValue], indent: str = "") -> str:
    pairs = [
        f"{json.dumps(name, ensure_ascii=False)}: {_json(value)}"
        for name, value in zip(columns, row, strict=True)
    ]
    if not indent:
        return f"{{{', '.join(pairs)}}}"
    joined = f",\n{indent}".join(pairs)
    return f"{{\n{indent}{joined}\n}}"
