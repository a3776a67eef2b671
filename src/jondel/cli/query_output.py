"""Where the rows of statements go: to stdout in the end, or to a file, complete or not there."""

from __future__ import annotations

import io
import shutil
import sys
import tempfile
from collections.abc import Sequence
from contextlib import ExitStack
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, BinaryIO, TextIO, cast

from jondel.cli.output import say, visible_lines
from jondel.cli.problems import UsageProblem
from jondel.core.errors import TargetUnavailable
from jondel.core.files.replacement import replacing
from jondel.core.formats.row_writers import RowForm, writer_to
from jondel.core.model.outcomes import ResultColumn, ResultSink
from jondel.core.model.values import ShownRow
from jondel.core.sql.completion import name_in_sql
from jondel.core.sql.dialect import Dialect

if TYPE_CHECKING:
    from jondel.core.formats.row_writers import RowWriter
    from jondel.core.formats.rows_xlsx import WorkbookWriter

_IN_MEMORY_BYTES = 4 << 20
_SEVERAL: tuple[RowForm, ...] = ("table", "markdown", "sql", "xlsx")
"""Formats that hold the rows of several statements."""


class RowsOut:
    """Takes the rows of some statements while the block runs; nothing is written if it fails.

    ``names`` are those of the statements.
    """

    def __init__(
        self,
        form: RowForm,
        output: str | None,
        names: Sequence[str],
        *,
        into: str,
        with_table: bool,
        dialect: Dialect,
        to_nowhere: bool,
    ) -> None:
        self._form, self._output, self._names = form, output, names
        self._into, self._with_table, self._dialect = into, with_table, dialect
        self._to_nowhere = to_nowhere
        self._stack = ExitStack()
        self._text: TextIO | None = None
        self._book: WorkbookWriter | None = None
        self._results = 0

    def __enter__(self) -> RowsOut:
        if self._to_nowhere:
            return self
        if self._form == "xlsx":
            if self._output is None:
                raise UsageProblem("a workbook needs a file: give -o FILE.xlsx")
            from jondel.core.formats.rows_xlsx import WorkbookWriter

            self._book = WorkbookWriter(self._file(self._output))
        elif self._output is not None:
            self._text = io.TextIOWrapper(
                self._file(self._output), "utf-8", errors="surrogateescape", newline="",
                write_through=False,
            )  # fmt: skip
        else:
            spool = self._stack.enter_context(
                tempfile.SpooledTemporaryFile(
                    _IN_MEMORY_BYTES, "w+", encoding="utf-8", errors="surrogateescape", newline=""
                )
            )
            self._text = cast(TextIO, spool)
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        try:
            if kind is None:
                self._finish()
        except BaseException as failed:
            self._stack.__exit__(type(failed), failed, failed.__traceback__)
            raise
        try:
            self._stack.__exit__(kind, error, trace)
        except OSError as failed:
            raise self._unwritten(failed) from failed

    def _finish(self) -> None:
        if self._book is not None:
            self._book.close()
            if self._book.cut:
                say(f"{self._book.cut} values were too long for a workbook, and are cut")
        elif self._output is not None and self._text is not None:
            self._text.flush()
            cast(io.TextIOWrapper, self._text).detach()
        elif self._text is not None:
            self._text.seek(0)
            if not sys.stdout.isatty():
                shutil.copyfileobj(self._text, sys.stdout)
                return
            for line in self._text:
                sys.stdout.write(line if line.rstrip("\n").isprintable() else visible_lines(line))

    def _file(self, name: str) -> BinaryIO:
        try:
            return self._stack.enter_context(replacing(Path(name).expanduser(), mode=0o666))
        except OSError as error:
            raise self._unwritten(error) from error

    def _unwritten(self, error: OSError) -> TargetUnavailable:
        return TargetUnavailable(f"{self._output}: cannot be written ({error.strerror or error})")

    def sink_or_none(self, number: int) -> ResultSink | None:
        """What takes the rows of a statement of a script; None where nobody wants them."""
        return None if self._to_nowhere else self.sink(number)

    def sink(self, number: int) -> ResultSink:
        """What takes the rows of a statement, from 0."""
        return _Sink(self, number)

    def writer(self, number: int, columns: Sequence[ResultColumn]) -> RowWriter:
        """What writes the rows of one more statement."""
        self._results += 1
        if self._results > 1 and self._form not in _SEVERAL:
            raise UsageProblem(
                f"{self._form} holds the rows of one statement; these are of several: give one, or "
                f"one of the formats {', '.join(_SEVERAL)}"
            )
        name = self._names[number] if number < len(self._names) else "result"
        if self._book is not None:
            self._book.name(name)
            return self._book
        assert self._text is not None
        if self._results > 1:
            self._text.write("\n")
        if self._form == "table":
            from jondel.core.formats.rows_to_read import TableWriter

            return TableWriter(self._text, whole=self._output is not None or not _is_terminal())
        return writer_to(
            self._form,
            self._text,
            table=self._table_of(columns),
            with_ddl=self._with_table,
            title=name,
            forms=self._dialect.forms,
        )

    def _table_of(self, columns: Sequence[ResultColumn]) -> str:
        """What is inserted into: the one table that all columns are from, unless told."""
        if self._into:
            return self._into
        tables = {column.table for column in columns}
        table = next(iter(tables), None) if len(tables) == 1 else None
        if table is None:
            return name_in_sql("result", self._dialect)
        return ".".join(name_in_sql(level, self._dialect) for level in table)

    def place(self) -> int | None:
        """Where what follows begins, to be gone back to; None where one cannot."""
        if self._text is None:
            return None
        self._text.flush()
        return self._text.tell()

    def go_back(self, place: int | None) -> None:
        """Have what was written from a place on be void."""
        if place is None or self._text is None:
            raise TargetUnavailable("the app writes all the time; try again, or ask a snapshot")
        self._text.flush()
        self._text.seek(place)
        self._text.truncate()
        self._results -= 1


class _Sink:
    def __init__(self, out: RowsOut, number: int) -> None:
        self._out, self._number = out, number
        self._place: int | None = None
        self._writer: RowWriter | None = None

    def begin(self, columns: Sequence[ResultColumn]) -> None:
        if self._writer is not None:
            self._out.go_back(self._place)
        else:
            self._place = self._out.place()
        self._writer = self._out.writer(self._number, columns)
        self._writer.begin(columns)

    def take(self, rows: Sequence[ShownRow]) -> bool:
        assert self._writer is not None, "it is begun first"
        return self._writer.take(rows)

    def end(self, complete: bool) -> None:
        assert self._writer is not None, "it is begun first"
        self._writer.end(complete)


def _is_terminal() -> bool:
    return sys.stdout.isatty()
