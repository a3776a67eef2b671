"""Rows that a statement returned, as an aligned table, JSON or CSV."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator, Sequence

from jondel.core.browse.display import line, safe_name
from jondel.core.files.json_values import dumped, json_value
from jondel.core.formats.changes_markdown import markdown_row, markdown_rule
from jondel.core.formats.changes_text import WHOLE
from jondel.core.model.rows import ResultRows
from jondel.core.model.values import Clipped, InvalidText, Value, is_number

_CELL_CHARACTERS = 60


def as_json(result: ResultRows) -> Iterator[str]:
    """One document: the column names, and the rows as arrays in their order."""
    rows = ",\n  ".join(dumped([json_value(value) for value in row]) for row in result.rows)
    yield f'{{"columns": {dumped(result.columns)},\n "rows": [{rows}]}}'


def as_csv(result: ResultRows) -> Iterator[str]:
    """RFC 4180 with a header line. NULL is an empty field, empty text a quoted one; bytes that are
    not UTF-8 are surrogate escapes."""
    for row in (result.columns, *result.rows):
        yield ",".join(_csv_field(value) for value in row)


def as_table(result: ResultRows, *, whole: bool = False) -> Iterator[str]:
    """Aligned columns for reading; long values are cut with a sign, or ``whole``."""
    numeric = [
        bool(result.rows) and all(row[i] is None or is_number(row[i]) for row in result.rows)
        for i in range(len(result.columns))
    ]
    limit = WHOLE if whole else _CELL_CHARACTERS
    cells = [[line(value, limit) for value in row] for row in result.rows]
    head = [safe_name(name) for name in result.columns]
    widths = [max(_cells(text) for text in column) for column in zip(head, *cells, strict=True)]
    yield _aligned(head, widths, numeric)
    yield "  ".join("─" * width for width in widths)
    for row in cells:
        yield _aligned(row, widths, numeric)
    count = len(result.rows)
    more = "" if result.complete else ", more left out"
    yield f"{count} row{'' if count == 1 else 's'}{more}"


def as_markdown(result: ResultRows) -> Iterator[str]:
    """A table for a page in Markdown, values whole."""
    yield markdown_row(map(safe_name, result.columns))
    yield markdown_rule(len(result.columns))
    for row in result.rows:
        yield markdown_row(line(value, WHOLE) for value in row)


def _csv_field(value: Value) -> str:
    match value:
        case None:
            return ""
        case "":
            return '""'
        case bytes():
            text = f"0x{value.hex()}"
        case InvalidText(raw) | Clipped(_, _, raw):
            text = raw.decode("utf-8", "surrogateescape")  # written as the same bytes again
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
    """How many terminal cells a text takes, of which all characters can be seen."""
    if text.isascii():
        return len(text)
    import wcwidth  # slow to load, and most results need no more than ASCII

    cells: int = wcwidth.wcswidth(text)
    return cells if cells >= 0 else len(text)
