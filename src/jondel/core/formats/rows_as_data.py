"""Rows for programs to read: CSV, JSON and JSON lines."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from itertools import chain
from typing import TextIO

from jondel.core.files.json_values import dumped, json_value
from jondel.core.model.outcomes import ResultColumn
from jondel.core.model.values import Clipped, InvalidText, ShownRow, Value

_BREAK = "\r\n"
_PLAIN = frozenset({int, float, str, type(None)})


class CsvWriter:
    """RFC 4180 with a heading, lines ended by a line feed.

    NULL is an empty field, empty text a quoted one; a blob is ``0x`` and its bytes in hexadecimal;
    bytes that are not UTF-8 are surrogate escapes.
    """

    def __init__(self, out: TextIO) -> None:
        self._out = out
        self._is_single = False

    def begin(self, columns: Sequence[ResultColumn]) -> None:
        self._is_single = len(columns) == 1
        self._out.write(csv_line(tuple(column.name for column in columns)) + "\n")

    def take(self, rows: Sequence[ShownRow]) -> bool:
        # What the library writes as it is to be written goes its quicker way.
        plain = not self._is_single and set(map(type, chain.from_iterable(rows))) <= _PLAIN
        if plain and not any("" in row for row in rows):
            written = io.StringIO(newline="")
            csv.writer(written, lineterminator="\n").writerows(rows)
            text = written.getvalue()
            if "\r" not in text:  # else the library would not quote it
                self._out.write(text)
                return True
        for row in rows:
            self._out.write(csv_line(row) + "\n")
        return True

    def end(self, complete: bool) -> None:
        pass


def csv_line(row: Sequence[Value]) -> str:
    """One row, without the end of its line."""
    return ",".join(map(_csv_field, row))


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
    buffer = io.StringIO(newline="")
    csv.writer(buffer, lineterminator=_BREAK).writerow([text])  # what it quotes depends on that
    return buffer.getvalue().removesuffix(_BREAK)


class JsonWriter:
    """One document: the column names, and the rows as arrays in their order."""

    def __init__(self, out: TextIO) -> None:
        self._out = out
        self._separator = ""

    def begin(self, columns: Sequence[ResultColumn]) -> None:
        names = dumped([column.name for column in columns])
        self._out.write(f'{{"columns": {names},\n "rows": [')

    def take(self, rows: Sequence[ShownRow]) -> bool:
        for row in rows:
            self._out.write(self._separator + dumped([json_value(value) for value in row]))
            self._separator = ",\n  "
        return True

    def end(self, complete: bool) -> None:
        self._out.write("]}\n")


class JsonLinesWriter:
    """An object a line, by the names of the columns; of columns of one name, the later ones are
    numbered."""

    def __init__(self, out: TextIO) -> None:
        self._out = out
        self._names: list[str] = []

    def begin(self, columns: Sequence[ResultColumn]) -> None:
        self._names = distinct_names([column.name for column in columns])

    def take(self, rows: Sequence[ShownRow]) -> bool:
        for row in rows:
            pairs = zip(self._names, map(json_value, row), strict=True)
            self._out.write(dumped(dict(pairs)) + "\n")
        return True

    def end(self, complete: bool) -> None:
        pass


def distinct_names(names: Sequence[str]) -> list[str]:
    """Names of columns, each made another one than those before it."""
    taken: set[str] = set()
    found: list[str] = []
    for name in names:
        one, number = name, 2
        while one in taken or (one != name and one in names):
            one, number = f"{name}_{number}", number + 1
        taken.add(one)
        found.append(one)
    return found
