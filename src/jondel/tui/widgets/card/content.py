"""What stands in the card, line by line, before it is wrapped."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, NamedTuple, TypeAlias

from jondel.core.browse.display import Piece, blob_kind, full_lines, pieces, safe_name
from jondel.core.model.changes import MARKS, CellChange, NoValue, RecordChange, TableChanges
from jondel.core.model.differences import (
    BlobDifference,
    JsonDifference,
    TextDifference,
    TimeDifference,
)
from jondel.core.model.schema import Column, Table
from jondel.core.model.sizes import size_text
from jondel.core.model.values import Clipped, ShownRow, Value

if TYPE_CHECKING:
    from jondel.core.browse.link_tree import LinkNode

Run: TypeAlias = tuple[str, str]
"""Characters, and how they are shown: one of the words below, or a value's role."""

NAME, TYPE, CHANGED, TIME, FLAG, LINK, GUESS, DRAFT = (
    "name",
    "type",
    "changed",
    "time",
    "flag",
    "link-target",
    "guess",
    "draft",
)

INDENT = 2
_HEX_BYTES = 8
_HEX_SHOWN, _HEX_MOST = 128, 64 * 1024
_FIELD_CHARACTERS = 60


class FieldSpot(NamedTuple):
    """A field of the record, by its column's name."""

    column: str


class FoldSpot(NamedTuple):
    """Something in a field's value that can be folded and unfolded."""

    column: str
    path: tuple[int, ...]


class LinkSpot(NamedTuple):
    """A link, or a record at the end of one, by its number among the lines of links."""

    number: int


Spot: TypeAlias = FieldSpot | FoldSpot | LinkSpot
"""What the cursor of the card can be on."""


class CardLine(NamedTuple):
    """A line: how far it is indented, its text, and what a cursor on it is on."""

    indent: int
    runs: list[Run]
    spot: Spot | None = None


class CardView(NamedTuple):
    """How a person wants the card: what is folded the other way, and what columns' times are."""

    unfolded: Collection[FoldSpot] = ()
    readings: Mapping[str, str] = {}
    edited: Mapping[str, Value] = {}


def record_lines(
    table: Table, row: ShownRow, change: RecordChange | None, view: CardView
) -> Iterator[CardLine]:
    """A record's values, each under its column's name."""
    cells = {cell.column: cell for cell in change.cells} if change else {}
    for column, value in zip(table.columns, row, strict=False):
        yield from field_lines(table, column, value, cells.get(column.name), view)


def field_lines(
    table: Table, column: Column, value: Value, cell: CellChange | None, view: CardView
) -> Iterator[CardLine]:
    """One field: its name and what is declared of it, then its value in full."""
    title = [(safe_name(column.name), NAME)]
    told = _remark(table, column)
    if told:
        title.append((f"  {told}", TYPE))
    if value is not None:
        from jondel.core.browse.type_mismatch import type_mismatch

        otherwise = type_mismatch(column, value)
        if otherwise is not None:
            title.append((f"  stored as {otherwise}", FLAG))
    if cell is not None:
        title.append((f" {MARKS['changed']}", CHANGED))
    yield CardLine(0, title, FieldSpot(column.name))
    if column.name in view.edited:
        yield CardLine(INDENT, [("now ", NAME), *map(_dim, pieces(value))])
        value = view.edited[column.name]
        title.append((" *", DRAFT))
    elif cell is not None:
        yield from (CardLine(INDENT, runs) for runs in _earlier(cell))
    lines = value_lines(column.name, value, view)
    read = view.readings.get(column.name)
    first = True
    for shown in lines:
        if first and read:
            shown = shown._replace(runs=[*shown.runs, (f"  {read}", TIME)])
        first = False
        yield shown


def value_lines(column: str, value: Value, view: CardView) -> Iterator[CardLine]:
    """A value in full over as many lines as it has."""
    match value:
        case bytes():
            yield from _blob_lines(column, value, len(value), view)
        case Clipped("blob", size, head):
            yield from _blob_lines(column, head, size, view)
        case str():
            from jondel.core.browse.json_lines import json_lines, parsed

            laid_out = parsed(value) if value[:1] in ("{", "[") else None
            if laid_out is None:
                for shown in full_lines(value, lay_out=False):
                    yield CardLine(INDENT, list(map(run, shown)))
                return
            changed = {spot.path for spot in view.unfolded if spot.column == column}
            for part in json_lines(laid_out, changed):
                runs = [run(piece) for piece in part.pieces if piece.text]
                spot = FoldSpot(column, part.path) if part.path is not None else None
                yield CardLine(INDENT + INDENT * part.depth, runs, spot)
        case _:
            for shown in full_lines(value):
                yield CardLine(INDENT, list(map(run, shown)))
            if isinstance(value, Clipped):
                yield CardLine(INDENT, [("Enter reads more", NAME)])


