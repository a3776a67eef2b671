"""Rows as a workbook.

A cell holds a number where it can: integers up to 2⁵³, decimals of up to 15 digits, and real
numbers, of which a workbook keeps 16. Everything else is text: larger numbers, times as the engine
writes them, blobs as ``0x`` and hexadecimal. NULL is an empty cell, empty text a text. Nothing is
ever a formula. A sheet takes 1 048 576 rows; what is more goes on the next one. A cell takes 32 767
characters: what is longer is cut, and that is counted.
"""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, BinaryIO

from jondel.core.model.outcomes import ResultColumn
from jondel.core.model.values import Clipped, Exact, InvalidText, ShownRow, Value

if TYPE_CHECKING:
    from openpyxl import Workbook

_MOST_ROWS = 1_048_576
_MOST_CHARACTERS = 32_767
_MOST_INTEGER = 1 << 53
_MOST_DIGITS = 15
_LONGEST_TITLE = 31
_NOT_IN_XML = re.compile("[\x00-\x08\x0b\x0c\x0d\x0e-\x1f\ufffe\uffff\ud800-\udfff]")
_ESCAPE = re.compile("_(?=x[0-9A-Fa-f]{4}_)")
_NOT_IN_TITLES = re.compile(r"[\\/*?:\[\]\x00-\x1f]")


class WorkbookWriter:
    """Writes results, each to sheets of its own; ``close`` writes the file."""

    def __init__(self, out: BinaryIO) -> None:
        from openpyxl import Workbook  # slow to load

        self._out = out
        self._book: Workbook = Workbook(write_only=True)
        self._titles: set[str] = set()
        self._heading: list[str] = []
        self._title = "result"
        self._rows = 0
        self.cut = 0
        """How many values were cut."""

    def name(self, title: str) -> None:
        """What the next result's sheet is called."""
        self._title = title

    def begin(self, columns: Sequence[ResultColumn]) -> None:
        self._heading = [column.name for column in columns]
        self._new_sheet()

    def take(self, rows: Sequence[ShownRow]) -> bool:
        for row in rows:
            if self._rows == _MOST_ROWS:
                self._new_sheet()
            self._sheet.append([self._cell(value) for value in row])
            self._rows += 1
        return True

    def end(self, complete: bool) -> None:
        pass

    def close(self) -> None:
        """Write the file."""
        if not self._titles:
            self._new_sheet()
        self._book.save(self._out)

    def _new_sheet(self) -> None:
        plain = _NOT_IN_TITLES.sub(" ", self._title).strip(" '") or "result"
        title, number = plain[:_LONGEST_TITLE], 2
        while title.casefold() in self._titles:
            ending = f" {number}"
            title, number = plain[: _LONGEST_TITLE - len(ending)] + ending, number + 1
        self._titles.add(title.casefold())
        self._sheet: Any = self._book.create_sheet(title)
        self._sheet.append([self._text(name) for name in self._heading])
        self._rows = 1

    def _cell(self, value: Value) -> Any:
        match value:
            case None:
                return None
            case bool():
                return int(value)
            case int() if abs(value) <= _MOST_INTEGER:
                return value
            case float() if math.isfinite(value):
                return value
            case Exact("numeric", text) if _fits(text):
                return float(text)
            case bytes():
                return self._text(f"0x{value.hex()}")
            case InvalidText(raw) | Clipped(_, _, raw):
                return self._text(raw.decode("utf-8", "replace"))
            case _:
                return self._text(str(value))

    def _text(self, text: str) -> Any:
        from openpyxl.cell import WriteOnlyCell

        if len(text) > _MOST_CHARACTERS:
            text, self.cut = text[:_MOST_CHARACTERS], self.cut + 1
        text = _ESCAPE.sub("_x005F_", text)
        cell = WriteOnlyCell(self._sheet)
        cell.value = _NOT_IN_XML.sub(lambda match: f"_x{ord(match[0]):04X}_", text)
        cell.data_type = "s"  # never a formula, whatever it begins with
        return cell


def _fits(text: str) -> bool:
    digits = re.sub(r"[^0-9]", "", text).lstrip("0")
    return bool(digits or "0" in text) and len(digits) <= _MOST_DIGITS and text not in ("NaN",)
