"""Changes as Markdown, for a code review or an issue."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator

from jondel.core.browse.display import line, safe_name
from jondel.core.formats.changes_text import WHOLE, cell_lines, record_name, schema_words
from jondel.core.model.changes import MARKS, Changes, RecordChange, TableChanges

_SPECIAL = re.compile(r"([\\`*_{}\[\]<>()#+!|~-])")


def change_markdown(changes: Changes) -> Iterator[str]:
    """A heading and a table for each table that changed, values whole."""
    if changes.empty and not changes.unread:
        yield "No changes."
    for entry in changes.schema_changes:
        yield f"- schema: {escaped(schema_words(entry))}"
    for table in changes.tables:
        if table.counts.total:
            yield ""
            yield f"### {escaped(safe_name(table.table))} `{table.counts.marked()}`"
            yield ""
            yield from _table(table)
    for unread in changes.unread:
        yield ""
        yield f"Not compared: {escaped(line(unread.reason, WHOLE))}"


def _table(table: TableChanges) -> Iterator[str]:
    yield markdown_row(["", " · ".join(map(safe_name, table.key_columns)), "column", "what"])
    yield markdown_rule(4)
    for record in table.records:
        yield from _record(table, record)
    left = table.counts.total - len(table.records)
    if left:
        yield ""
        yield f"{left} more records are not listed."


def _record(table: TableChanges, record: RecordChange) -> Iterator[str]:
    mark, key = MARKS[record.kind], record_name(table, record, WHOLE)
    if record.kind == "changed":
        for cell in record.cells:
            for text in cell_lines(cell, whole=True):
                yield markdown_row([mark, key, safe_name(cell.column), text])
        return
    columns = table.columns_after if record.kind == "added" else table.columns_before
    row = record.after if record.kind == "added" else record.before
    cells = [
        f"{safe_name(name)} {line(value, WHOLE)}"
        for name, value in zip(columns, row or (), strict=True)
        if name not in table.key_columns
    ]
    yield markdown_row([mark, key, "", " · ".join(cells)])


def markdown_row(cells: Iterable[str]) -> str:
    """A row of a table; what is in it is text, whatever it looks like."""
    return f"| {' | '.join(map(escaped, cells))} |"


def markdown_rule(columns: int) -> str:
    """The line between the head of a table and its rows."""
    return f"| {' | '.join(['---'] * columns)} |"


def escaped(text: str) -> str:
    """Text that Markdown leaves as it is."""
    return _SPECIAL.sub(r"\\\1", text)
