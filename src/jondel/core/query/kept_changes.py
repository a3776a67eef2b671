"""What a rehearsal would have changed, kept beside its entry from one day to the next."""

from __future__ import annotations

import base64
import json
from pathlib import Path
from typing import Any

from jondel.core.diff.inside import with_inside
from jondel.core.errors import StoreUnavailable
from jondel.core.files.home import private_folder
from jondel.core.files.json_values import json_value, value_from_json
from jondel.core.files.replacement import replace_text
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import (
    NO_VALUE,
    CellChange,
    ChangeCounts,
    Changes,
    NoValue,
    RecordChange,
    SchemaChange,
    TableChanges,
    Unread,
)
from jondel.core.model.values import Clipped, Value

_FORMAT = 1


def keep_changes(path: Path, changes: Changes) -> None:
    """Write changes to a file. Raises ``StoreUnavailable``."""
    document = {
        "format": _FORMAT,
        "method": changes.method,
        "tables": [_table(table) for table in changes.tables],
        "schema": [
            [*entry[:4], list(entry.table) if entry.table is not None else None]
            for entry in changes.schema_changes
        ],
        "unread": [[list(entry.table), entry.reason] for entry in changes.unread],
    }
    try:
        private_folder(path.parent)
        replace_text(path, json.dumps(document))
    except OSError as error:
        raise StoreUnavailable(f"{path}: cannot be written ({error.strerror})") from error


def kept_changes(path: Path) -> Changes | None:
    """The changes that a file keeps; None where it is gone, or of another form."""
    try:
        document = json.loads(path.read_text("utf-8"))
        if document["format"] != _FORMAT:
            return None
        return Changes(
            tuple(map(_table_of, document["tables"])),
            tuple(
                SchemaChange(kind, of, before, after, TableId.of(table) if table else None)
                for kind, of, before, after, table in document["schema"]
            ),
            tuple(Unread(TableId.of(table), reason) for table, reason in document["unread"]),
            document["method"],
        )
    except (OSError, ValueError, KeyError, TypeError, IndexError, RecursionError):
        return None


def _table(table: TableChanges) -> dict[str, Any]:
    counts = table.counts
    return {
        "schema": table.schema,
        "table": list(table.table),
        "key": list(table.key_columns),
        "by_row_id": table.key_is_row_id,
        "before": list(table.columns_before),
        "after": list(table.columns_after),
        "counts": [counts.added, counts.changed, counts.removed],
        "hidden": table.hidden,
        "named_by": list(table.named_by),
        "internal": table.internal,
        "derived": table.derived,
        "computed": list(table.computed),
        "records": [
            [record.kind, _row(record.key), _row(record.before), _row(record.after),
             [[c.column, _plain(c.before), _plain(c.after)] for c in record.cells], record.row_id]
            for record in table.records
        ],
    }  # fmt: skip


def _table_of(plain: dict[str, Any]) -> TableChanges:
    records = tuple(
        RecordChange(
            kind,
            _row_of(key) or (),
            _row_of(before),
            _row_of(after),
            tuple(
                with_inside(CellChange(name, _value(was), _value(now)), None)
                for name, was, now in cells
            ),
            row_id,
        )
        for kind, key, before, after, cells, row_id in plain["records"]
    )
    return TableChanges(
        plain["schema"],
        TableId.of(plain["table"]),
        tuple(plain["key"]),
        plain["by_row_id"],
        tuple(plain["before"]),
        tuple(plain["after"]),
        records,
        ChangeCounts(*plain["counts"]),
        plain["hidden"],
        tuple(plain["named_by"]),
        plain["internal"],
        plain["derived"],
        tuple(plain["computed"]),
    )


def _row(row: tuple[Value, ...] | None) -> list[Any] | None:
    return None if row is None else [_plain(value) for value in row]


def _row_of(plain: list[Any] | None) -> tuple[Any, ...] | None:
    return None if plain is None else tuple(map(_value, plain))


def _plain(value: Value | NoValue) -> Any:
    match value:
        case NoValue():
            return {"no_value": True}
        case Clipped(kind, size, head):
            return {"clipped": [kind, size, base64.b64encode(head).decode()]}
        case _:
            return json_value(value)


def _value(plain: Any) -> Any:
    match plain:
        case {"no_value": True}:
            return NO_VALUE
        case {"clipped": [kind, size, head]}:
            return Clipped(kind, size, base64.b64decode(head))
    return value_from_json(plain)
