"""Records in a JSON document, or one on each line of a file.

A document is a list of objects or of lists; an object that holds such a list, as one with
``columns`` and ``rows``, is taken for that list. Numbers keep all their digits.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from decimal import Decimal
from itertools import islice
from pathlib import Path
from typing import Any, BinaryIO

from jondel.core.errors import ImportFailed
from jondel.core.imports.source import ImportForm, RawRows, SourceOptions, UnreadRow, named_columns

_RECORDS = 1_000
_HALF = re.compile(rb"\\u[dD][89a-fA-F]")
_SAMPLE = 10_000
"""Records that are looked at for the names of their members."""


class JsonSource:
    """See ``RowSource``."""

    form: ImportForm
    sheets: Sequence[str] = ()

    def __init__(self, path: Path, options: SourceOptions, *, lines: bool) -> None:
        self.path = path
        self.form = "jsonl" if lines else "json"
        self.number_word = "line" if lines else "record"
        self.settings: Mapping[str, str] = {}
        self._null = options.null
        self._has_halves = False
        """Whether halves of pairs of code units were read, which are no characters."""
        self._within, given = ("", None) if lines else _where_records_are(path)
        self.columns = named_columns(given) if given else self._names()
        self._places = {name: place for place, name in enumerate(given or self.columns)}

    def rows(self) -> Iterator[RawRows]:
        """See ``RowSource.rows``. Records with the same members are together."""
        with self._opened() as file:
            records = self._records(file)
            while some := list(islice(records, _RECORDS)):
                halves, self._has_halves = self._has_halves, False
                for rows in self._grouped(some):
                    yield rows._replace(has_invalid=halves)

    def _grouped(self, records: list[tuple[int, Any]]) -> Iterator[RawRows]:
        columns: tuple[int, ...] | None = None
        numbers: list[int] = []
        rows: list[list[Any]] = []
        unread: list[UnreadRow] = []
        for number, record in records:
            found = self._cells(record)
            if isinstance(found, str):
                unread.append(UnreadRow(number, found, _plain(record)))
                continue
            if found[0] != columns:
                if rows and columns is not None:
                    yield RawRows(columns, numbers, rows)
                    numbers, rows = [], []
                columns = found[0]
            numbers.append(number)
            rows.append(found[1])
        if rows or unread:
            yield RawRows(columns or (), numbers, rows, unread)

    def _cells(self, record: Any) -> tuple[tuple[int, ...], list[Any]] | str:
        """The columns and values of a record, or why it is none."""
        if isinstance(record, _NotJson):
            return record.reason
        if isinstance(record, list):
            if len(record) != len(self.columns):
                return f"{len(record)} values where there are {len(self.columns)} columns"
            return tuple(range(len(record))), [self._cell(value) for value in record]
        if not isinstance(record, dict):
            return "it is no object"
        places = self._places
        try:
            columns = tuple([places[name] for name in record])
        except KeyError as error:
            return f"the records before it have no member {error.args[0]!r}"
        return columns, [self._cell(value) for value in record.values()]

    def _cell(self, value: Any) -> Any:
        return None if value == self._null and isinstance(value, str) else value

    def _names(self) -> tuple[str, ...]:
        names: dict[str, None] = {}
        longest, found = 0, False
        with self._opened() as file:
            for _, record in islice(self._records(file), _SAMPLE):
                found = True
                if isinstance(record, dict):
                    names.update(dict.fromkeys(record))
                elif isinstance(record, list):
                    longest = max(longest, len(record))
        if not names and not longest:
            what = "no record in it is an object" if found else "holds no records"
            raise ImportFailed(f"{self.path}: {what}")
        return tuple(names) or named_columns([None] * longest)

    def _records(self, file: BinaryIO) -> Iterator[tuple[int, Any]]:
        if self.form == "jsonl":
            yield from self._lines(file)
            return
        import ijson

        number = 0
        try:
            for number, record in enumerate(ijson.items(file, self._within), 1):
                yield number, record
        except (ijson.JSONError, ValueError) as error:
            raise ImportFailed(
                f"{self.path}: after record {number} it is no JSON ({_words(error)})"
            ) from error

    def _lines(self, file: BinaryIO) -> Iterator[tuple[int, Any]]:
        for number, line in enumerate(file, 1):
            if not line.strip():
                continue
            if b"\\u" in line and _HALF.search(line):
                self._has_halves = True
            try:
                yield number, json.loads(line, parse_float=Decimal, parse_constant=_no_constant)
            except (ValueError, RecursionError) as error:
                text = line.decode("utf-8", "backslashreplace").rstrip("\r\n")
                yield number, _NotJson(text, f"it is no JSON: {error}")

    @contextmanager
    def _opened(self) -> Iterator[BinaryIO]:
        try:
            file = self.path.open("rb")
        except OSError as error:
            raise ImportFailed(f"{self.path}: cannot be read ({error.strerror})") from error
        with file:
            _skip_mark(file)
            yield file


class _NotJson:
    """A line that is no JSON."""

    def __init__(self, text: str, reason: str) -> None:
        self.text, self.reason = text, reason


def _plain(record: Any) -> Any:
    return record.text if isinstance(record, _NotJson) else record


def _no_constant(text: str) -> Any:
    raise ValueError(f"{text} is no number that JSON knows")


def _where_records_are(path: Path) -> tuple[str, list[str] | None]:
    """What leads to the records of a document, as ``ijson`` writes it; and the names of their
    columns where it lists them."""
    import ijson

    names: list[str] | None = None
    with path.open("rb") as file:
        _skip_mark(file)
        try:
            events = ijson.parse(file)
            _, event, _ = next(events, ("", "", None))
            if event == "start_array":
                return "item", None
            if event != "start_map":
                raise ImportFailed(f"{path}: is no list of records")
            for prefix, event, _ in events:
                if event != "start_array":
                    continue
                listed: list[str] = []
                for inner, kind, value in events:
                    if kind in ("start_map", "start_array"):
                        return f"{prefix}.item", names
                    if kind == "end_array" and inner == prefix:
                        break
                    listed.append(str(value))
                if prefix == "columns":
                    names = listed
                elif prefix == "rows":
                    return "rows.item", names  # there are none
        except (ijson.JSONError, ValueError) as error:
            raise ImportFailed(f"{path}: is no JSON ({_words(error)})") from error
    raise ImportFailed(f"{path}: holds no list of records")


def _skip_mark(file: BinaryIO) -> None:
    if file.read(3) != b"\xef\xbb\xbf":
        file.seek(0)


def _words(error: Exception) -> str:
    words = str(error)
    if isinstance(error.args[0] if error.args else "", bytes):
        words = error.args[0].decode("utf-8", "replace")
    return words.split("\n", maxsplit=1)[0].strip().rstrip(".")
