"""Writes results one after the other, in one format, to one stream."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, BinaryIO, TextIO

from jondel.core.errors import ExportFailed, SeveralResults
from jondel.core.formats.row_writers import RowForm, writer_to
from jondel.core.model.outcomes import ResultColumn, ResultSink
from jondel.core.model.values import ShownRow
from jondel.core.sql.completion import name_in_sql
from jondel.core.sql.create_table import table_in_sql
from jondel.core.sql.dialect import Dialect

if TYPE_CHECKING:
    from jondel.core.formats.row_writers import RowWriter
    from jondel.core.formats.rows_xlsx import WorkbookWriter

HOLD_SEVERAL: tuple[RowForm, ...] = ("table", "markdown", "sql", "xlsx")
"""Formats that hold several results."""


class ResultsOut:
    """``text`` is what is written to, or for a workbook ``book``, which has to be ended."""

    def __init__(
        self,
        form: RowForm,
        dialect: Dialect,
        *,
        text: TextIO | None = None,
        book: BinaryIO | None = None,
        with_table: bool = False,
        whole: bool = True,
    ) -> None:
        """``with_table``: SQL makes the tables as well. ``whole``: long values are not cut where
        they are for reading."""
        self._form, self._dialect, self._text = form, dialect, text
        self._with_table, self._whole = with_table, whole
        self._book: WorkbookWriter | None = None
        self._results = 0
        if form == "xlsx":
            from jondel.core.formats.rows_xlsx import WorkbookWriter

            if book is None:
                raise ExportFailed("a workbook needs a file")
            self._book = WorkbookWriter(book)

    @property
    def text(self) -> TextIO:
        """What is written to, for what is no result."""
        if self._text is None:
            raise ExportFailed("a workbook holds nothing but rows")
        return self._text

    def end(self) -> Sequence[str]:
        """All results are written; returns what is to be known of it."""
        if self._book is None:
            return ()
        self._book.close()
        cut = self._book.cut
        return (f"{cut} values were too long for a workbook, and are cut",) if cut else ()

    def sink(self, name: str, *, into: str = "", made_by: str = "") -> ResultSink:
        """What takes one more result.

        ``into`` is the table that SQL inserts into, by default the one that all columns are of;
        ``made_by`` the statement that makes it.
        """
        return _Sink(self, name, into, made_by)

    def writer(
        self, name: str, into: str, made_by: str, columns: Sequence[ResultColumn]
    ) -> RowWriter:
        """What writes one more result, whose first row is about to come."""
        self._results += 1
        if self._results > 1 and self._form not in HOLD_SEVERAL:
            raise SeveralResults(
                f"{self._form} holds the rows of one statement or table; these are several: give "
                f"one, or one of the formats {', '.join(HOLD_SEVERAL)}"
            )
        if self._book is not None:
            self._book.name(name)
            return self._book
        assert self._text is not None, "only a workbook has no text"
        if self._results > 1:
            self._text.write("\n")
        if self._form == "table":
            from jondel.core.formats.rows_to_read import TableWriter

            return TableWriter(self._text, whole=self._whole)
        if made_by and self._with_table:
            self._text.write(made_by.rstrip().rstrip(";") + ";\n")
        return writer_to(
            self._form,
            self._text,
            table=into or self._table_of(columns),
            with_ddl=self._with_table and not made_by,
            title=name,
            forms=self._dialect.forms,
        )

    def _table_of(self, columns: Sequence[ResultColumn]) -> str:
        """The one table that all columns are from."""
        tables = {column.table for column in columns}
        table = next(iter(tables), None) if len(tables) == 1 else None
        if table is None:
            return name_in_sql("result", self._dialect)
        return table_in_sql(table, self._dialect)

    def write_text(self, text: str) -> None:
        """Write what is between results."""
        if self._text is not None:
            self._text.write(text)

    def place(self) -> int | None:
        """Where what follows begins, to be gone back to; None where one cannot."""
        if self._text is None:
            return None
        self._text.flush()
        return self._text.tell()

    def go_back(self, place: int | None) -> None:
        """Have what was written from a place on be void."""
        if place is None or self._text is None:
            raise ExportFailed("the app writes all the time; try again, or take a snapshot")
        self._text.flush()
        self._text.seek(place)
        self._text.truncate()
        self._results -= 1


class _Sink:
    def __init__(self, out: ResultsOut, name: str, into: str, made_by: str) -> None:
        self._out, self._about = out, (name, into, made_by)
        self._place: int | None = None
        self._writer: RowWriter | None = None

    def begin(self, columns: Sequence[ResultColumn]) -> None:
        if self._writer is not None:
            self._out.go_back(self._place)
        else:
            self._place = self._out.place()
        self._writer = self._out.writer(*self._about, columns)
        self._writer.begin(columns)

    def take(self, rows: Sequence[ShownRow]) -> bool:
        assert self._writer is not None, "it is begun first"
        return self._writer.take(rows)

    def end(self, complete: bool) -> None:
        assert self._writer is not None, "it is begun first"
        self._writer.end(complete)
