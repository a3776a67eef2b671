"""A report as a web page that needs nothing else: styles, charts and all are in it.

Everything that is shown is text, whatever it looks like; nothing in it is run or fetched.
"""

from __future__ import annotations

import html
from collections.abc import Iterable, Iterator, Sequence

from jondel.core.browse.display import line, safe_name
from jondel.core.formats.changes_text import WHOLE, cell_lines, record_name, schema_words
from jondel.core.model.changes import MARKS, Changes, RecordChange, TableChanges

_STYLE = """
:root { color-scheme: light dark; }
body { font: 15px/1.5 system-ui, sans-serif; margin: 2rem auto; max-width: 70rem; padding: 0 1rem; }
h1 { font-size: 1.5rem; } h2 { font-size: 1.2rem; margin-top: 2rem; } h3 { font-size: 1rem; }
table { border-collapse: collapse; width: 100%; margin: .5rem 0 1rem; }
th, td { border: 1px solid #888; padding: .15rem .5rem; text-align: left; vertical-align: top; }
th { background: #8882; }
td, pre { font-family: ui-monospace, monospace; font-size: .85rem; overflow-wrap: anywhere; }
th:not(:empty), td:not(:first-child):not(:last-child) { min-width: 4rem; }
th:empty { width: 1.5rem; }
pre { white-space: pre-wrap; border-left: 3px solid #888; padding-left: .8rem; }
.mark { width: 1.5rem; font-weight: bold; text-align: center; }
.met { border-left: 6px solid #2a7d62; padding-left: .6rem; }
.not { border-left: 6px double #b8452f; padding-left: .6rem; }
.dim { opacity: .7; } figure { margin: 1rem 0; } svg { max-width: 100%; height: auto; }
@media print { body { margin: 0; max-width: none; } }
"""
_POLICY = "default-src 'none'; style-src 'unsafe-inline'; img-src data:"


def text(words: object) -> str:
    """Text as it goes into a page."""
    return html.escape(str(words), quote=True)


def page(title: str, body: Iterable[str]) -> str:
    """A whole page."""
    return (
        '<!DOCTYPE html>\n<html lang="en">\n<head>\n<meta charset="utf-8">\n'
        f'<meta http-equiv="Content-Security-Policy" content="{_POLICY}">\n'
        '<meta name="viewport" content="width=device-width">\n'
        f"<title>{text(title)}</title>\n<style>{_STYLE}</style>\n</head>\n<body>\n"
        f"<h1>{text(title)}</h1>\n" + "\n".join(body) + "\n</body>\n</html>\n"
    )


def heading(words: str, level: int = 2) -> str:
    return f"<h{level}>{text(words)}</h{level}>"


def paragraph(words: str, kind: str = "") -> str:
    shown = f' class="{kind}"' if kind else ""
    return f"<p{shown}>{text(words)}</p>"


def preformatted(lines: Iterable[str]) -> str:
    return f"<pre>{text(chr(10).join(lines))}</pre>"


def table(heads: Sequence[str], rows: Iterable[Sequence[str]]) -> Iterator[str]:
    """A table of texts."""
    yield (
        "<table><thead><tr>" + "".join(f"<th>{text(head)}</th>" for head in heads) + "</tr></thead>"
    )
    yield "<tbody>"
    for row in rows:
        yield "<tr>" + "".join(f"<td>{text(cell)}</td>" for cell in row) + "</tr>"
    yield "</tbody></table>"


def figure(svg: str, words: str) -> str:
    """A chart that is drawn in SVG, by ourselves, with what it shows."""
    drawing = svg[svg.index("<svg") :]
    return f"<figure>{drawing}<figcaption>{text(words)}</figcaption></figure>"


def changes_html(changes: Changes) -> Iterator[str]:
    """Changes as tables, one for each table that changed."""
    if changes.empty and not changes.unread:
        yield paragraph("Nothing changed.")
    for entry in changes.schema_changes:
        yield paragraph(f"schema: {schema_words(entry)}")
    for changed in changes.tables:
        if changed.counts.total:
            yield heading(f"{safe_name(changed.table)} {changed.counts.marked()}", 3)
            key = " · ".join(map(safe_name, changed.key_columns))
            yield from table(("", key, "column", "what"), _rows(changed))
            left = changed.counts.total - len(changed.records)
            if left:
                yield paragraph(f"{left} more records are not listed.", "dim")
    for unread in changes.unread:
        yield paragraph(f"Not compared: {line(unread.reason, WHOLE)}")


def _rows(changed: TableChanges) -> Iterator[tuple[str, str, str, str]]:
    for record in changed.records:
        yield from _record(changed, record)


def _record(changed: TableChanges, record: RecordChange) -> Iterator[tuple[str, str, str, str]]:
    mark, key = MARKS[record.kind], record_name(changed, record, WHOLE)
    if record.kind == "changed":
        for cell in record.cells:
            for words in cell_lines(cell, whole=True):
                yield mark, key, safe_name(cell.column), words
        return
    columns = changed.columns_after if record.kind == "added" else changed.columns_before
    row = record.after if record.kind == "added" else record.before
    cells = [
        f"{safe_name(name)} {line(value, WHOLE)}"
        for name, value in zip(columns, row or (), strict=True)
        if name not in changed.key_columns
    ]
    yield mark, key, "", " · ".join(cells)
