"""Digests of many records, where each in words would be too much for a file."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from typing import Any

from jondel.core.files.json_values import dumped, json_value
from jondel.core.model.changes import NoValue, RecordChange, TableChanges
from jondel.core.model.values import Clipped, Value, kind_of
from jondel.core.verify.candidates import cells_of
from jondel.core.verify.expectation import ExpectedRecord


def digest_of(rows: Sequence[Mapping[str, Value]]) -> str:
    """What stands for the cells of many records: the same for the same ones in any order."""
    lines = sorted(
        dumped({name: _plain(value) for name, value in sorted(row.items())}) for row in rows
    )
    return hashlib.sha256("\n".join(lines).encode("utf-8", "surrogatepass")).hexdigest()


def digested_cells(
    table: TableChanges, wanted: ExpectedRecord, record: RecordChange
) -> dict[str, Value]:
    """The cells of a record that the digest is made of: those that are not expected by name."""
    named = {name for name, _ in (*wanted.key, *wanted.cells)}
    cells = {name: value for name, value in cells_of(table, record).items() if name not in named}
    if record.kind == "changed":
        cells = {
            f"key {name}": value
            for name, value in zip(table.key_columns, record.key, strict=True)
            if name not in named
        }
        for cell in record.cells:
            if cell.column not in named:
                cells[f"after {cell.column}"] = cell.after
                if not isinstance(cell.before, NoValue):
                    cells[f"before {cell.column}"] = cell.before
    return cells


def _plain(value: Value) -> Any:
    if isinstance(value, Clipped):
        return [value.kind, value.size, value.head.hex()]
    return [kind_of(value), json_value(value)]
