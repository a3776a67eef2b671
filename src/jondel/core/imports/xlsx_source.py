"""Rows in a sheet of a workbook: of formulas the value that was computed last; times as text."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from itertools import islice
from pathlib import Path
from typing import Any
from zipfile import BadZipFile

from jondel.core.errors import ImportFailed
from jondel.core.imports.source import ImportForm, RawRows, SourceOptions, UnreadRow, named_columns

_ROWS = 1_000


class WorkbookSource:
    """See ``RowSource``. Rows are numbered as in the workbook; those without any value are none."""

    form: ImportForm = "xlsx"
    number_word = "row"

    def __init__(self, path: Path, options: SourceOptions) -> None:
        self.path = path
        self._heading, self._null, self._sheet = options.heading, options.null, options.sheet
        with self._rows() as (rows, names):
            self.sheets: Sequence[str] = names
            first = next((row for _, row in rows), None)
            if first is None:
                raise ImportFailed(f"{path}: the sheet {self._sheet or names[0]} holds no rows")
            self.columns = named_columns(first if self._heading else [None] * len(first))
        self.settings: Mapping[str, str] = {"sheet": self._sheet or self.sheets[0]}

    def rows(self) -> Iterator[RawRows]:
        """See ``RowSource.rows``."""
        count = len(self.columns)
        columns = tuple(range(count))
        with self._rows() as (found, _):
            if self._heading:
                next(found, None)
            while some := list(islice(found, _ROWS)):
                unread = [
                    UnreadRow(number, f"{len(row)} cells where there are {count} columns", row)
                    for number, row in some
                    if len(row) > count
                ]
                kept = [(number, row) for number, row in some if len(row) <= count]
                rows = [[*row, *[None] * (count - len(row))] for _, row in kept]
                yield RawRows(columns, [number for number, _ in kept], rows, unread)

    @contextmanager
    def _rows(self) -> Iterator[tuple[Iterator[tuple[int, list[Any]]], Sequence[str]]]:
        """The rows that hold something, as long as the block runs; and the names of all sheets."""
        from openpyxl import load_workbook  # slow to load
        from openpyxl.utils.exceptions import InvalidFileException

        file = self.path.open("rb")
        try:
            book = load_workbook(file, read_only=True, data_only=True)
        except (BadZipFile, InvalidFileException, KeyError, ValueError, OSError) as error:
            file.close()
            raise ImportFailed(f"{self.path}: is no workbook that can be read ({error})") from error
        try:
            names = [sheet.title for sheet in book.worksheets]
            wanted = self._sheet or next(iter(names), "")
            if wanted not in names:
                listed = ", ".join(names) or "none"
                raise ImportFailed(f"{self.path}: has no sheet {wanted}; its sheets: {listed}")
            yield self._cells(book[wanted]), names
        finally:
            book.close()
            file.close()

    def _cells(self, sheet: Any) -> Iterator[tuple[int, list[Any]]]:
        from xml.etree.ElementTree import ParseError

        number = 0
        sheet.reset_dimensions()  # what it says of its size need not be so
        try:
            for number, row in enumerate(sheet.iter_rows(values_only=True), 1):
                cells = [self._cell(value) for value in row]
                while cells and cells[-1] is None:
                    cells.pop()
                if cells:
                    yield number, cells
        except (ParseError, ValueError, KeyError, IndexError, BadZipFile, EOFError) as error:
            raise ImportFailed(
                f"{self.path}: after row {number} the sheet cannot be read ({error})"
            ) from error

    def _cell(self, value: Any) -> Any:
        match value:
            case str():
                return None if value == self._null else _text(value)
            case dt.datetime():
                return value.isoformat(" ")
            case dt.date() | dt.time():
                return value.isoformat()
            case dt.timedelta():
                return str(value)
        return value


def _text(value: str) -> str:
    if "_x" not in value:
        return value
    from openpyxl.utils.escape import unescape

    return str(unescape(value))
