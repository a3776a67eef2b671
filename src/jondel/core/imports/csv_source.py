"""Rows in a CSV file, or one with other separators.

RFC 4180: fields in quotes may hold separators, quotes (twice) and line breaks. Nothing between two
separators is NULL, and a pair of quotes with nothing in it is empty text.
"""

from __future__ import annotations

import codecs
import csv
import re
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from itertools import islice
from pathlib import Path
from typing import TextIO

from jondel.core.errors import ImportFailed
from jondel.core.imports.source import ImportForm, RawRows, SourceOptions, UnreadRow, named_columns

_LINES = 500
_SAMPLE_BYTES = 256 << 10
_SAMPLE_LINES = 50
_DELIMITERS = (",", ";", "\t", "|")
_WORDS = {",": "commas", ";": "semicolons", "\t": "tabs", "|": "bars"}
_LONGEST_FIELD = 256 << 20
_MARKS = (
    (codecs.BOM_UTF8, "utf-8-sig"), (codecs.BOM_UTF16_LE, "utf-16"), (codecs.BOM_UTF16_BE, "utf-16")
)  # fmt: skip


class CsvSource:
    """See ``RowSource``."""

    form: ImportForm = "csv"
    sheets: Sequence[str] = ()
    number_word = "line"

    def __init__(self, path: Path, options: SourceOptions) -> None:
        self.path = path
        with path.open("rb") as file:
            head = file.read(_SAMPLE_BYTES)
        self._encoding = _known(options.encoding) or _encoding_of(head)
        self._heading, self._null = options.heading, options.null
        self._delimiter = options.delimiter or _delimiter_of(head, self._encoding)
        if len(self._delimiter) != 1 or self._delimiter in '"\r\n':
            raise ImportFailed("fields are separated by one character, and no quote or line break")
        first = next(self._fields(), None)
        if first is None:
            raise ImportFailed(f"{path}: holds no rows")
        count = len(first) if first else 1
        self.columns = named_columns(first if self._heading else [None] * count)
        self.settings: Mapping[str, str] = {
            "encoding": self._encoding.removesuffix("-sig").upper(),
            "separated by": _WORDS.get(self._delimiter, self._delimiter),
        }

    def rows(self) -> Iterator[RawRows]:
        """See ``RowSource.rows``."""
        with self._opened() as file:
            yield from _Reading(self, file, self._delimiter, self._null, self._heading).batches()

    def _fields(self) -> Iterator[list[str]]:
        with self._opened() as file:
            _allow_long_fields()
            try:
                for row in csv.reader(file, delimiter=self._delimiter):
                    if row:
                        yield row
            except csv.Error as error:
                raise ImportFailed(f"{self.path}: {error}") from error

    def _opened(self) -> TextIO:
        # What is not in the encoding is kept as it is, so that no row is lost for it.
        try:
            return self.path.open(encoding=self._encoding, errors="surrogateescape", newline="")
        except OSError as error:
            raise ImportFailed(f"{self.path}: cannot be read ({error.strerror})") from error


