"""Added and removed records in the list of changes: their cells, over as many lines as there is
room for."""

from __future__ import annotations

from collections.abc import Sequence

from rich.cells import cell_len

from jondel.core.browse.display import Piece, pieces, safe_name
from jondel.core.model.changes import RecordChange, TableChanges

_GAP = 2
_SHORT_VALUE, _LONG_VALUE = 40, 200
"""Characters of a value, where a record has one line, and where it has several."""

NamedCell = tuple[str, list[Piece]]


def cells_of(table: TableChanges, record: RecordChange, *, several_lines: bool) -> list[NamedCell]:
    """The cells of an added or removed record but for its key, which stands before them."""
    columns = table.columns_after if record.kind == "added" else table.columns_before
    row = (record.after if record.kind == "added" else record.before) or ()
    most = _LONG_VALUE if several_lines else _SHORT_VALUE
    return [
        (safe_name(name), pieces(value, most))
        for name, value in zip(columns, row, strict=True)
        if name not in table.key_columns
    ]


def packed(cells: Sequence[NamedCell], room: int) -> list[int]:
    """How many of the cells are on each line, one after the other."""
    counts: list[int] = []
    used = room + 1
    for name, parts in cells:
        width = cell_len(name) + 1 + sum(cell_len(part.text) for part in parts)
        if used + width > room:
            counts.append(0)
            used = 0
        counts[-1] += 1
        used += width + _GAP
    return counts or [0]


def most_lines_each(needed: Sequence[int], spare: int) -> int:
    """How many lines each record may have, where they need so many and so many are left over."""
    most = max(needed, default=1)
    while most > 1 and sum(min(lines, most) - 1 for lines in needed) > spare:
        most -= 1
    return most
