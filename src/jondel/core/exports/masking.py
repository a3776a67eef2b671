"""Values that stand for those that nobody else is to see: of the same kind, alike where those are.

NULL stays NULL. Equal values of a column are masked alike and others differently, so that what is
unique stays so.
"""

from __future__ import annotations

import datetime as dt
import json
import re
from collections.abc import Iterable, Sequence

from jondel.core.errors import ExportFailed
from jondel.core.exports.record_set import RecordSet, SetRecord
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Column, Table
from jondel.core.model.values import Exact, StoredValue

_DATE = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}")
_MOMENT = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}[T ][0-9]{2}:[0-9]{2}")
_ADDRESS = re.compile(r"[^@\s]+@[^@\s]+\.[^@\s]+")
_FIRST_DAY = dt.date(2000, 1, 1)
MaskedColumn = tuple[TableId, str]
"""A column of a table."""


def masked(found: RecordSet, columns: Iterable[MaskedColumn]) -> RecordSet:
    """Records with some columns masked.

    Raises:
        ExportFailed: a column is a key, or part of a link: it has to stay what it is.
    """
    wanted = set(columns)
    tables = {record.table.id: record.table for record in found.records}
    for address, name in wanted:
        if address in tables:
            _require_free(tables[address], name, found)
    known: dict[tuple[TableId, str], dict[StoredValue, StoredValue]] = {}
    records = []
    for record in found.records:
        table, row = record
        values = list(row)
        for place, column in enumerate(table.columns):
            if (table.id, column.name) in wanted and row[place] is not None:
                masks = known.setdefault((table.id, column.name), {})
                if row[place] not in masks:
                    masks[row[place]] = mask_of(row[place], column, len(masks) + 1)
                values[place] = masks[row[place]]
        records.append(SetRecord(table, tuple(values)))
    return found._replace(records=tuple(records))


def why_not_masked(table: Table, name: str, found: RecordSet) -> str:
    """Why a column cannot be masked; empty where it can."""
    if name in table.primary_key:
        return "it is the key"
    for link in found.links:
        if (link.child == table.id and name in link.columns) or (
            link.parent == table.id and name in link.parent_columns
        ):
            return f"it is part of a link ({link.words()})"
    return ""


def _require_free(table: Table, name: str, found: RecordSet) -> None:
    if table.column(name) is None:
        raise ExportFailed(f"{table.title} has no column {name}")
    reason = why_not_masked(table, name, found)
    if reason:
        raise ExportFailed(f"{table.title}.{name} cannot be masked: {reason}")


def mask_of(value: StoredValue, column: Column, number: int) -> StoredValue:
    """What stands for the value of a number in a column."""
    if isinstance(value, bool | int):
        return number
    if isinstance(value, float):
        return float(number)
    if isinstance(value, bytes):
        return number.to_bytes(max(1, (number.bit_length() + 7) // 8), "big")
    if isinstance(value, Exact):
        return _exact(value, column, number)
    return _text(_use_of(value, column), column.name, number)


def _use_of(value: StoredValue, column: Column) -> str:
    """What a text is for: what its column is declared for, else what it looks like."""
    if column.type.meant is not None or not isinstance(value, str):
        return column.type.use
    if _DATE.fullmatch(value):
        return "date"
    if _MOMENT.match(value):
        return "timestamp"
    if _ADDRESS.fullmatch(value):
        return "address"
    if value[:1] in ("{", "["):
        try:
            json.loads(value)
        except (ValueError, RecursionError):
            return "text"
        return "json"
    return "text"


def _text(use: str, name: str, number: int) -> str:
    day = _FIRST_DAY + dt.timedelta(days=number)
    match use:
        case "address":
            return f"{number}@example.org"
        case "date":
            return day.isoformat()
        case "timestamp" | "timestamp with time zone":
            return f"{day.isoformat()} 00:00:00"
        case "time":
            return f"{number // 3600 % 24:02}:{number // 60 % 60:02}:{number % 60:02}"
        case "uuid":
            return f"00000000-0000-0000-0000-{number:012x}"
        case "json":
            return f'{{"masked": {number}}}'
    return f"{name} {number}"


def _exact(value: Exact, column: Column, number: int) -> StoredValue:
    match value.kind:
        case "numeric":
            return Exact("numeric", str(number))
        case "boolean":
            return Exact("boolean", "false")
        case "interval":
            return Exact("interval", f"{number} days")
        case "array":
            return Exact("array", "{}")
        case "enum" | "bits":
            return value  # of a few that everybody may know
        case "date" | "uuid" | "json" | "timestamp" | "time" as kind:
            return Exact(kind, _text(kind, column.name, number))
        case "timestamp with time zone" as kind:
            return Exact(kind, f"{_text(kind, column.name, number)}+00")
    return value


def masks(words: Sequence[str], tables: Iterable[Table]) -> list[MaskedColumn]:
    """Columns as a person names them: ``skippers.email``, or ``*.email`` for every table.

    Raises:
        ExportFailed: there is no such column.
    """
    known, found = list(tables), []
    for word in words:
        name, _, column = word.rpartition(".")
        of = [
            (table.id, column)
            for table in known
            if table.column(column) is not None
            and (name == "*" or name.casefold() in (table.name.casefold(), table.title.casefold()))
        ]
        if not of:
            raise ExportFailed(f"there is no column {word}; name it as in skippers.email")
        found += of
    return found