def _blob_lines(column: str, head: bytes, size: int, view: CardView) -> Iterator[CardLine]:
    spot = FoldSpot(column, ())
    kind = blob_kind(head)
    words = [(f"‹{kind} {size_text(size)}›", "blob"), ("  b saves it to a file", NAME)]
    yield CardLine(INDENT, words if size else words[:1], spot)
    most = _HEX_MOST if spot in view.unfolded else _HEX_SHOWN
    for start in range(0, min(len(head), most), _HEX_BYTES):
        part = head[start : start + _HEX_BYTES]
        digits = part.hex(" ").ljust(3 * _HEX_BYTES - 1)
        shown = "".join(chr(b) if 0x20 <= b < 0x7F else "·" for b in part)
        yield CardLine(INDENT, [(f"{start:05x}  ", NAME), (digits, "text"), (f"  {shown}", "text")])
    if size > min(len(head), most):
        yield CardLine(INDENT, [(f"… {size_text(size - min(len(head), most))} more", NAME)])


def change_lines(changes: TableChanges, record: RecordChange, view: CardView) -> Iterator[CardLine]:
    """What happened to a record: all its values, before and after where they differ."""
    columns = changes.columns_before if record.kind == "removed" else changes.columns_after
    row = record.before if record.kind == "removed" else record.after
    cells = {cell.column: cell for cell in record.cells}
    for name, value in zip(columns, row or (), strict=True):
        title = [(safe_name(name), NAME)]
        cell = cells.get(name)
        if cell is not None:
            title.append((f" {MARKS['changed']}", CHANGED))
        yield CardLine(0, title, FieldSpot(name))
        if cell is not None:
            yield from (CardLine(INDENT, runs) for runs in _earlier(cell))
        yield from value_lines(name, value, view)


def link_lines(nodes: Sequence[LinkNode], view: CardView) -> Iterator[CardLine]:
    """A record's links as far as they are unfolded."""
    from jondel.core.browse.link_tree import lines_of_links

    for number, entry in enumerate(lines_of_links(nodes)):
        indent = INDENT * entry.depth
        if entry.heading:
            yield CardLine(indent, [(entry.heading, TYPE)])
        elif entry.link is not None:
            yield CardLine(indent, _link_runs(entry.link), LinkSpot(number))
        elif entry.record is not None:
            sign = "▾" if entry.record.open else "▸"
            runs = [(f"{sign} ", NAME), (entry.record.summary, LINK)]
            yield CardLine(indent, runs, LinkSpot(number))
        elif entry.unused:
            spot = FoldSpot("", (number,))
            opened = spot in view.unfolded
            other = "other " if any(not n.outwards and not n.is_unused for n in nodes) else ""
            words = f"{'▾' if opened else '▸'} by {len(entry.unused)} {other}links: none"
            yield CardLine(indent, [(words, NAME)], spot)
            for node in entry.unused if opened else ():
                yield CardLine(indent + INDENT, [(safe_name(node.label), NAME)])
        elif entry.fields_of is not None:
            record = entry.fields_of.record
            for column, value in zip(record.table.column_names, record.row, strict=False):
                shown = [run(piece) for piece in pieces(value, _FIELD_CHARACTERS)]
                yield CardLine(indent, [(f"{safe_name(column)}  ", NAME), *shown])


def _link_runs(node: LinkNode) -> list[Run]:
    sign = "▾" if node.open else "▸"
    runs = [(f"{sign} {safe_name(node.label)}  ", NAME)]
    if node.problem:
        runs.append((node.problem, FLAG))
    elif node.count is None:
        runs.append(("…", NAME))
    elif node.outwards:
        if node.records:
            record = node.records[0]
            runs.append((f"{safe_name(record.record.table.id)} {record.summary}", LINK))
        else:
            runs.append((f"no such record in {safe_name(node.link.parent)}", FLAG))
    else:
        more = "over " if node.at_least else ""
        runs.append((f"{more}{node.count:,}".replace(",", " "), LINK if node.count else NAME))
    if node.standing == "guessed":
        runs.append(("  guessed", GUESS))
    return runs


def run(piece: Piece) -> Run:
    return piece.text, piece.role


def _dim(piece: Piece) -> Run:
    return piece.text, NAME


def _earlier(cell: CellChange) -> list[list[Run]]:
    """What a cell held before; of a long value, where it differs from what it holds now."""
    value = cell.before
    if isinstance(value, NoValue):
        return [[("new column", NAME)]]
    if isinstance(cell.inside, TextDifference | JsonDifference | BlobDifference):
        from jondel.core.formats.changes_text import cell_parts

        return [
            [(part.text, f"inside-{part.role}") for part in parts] for parts in cell_parts(cell)
        ]
    lines = [[(piece.text, NAME) for piece in line] for line in full_lines(value)]
    lines[0].insert(0, ("was ", NAME))
    if isinstance(cell.inside, TimeDifference):
        lines[0].append((f"  {cell.inside.before}", TIME))
    return lines


def _remark(table: Table, column: Column) -> str:
    parts = []
    if column.key_position:
        parts.append("◆ key")
    for link in table.links_from(column.name):
        targets = ", ".join(link.target_columns)
        target = f"{link.target_table}.{targets}" if targets else link.target_table
        parts.append(f"→ {safe_name(target)}")
    if column.type.name:
        parts.append(safe_name(column.type.name.lower()))
    return " · ".join(parts)
