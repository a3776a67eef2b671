"""Rows that a statement returned, as an aligned table, JSON or CSV."""

from __future__ import annotations

import csv
import io
import unicodedata
from collections.abc import Iterator, Sequence

from jondel.core.browse.display import line, safe_name
from jondel.core.keeping.json_values import dumped, json_value
from jondel.core.model.rows import ResultRows
from jondel.core.model.values import Clipped, InvalidText, Value

_CELL_CHARACTERS = 60


def as_json(result: ResultRows) -> Iterator[str]:
    """One document: the column names, and the rows as arrays in their order."""
    rows = ",\n  ".join(dumped([json_value(value) for value in row]) for row in result.rows)
    yield f'{{"columns": {dumped(result.columns)},\n "rows": [{rows}]}}'


def as_csv(result: ResultRows) -> Iterator[str]:
    """RFC 4180 with a header line. NULL is an empty field, empty text a quoted one."""
    for row in (result.columns, *result.rows):
        yield ",".join(_csv_field(value) for value in row)


def as_table(result: ResultRows) -> Iterator[str]:
    """Aligned columns for reading; long values are cut with a sign."""
    numeric = [
        bool(result.rows) and all(isinstance(row[i], int | float | None) for row in result.rows)
        for i in range(len(result.columns))
    ]
    cells = [[line(value, _CELL_CHARACTERS) for value in row] for row in result.rows]
    head = [safe_name(name) for name in result.columns]
    widths = [max(_cells(text) for text in column) for column in zip(head, *cells, strict=True)]
    yield _aligned(head, widths, numeric)
    yield "  ".join("─" * width for width in widths)
    for row in cells:
        yield _aligned(row, widths, numeric)
    count = len(result.rows)
    more = "" if result.complete else ", more left out"
    yield f"{count} row{'' if count == 1 else 's'}{more}"


def _csv_field(value: Value) -> str:
    match value:
        case None:
            return ""
        case "":
            return '""'
        case bytes():
            text = f"0x{value.hex()}"
        case InvalidText(raw) | Clipped(_, _, raw):
            text = raw.decode("utf-8", "replace")
        case _:
            text = str(value)
    buffer = io.StringIO()
    csv.writer(buffer, lineterminator="").writerow([text])
    return buffer.getvalue()


def _aligned(cells: Sequence[str], widths: Sequence[int], numeric: Sequence[bool]) -> str:
    padded = []
    for text, width, right in zip(cells, widths, numeric, strict=True):
        space = " " * (width - _cells(text))
        padded.append(space + text if right else text + space)
    return "  ".join(padded).rstrip()


def _cells(text: str) -> int:
    """How many terminal cells a text takes."""
    return sum(_character_cells(character) for character in text)


def _character_cells(character: str) -> int:
    if unicodedata.combining(character):
        return 0
    return 2 if unicodedata.east_asian_width(character) in "WF" else 1
