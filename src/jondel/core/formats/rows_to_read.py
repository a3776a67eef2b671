"""Rows for people to read: an aligned table, Markdown, an HTML page."""

from __future__ import annotations

import html
from collections.abc import Sequence
from typing import TextIO

from jondel.core.browse.display import line, safe_name
from jondel.core.formats.changes_markdown import markdown_row, markdown_rule
from jondel.core.formats.changes_text import WHOLE
from jondel.core.model.outcomes import ResultColumn
from jondel.core.model.values import ShownRow, is_number

CELL_CHARACTERS = 60
_ROWS_THAT_TELL_WIDTHS = 2000


class TableWriter:
    """Aligned columns; long values are cut with a sign, or ``whole``.

    How wide columns are is told by the first rows: so no more than those are kept.
    """

    def __init__(self, out: TextIO, *, whole: bool = True) -> None:
        self._out = out
        self._limit = WHOLE if whole else CELL_CHARACTERS
        self._head: list[str] = []
        self._first: list[ShownRow] = []
        self._widths: list[int] = []
        self._numeric: list[bool] = []
        self._rows = 0

    def begin(self, columns: Sequence[ResultColumn]) -> None:
        self._head = [safe_name(column.name) for column in columns]

    def take(self, rows: Sequence[ShownRow]) -> bool:
        self._rows += len(rows)
        if self._widths:
            self._write(rows)
            return True
        self._first += rows
        if len(self._first) >= _ROWS_THAT_TELL_WIDTHS:
            self._write_first()
        return True

    def end(self, complete: bool) -> None:
        if not self._widths:
            self._write_first()
        more = "" if complete else ", more left out"
        self._out.write(f"{self._rows} row{'' if self._rows == 1 else 's'}{more}\n")

    def _write_first(self) -> None:
        first = self._first
        self._numeric = [
            bool(first) and all(row[n] is None or is_number(row[n]) for row in first)
            for n in range(len(self._head))
        ]
        cells = [[line(value, self._limit) for value in row] for row in first]
        self._widths = [
            max(cells_of(text) for text in column)
            for column in zip(self._head, *cells, strict=True)
        ]
        self._write_line(self._head)
        self._out.write("  ".join("─" * width for width in self._widths) + "\n")
        for row in cells:
            self._write_line(row)
        self._first = []

    def _write(self, rows: Sequence[ShownRow]) -> None:
        for row in rows:
            self._write_line([line(value, self._limit) for value in row])

    def _write_line(self, cells: Sequence[str]) -> None:
        padded = []
        for text, width, right in zip(cells, self._widths, self._numeric, strict=True):
            space = " " * (width - cells_of(text))
            padded.append(space + text if right else text + space)
        self._out.write("  ".join(padded).rstrip() + "\n")


def cells_of(text: str) -> int:
    """How many terminal cells a text takes, of which all characters can be seen."""
    if text.isascii():
        return len(text)
    import wcwidth  # slow to load, and most results need no more than ASCII

    cells: int = wcwidth.wcswidth(text)
    return cells if cells >= 0 else len(text)


class MarkdownWriter:
    """A table for a page in Markdown, values whole."""

    def __init__(self, out: TextIO) -> None:
        self._out = out

    def begin(self, columns: Sequence[ResultColumn]) -> None:
        self._out.write(markdown_row(safe_name(column.name) for column in columns) + "\n")
        self._out.write(markdown_rule(len(columns)) + "\n")

    def take(self, rows: Sequence[ShownRow]) -> bool:
        for row in rows:
            self._out.write(markdown_row(line(value, WHOLE) for value in row) + "\n")
        return True

    def end(self, complete: bool) -> None:
        pass


_PAGE = """<!DOCTYPE html>
<html lang="en"><head><meta charset="utf-8"><title>{title}</title><style>
body {{ font: 14px/1.4 system-ui, sans-serif; margin: 2em; color: #1b1f23; background: #fff }}
table {{ border-collapse: collapse }}
th, td {{ padding: .2em .7em; text-align: left; vertical-align: top; white-space: pre-wrap }}
th {{ border-bottom: 2px solid #444 }} td {{ border-bottom: 1px solid #ccc }}
td.n {{ text-align: right; font-variant-numeric: tabular-nums }} td.o {{ color: #666 }}
</style></head><body><h1>{title}</h1><table><thead><tr>"""


class HtmlWriter:
    """A page of its own, with everything that it needs in it."""

    def __init__(self, out: TextIO, title: str) -> None:
        self._out = out
        self._title = title or "Result"
        self._rows = 0

    def begin(self, columns: Sequence[ResultColumn]) -> None:
        self._out.write(_PAGE.format(title=html.escape(line(self._title, WHOLE))))
        for column in columns:
            self._out.write(f"<th>{html.escape(safe_name(column.name))}</th>")
        self._out.write("</tr></thead><tbody>\n")

    def take(self, rows: Sequence[ShownRow]) -> bool:
        self._rows += len(rows)
        for row in rows:
            cells = []
            for value in row:
                kind = ' class="o"' if value is None or value == "" else ""
                kind = ' class="n"' if is_number(value) else kind
                cells.append(f"<td{kind}>{html.escape(line(value, WHOLE))}</td>")
            self._out.write(f"<tr>{''.join(cells)}</tr>\n")
        return True

    def end(self, complete: bool) -> None:
        more = "" if complete else ", more left out"
        rows = f"{self._rows} row{'' if self._rows == 1 else 's'}{more}"
        self._out.write(f"</tbody></table><p>{rows}</p></body></html>\n")
