"""The rows that an import did not take, with their reasons, in a file of their own.

It can be put right and imported in its turn. For a file of JSON it has an object a line, else it is
a CSV file; the number of each row and the reason come first, and are no columns of the rows.
"""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from itertools import count
from pathlib import Path
from typing import BinaryIO, NamedTuple

from jondel.core.errors import ImportFailed
from jondel.core.files.replacement import finish, unfinished_beside
from jondel.core.formats.rows_as_data import csv_line
from jondel.core.imports.readings import as_text
from jondel.core.imports.source import LINE_COLUMN, REASON_COLUMN, RowSource, UnreadRow
from jondel.core.model.values import StoredValue

_TEXT_MEMBER = "rejected_text"
_FIRST_SHOWN = 100
_MOST_REASONS = 1_000


class Rejected(NamedTuple):
    """How many rows were not taken, why, and the first of them; ``path`` is where all are."""

    rows: int
    reasons: tuple[tuple[str, int], ...] = ()
    first: tuple[UnreadRow, ...] = ()
    path: Path | None = None


class Rejects:
    """Takes rows that were not taken; see ``rejects_beside`` for where they are kept."""

    def __init__(self, out: BinaryIO | None = None, *, any_allowed: bool = True) -> None:
        """Without ``out`` they are counted alone. Where none is allowed, the first ends it all."""
        self._out = out
        self._any_allowed = any_allowed
        self._as_json = False
        self._number_word = "row"
        self._reasons: Counter[str] = Counter()
        self._first: list[UnreadRow] = []
        self.rows = 0

    def begin(self, source: RowSource) -> None:
        """Rows of this file follow; what came before is void."""
        self._as_json = source.form in ("json", "jsonl")
        self._number_word = source.number_word
        self.rows = 0
        self._reasons.clear()
        self._first.clear()
        if self._out is not None:
            self._out.seek(0)
            self._out.truncate()
            if not self._as_json:
                self._write(csv_line((LINE_COLUMN, REASON_COLUMN, *source.columns)))

    def add(self, row: UnreadRow) -> None:
        """Take a row. Raises ``ImportFailed`` where none is allowed."""
        if not self._any_allowed:
            what = f"{self._number_word} {row.number}"
            raise ImportFailed(f"{what}: {row.reason}; nothing was written")
        self.rows += 1
        if len(self._reasons) < _MOST_REASONS or row.reason in self._reasons:
            self._reasons[row.reason] += 1
        if len(self._first) < _FIRST_SHOWN:
            self._first.append(row)
        if self._out is not None:
            self._write(_json_of(row) if self._as_json else csv_line(_cells_of(row)))

    def result(self, path: Path | None = None) -> Rejected:
        """What there was."""
        reasons = tuple(self._reasons.most_common())
        return Rejected(self.rows, reasons, tuple(self._first), path)

    def _write(self, text: str) -> None:
        assert self._out is not None
        # Bytes that were no text are those bytes again; JSON has an escape for what is none.
        errors = "backslashreplace" if self._as_json else "surrogateescape"
        self._out.write(f"{text}\n".encode("utf-8", errors))


def _cells_of(row: UnreadRow) -> list[StoredValue]:
    raw = row.raw if isinstance(row.raw, list | tuple) else [str(row.raw).rstrip("\r\n")]
    return [row.number, row.reason, *(None if v is None else as_text(v) for v in raw)]


def _json_of(row: UnreadRow) -> str:
    given = row.raw if isinstance(row.raw, dict) else {_TEXT_MEMBER: row.raw}
    document = {LINE_COLUMN: row.number, REASON_COLUMN: row.reason, **given}
    return as_text(document)


@contextmanager
def rejects_beside(
    source: Path, wanted: Path | None = None, *, any_allowed: bool = True
) -> Iterator[KeptRejects]:
    """A file for rejected rows beside the one that is imported, or where it is ``wanted``.

    It is there, and complete, once ``keep`` was called; and never where nothing was rejected.

    Raises:
        ImportFailed: none can be written there.
    """
    path = wanted if wanted is not None else source
    try:
        with unfinished_beside(path, mode=0o600) as (file, unfinished):
            rejects = Rejects(file, any_allowed=any_allowed)
            yield KeptRejects(rejects, file, unfinished, lambda: _place(source, wanted))
    except OSError as error:
        raise ImportFailed(
            f"{path.parent}: rejected rows cannot be kept there ({error.strerror or error}); "
            "name a file for them"
        ) from error


class KeptRejects:
    """See ``rejects_beside``."""

    def __init__(
        self, rejects: Rejects, file: BinaryIO, unfinished: Path, place: Callable[[], Path]
    ) -> None:
        self.rejects = rejects
        self._file, self._unfinished, self._place = file, unfinished, place

    def keep(self) -> Rejected:
        """Have the file be there, if there is anything in it."""
        if not self.rejects.rows:
            return self.rejects.result()
        finish(self._file, durable=True)
        path = self._place()
        self._unfinished.replace(path)
        return self.rejects.result(path)


def _is_json(source: Path) -> bool:
    return source.suffix.lower() in (".json", ".jsonl", ".ndjson")


def _place(source: Path, wanted: Path | None) -> Path:
    if wanted is not None:
        return wanted
    ending = "jsonl" if _is_json(source) else "csv"
    stem = source.stem.removesuffix(".rejected")
    for number in count(1):
        name = f"{stem}.rejected{'' if number == 1 else f'-{number}'}.{ending}"
        path = source.with_name(name)
        if not os.path.lexists(path):
            return path
    raise AssertionError("numbers have no end")
