"""Where the rows of statements go: to stdout in the end, or to a file, complete or not there."""

from __future__ import annotations

import shutil
import sys
import tempfile
from collections.abc import Sequence
from contextlib import ExitStack
from pathlib import Path
from types import TracebackType
from typing import TextIO, cast

from jondel.cli.output import say, visible_lines
from jondel.cli.problems import UsageProblem
from jondel.core.exports.results_file import results_file
from jondel.core.exports.results_out import ResultsOut
from jondel.core.formats.row_writers import RowForm
from jondel.core.model.outcomes import ResultSink
from jondel.core.sql.dialect import Dialect

_IN_MEMORY_BYTES = 4 << 20


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
        self._out: ResultsOut | None = None

    def __enter__(self) -> RowsOut:
        if self._to_nowhere:
            return self
        if self._output is not None:
            path = Path(self._output).expanduser()
            with_table = self._with_table
            self._out = self._stack.enter_context(
                results_file(path, self._form, self._dialect, with_table=with_table, told=say)
            )
            return self
        if self._form == "xlsx":
            raise UsageProblem("a workbook needs a file: give -o FILE.xlsx")
        spool = self._stack.enter_context(
            tempfile.SpooledTemporaryFile(
                _IN_MEMORY_BYTES, "w+", encoding="utf-8", errors="surrogateescape", newline=""
            )
        )
        self._text = cast(TextIO, spool)
        self._out = ResultsOut(
            self._form,
            self._dialect,
            text=self._text,
            with_table=self._with_table,
            whole=not _is_terminal(),
        )
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        try:
            if kind is None and self._text is not None:
                self._print(self._text)
        except BaseException as failed:
            self._stack.__exit__(type(failed), failed, failed.__traceback__)
            raise
        self._stack.__exit__(kind, error, trace)

    def _print(self, text: TextIO) -> None:
        text.seek(0)
        if not sys.stdout.isatty():
            shutil.copyfileobj(text, sys.stdout)
            return
        for line in text:
            sys.stdout.write(line if line.rstrip("\n").isprintable() else visible_lines(line))

    def sink_or_none(self, number: int) -> ResultSink | None:
        """What takes the rows of a statement of a script; None where nobody wants them."""
        return None if self._to_nowhere else self.sink(number)

    def sink(self, number: int) -> ResultSink:
        """What takes the rows of a statement, from 0."""
        assert self._out is not None, "it is entered first"
        name = self._names[number] if number < len(self._names) else "result"
        return self._out.sink(name, into=self._into)


def _is_terminal() -> bool:
    return sys.stdout.isatty()
