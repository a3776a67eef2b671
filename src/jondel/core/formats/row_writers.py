"""Rows written to a file or a stream as they come, in the formats that a result can have.

What is kept exactly: JSON and JSON lines hold every value so that no two different ones look the
same (see ``files.json_values``); SQL holds every value as a literal; CSV tells NULL (nothing) from
empty text (``""``) and writes numbers with all their digits, but a text from a number only where
the reader knows the column's type. Markdown and HTML are for reading. For XLSX see ``rows_xlsx``.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, Protocol, TextIO, TypeAlias

from jondel.core.model.outcomes import ResultColumn
from jondel.core.model.values import ShownRow
from jondel.core.sql.values_in_sql import FORMS, LiteralForms

RowForm: TypeAlias = Literal["table", "csv", "json", "jsonl", "markdown", "html", "xlsx", "sql"]
ROW_FORMS: tuple[RowForm, ...] = (
    "table", "csv", "json", "jsonl", "markdown", "html", "xlsx", "sql"
)  # fmt: skip
ENDINGS: dict[RowForm, str] = {
    "table": "txt", "csv": "csv", "json": "json", "jsonl": "jsonl", "markdown": "md",
    "html": "html", "xlsx": "xlsx", "sql": "sql",
}  # fmt: skip
"""How a file of each form ends."""
_ENDINGS: dict[str, RowForm] = {
    "csv": "csv", "json": "json", "jsonl": "jsonl", "ndjson": "jsonl", "md": "markdown",
    "markdown": "markdown", "html": "html", "htm": "html", "xlsx": "xlsx", "sql": "sql",
    "txt": "table",
}  # fmt: skip


class RowWriter(Protocol):
    """Writes one result; a ``ResultSink`` that is begun once."""

    def begin(self, columns: Sequence[ResultColumn]) -> None:
        """Write what comes before the rows."""

    def take(self, rows: Sequence[ShownRow]) -> bool:
        """Write rows; always True."""

    def end(self, complete: bool) -> None:
        """Write what comes after them."""


def form_of_name(name: str) -> RowForm | None:
    """The format that the ending of a file's name stands for."""
    return _ENDINGS.get(name.rpartition(".")[2].lower()) if "." in name else None


def writer_to(
    form: RowForm,
    out: TextIO,
    *,
    table: str = "",
    with_ddl: bool = False,
    title: str = "",
    forms: LiteralForms = FORMS,
) -> RowWriter:
    """What writes rows to a stream of text; not for XLSX, which is no text.

    ``table`` is what SQL inserts into, with a statement before that makes it ``with_ddl``;
    ``title`` is that of a page, and ``forms`` are the literals of the engine that is to read SQL.
    """
    match form:
        case "table":
            from jondel.core.formats.rows_to_read import TableWriter

            return TableWriter(out)
        case "markdown":
            from jondel.core.formats.rows_to_read import MarkdownWriter

            return MarkdownWriter(out)
        case "html":
            from jondel.core.formats.rows_to_read import HtmlWriter

            return HtmlWriter(out, title)
        case "csv":
            from jondel.core.formats.rows_as_data import CsvWriter

            return CsvWriter(out)
        case "json":
            from jondel.core.formats.rows_as_data import JsonWriter

            return JsonWriter(out)
        case "jsonl":
            from jondel.core.formats.rows_as_data import JsonLinesWriter

            return JsonLinesWriter(out)
        case "sql":
            from jondel.core.formats.rows_as_sql import InsertWriter

            return InsertWriter(out, table, with_ddl=with_ddl, forms=forms)
        case "xlsx":
            raise ValueError("a workbook is no text")