class _Reading:
    """One pass over a file."""

    def __init__(
        self, source: CsvSource, file: TextIO, delimiter: str, null: str | None, heading: bool
    ) -> None:
        self._source, self._file = source, file
        self._delimiter, self._null = delimiter, null
        self._skip_heading = heading
        self._columns = tuple(range(len(source.columns)))
        self._line = 0
        """How many lines were read."""
        self._one_field = re.compile(
            f'"((?:[^"]|"")*)"|([^{re.escape(delimiter)}\r\n]*)', re.DOTALL
        )
        _allow_long_fields()

    def batches(self) -> Iterator[RawRows]:
        try:
            while lines := list(islice(self._file, _LINES)):
                text = "".join(lines)
                found = self._quoted(lines) if '"' in text else self._plain(lines, text)
                yield found._replace(has_invalid=_has_surrogates(text))
        except UnicodeError as error:
            # Only of encodings that have no way to keep what is none of theirs.
            raise ImportFailed(
                f"{self._source.path}: line {self._line + 1} or one after it is not "
                f"{self._source.settings['encoding']} ({error})"
            ) from error

    def _plain(self, lines: Sequence[str], text: str) -> RawRows:
        """Rows without a quote: each is one line."""
        rows = list(csv.reader(lines, delimiter=self._delimiter, strict=True))
        numbers: Sequence[int] = range(self._line + 1, self._line + len(lines) + 1)
        self._line += len(lines)
        if self._skip_heading and any(rows):
            first = next(place for place, row in enumerate(rows) if row)
            rows, numbers = rows[first + 1 :], numbers[first + 1 :]
            self._skip_heading = False
        count, unread = len(self._columns), []
        if set(map(len, rows)) - {count}:
            kept = [(n, row) for n, row in zip(numbers, rows, strict=True) if len(row) == count]
            unread = [
                self._uneven(number, row)
                for number, row in zip(numbers, rows, strict=True)
                if row and len(row) != count
            ]
            numbers, rows = [n for n, _ in kept], [row for _, row in kept]
        null = self._null
        cells: Sequence[Sequence[str | None]] = rows
        if null is not None:
            cells = [[None if not c or c == null else c for c in row] for row in rows]
        elif self._may_be_empty(text):
            cells = [[cell or None for cell in row] for row in rows]
        return RawRows(self._columns, numbers, cells, unread)

    def _may_be_empty(self, text: str) -> bool:
        """Whether there is a field in some lines with nothing in it."""
        between = self._delimiter
        return (
            text.startswith(between)
            or text.endswith(between)
            or f"{between}{between}" in text
            or any(f"{between}{end}" in text or f"{end}{between}" in text for end in "\r\n")
        )

    def _quoted(self, lines: Sequence[str]) -> RawRows:
        """Rows of which some have quotes: one may go on beyond the lines."""
        feed = _Feed(lines, self._file)
        numbers: list[int] = []
        rows: list[list[str | None]] = []
        unread: list[UnreadRow] = []
        reader = csv.reader(feed, delimiter=self._delimiter, strict=True)
        while feed.has_more:
            number = self._line + 1
            feed.taken.clear()
            try:
                row = next(reader, [])
            except csv.Error as error:
                row, raw = [], "".join(feed.taken)
                unread.append(UnreadRow(number, f"it is no CSV: {error}", raw))
                reader = csv.reader(feed, delimiter=self._delimiter, strict=True)
            self._line += len(feed.taken)
            if not row:
                continue
            if self._skip_heading:
                self._skip_heading = False
            elif len(row) != len(self._columns):
                unread.append(self._uneven(number, row))
            else:
                numbers.append(number)
                rows.append(self._cells(row, feed))
        return RawRows(self._columns, numbers, rows, unread)

    def _cells(self, row: list[str], feed: _Feed) -> list[str | None]:
        null = self._null
        if "" not in row and null not in row:
            return list(row)
        # The library does not tell what was in quotes; so what is empty is looked at again.
        raw = "".join(feed.taken)
        if '""' not in raw and (null is None or f'"{null}"' not in raw):
            return [None if not cell or cell == null else cell for cell in row]
        cells: list[str | None] = []
        at = 0
        for cell in row:
            found = self._one_field.match(raw, at)
            in_quotes = found is not None and found[1] is not None
            cells.append(cell if in_quotes or (cell and cell != null) else None)
            at = (found.end() if found is not None else at) + 1
        return cells

    def _uneven(self, number: int, row: Sequence[str]) -> UnreadRow:
        count = len(self._columns)
        fields = f"{len(row)} field{'' if len(row) == 1 else 's'}"
        what = "heading" if count != 1 else "heading, of one column,"
        return UnreadRow(number, f"{fields} where the {what} has {count}", list(row))


class _Feed:
    """Lines, and what follows them where a row goes on; remembers what a row took."""

    def __init__(self, lines: Sequence[str], rest: TextIO) -> None:
        self._lines, self._rest = lines, rest
        self._next = 0
        self.taken: list[str] = []

    @property
    def has_more(self) -> bool:
        """Whether one of the lines is left."""
        return self._next < len(self._lines)

    def __iter__(self) -> _Feed:
        return self

    def __next__(self) -> str:
        if self._next < len(self._lines):
            line = self._lines[self._next]
            self._next += 1
        else:
            line = next(self._rest)
        self.taken.append(line)
        return line


def _allow_long_fields() -> None:
    csv.field_size_limit(_LONGEST_FIELD)


def _known(encoding: str | None) -> str | None:
    if encoding is None:
        return None
    try:
        return codecs.lookup(encoding).name
    except LookupError:
        raise ImportFailed(f"there is no encoding called {encoding}") from None


def _encoding_of(head: bytes) -> str:
    return next((name for mark, name in _MARKS if head.startswith(mark)), "utf-8")


def _delimiter_of(head: bytes, encoding: str) -> str:
    """What separates fields: the one that most lines have equally many of."""
    text = head.decode(encoding, "replace")
    lines = text.splitlines()[:_SAMPLE_LINES]
    if len(head) == _SAMPLE_BYTES and len(lines) > 1:
        lines.pop()  # it may be cut
    best, most = ",", (0, 0)
    for delimiter in _DELIMITERS:
        widths = Counter(len(row) for row in _parsed(lines, delimiter) if row)
        width, count = widths.most_common(1)[0] if widths else (1, 0)
        found = (count if width > 1 else 0, width)
        if found > most:
            best, most = delimiter, found
    return best


def _parsed(lines: Sequence[str], delimiter: str) -> list[list[str]]:
    try:
        return list(csv.reader(lines, delimiter=delimiter))
    except csv.Error:
        return []


def _has_surrogates(text: str) -> bool:
    if text.isascii():
        return False
    try:
        text.encode()
    except UnicodeEncodeError:
        return True
    return False
