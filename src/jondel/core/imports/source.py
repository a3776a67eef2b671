"""Files that hold rows: what their columns are called, and their rows, some at a time."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from decimal import Decimal
from pathlib import Path
from typing import Any, Literal, NamedTuple, Protocol, TypeAlias

from jondel.core.errors import ImportFailed

ImportForm: TypeAlias = Literal["csv", "json", "jsonl", "xlsx"]
IMPORT_FORMS: tuple[ImportForm, ...] = ("csv", "json", "jsonl", "xlsx")
_ENDINGS: dict[str, ImportForm] = {
    "csv": "csv", "tsv": "csv", "tab": "csv", "txt": "csv", "json": "json",
    "jsonl": "jsonl", "ndjson": "jsonl", "xlsx": "xlsx", "xlsm": "xlsx",
}  # fmt: skip
IMPORT_ENDINGS = frozenset(_ENDINGS)

Raw: TypeAlias = "str | int | float | bool | Decimal | dict[str, Any] | list[Any] | None"
"""A value as a file has it. In a CSV file all are texts; None is NULL."""

LINE_COLUMN, REASON_COLUMN = "rejected_line", "rejected_reason"
"""What a file of rejected rows says of each, before what the row held."""


class SourceOptions(NamedTuple):
    """How a file is read; what is None is found out.

    ``null`` is a text that stands for NULL, beside nothing at all. ``heading``: the first row of
    a CSV file or a sheet names the columns. ``sheet`` is a workbook's sheet, by its name.
    """

    form: ImportForm | None = None
    encoding: str | None = None
    delimiter: str | None = None
    heading: bool = True
    null: str | None = None
    sheet: str | None = None


AS_FOUND = SourceOptions()


class UnreadRow(NamedTuple):
    """A row that is none of the file's columns: its number, why, and what it is."""

    number: int
    reason: str
    raw: Any


class RawRows(NamedTuple):
    """Some rows with the same columns.

    ``columns`` are places among the source's columns. ``numbers`` say where each is: its line in
    a text, its row in a workbook, and how many records are up to it in a JSON document.
    """

    columns: tuple[int, ...]
    numbers: Sequence[int]
    rows: Sequence[Sequence[Raw]]
    unread: Sequence[UnreadRow] = ()
    has_invalid: bool = False
    """Whether a text holds bytes that are no text, as surrogate escapes."""


class RowSource(Protocol):
    """An open file with rows."""

    path: Path
    form: ImportForm
    columns: tuple[str, ...]
    """Their names, none twice."""
    settings: Mapping[str, str]
    """How it is read, in words: its encoding, what separates fields."""
    sheets: Sequence[str]
    """The sheets of a workbook; of other files none."""
    number_word: str
    """What the number of a row counts: line, row or record."""

    def rows(self) -> Iterator[RawRows]:
        """All rows, in their order, from the first on; in constant memory.

        Raises:
            ImportFailed: what follows cannot be read.
        """


def open_source(path: Path, options: SourceOptions = AS_FOUND) -> RowSource:
    """Look into a file, and say what it holds.

    Raises:
        ImportFailed: it cannot be read, or it is nothing that holds rows.
    """
    form = options.form or _ENDINGS.get(path.suffix.lower().lstrip("."))
    if form is None:
        known = ", ".join(f".{ending}" for ending in _ENDINGS)
        raise ImportFailed(f"{path}: say what it is; known by their names are {known}")
    if not path.is_file():
        what = "is a folder" if path.is_dir() else "there is no such file"
        raise ImportFailed(f"{path}: {what}")
    try:
        match form:
            case "csv":
                from jondel.core.imports.csv_source import CsvSource

                return CsvSource(path, options)
            case "xlsx":
                from jondel.core.imports.xlsx_source import WorkbookSource

                return WorkbookSource(path, options)
            case _:
                from jondel.core.imports.json_source import JsonSource

                return JsonSource(path, options, lines=form == "jsonl")
    except OSError as error:
        raise ImportFailed(f"{path}: cannot be read ({error.strerror or error})") from error


def named_columns(names: Sequence[object]) -> tuple[str, ...]:
    """Names of columns as a heading has them: none is empty, and none is there twice."""
    taken: set[str] = set()
    found: list[str] = []
    for place, given in enumerate(names, 1):
        name = one = str(given).strip() if given is not None else ""
        if not name:
            name = one = f"column {place}"
        number = 2
        while one in taken:
            one, number = f"{name} {number}", number + 1
        taken.add(one)
        found.append(one)
    return tuple(found)
