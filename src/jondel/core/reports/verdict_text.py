"""A step held against its expectation, as lines of plain text."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from jondel.core.browse.display import line, safe_name
from jondel.core.formats.changes_text import record_name
from jondel.core.model.changes import MARKS, NoValue
from jondel.core.verify.candidates import cells_of
from jondel.core.verify.expectation import ExpectedRecord
from jondel.core.verify.run import ActionResult
from jondel.core.verify.verdict import Found, Mismatch, Verdict

_VALUE_CHARACTERS = 60
_ROW_CHARACTERS = 160


def verdict_lines(verdict: Verdict, *, met_too: bool = False) -> Iterator[str]:
    """Say what is not as expected: what differs with its cells, what is missing, what is too much.

    With ``met_too`` also what is as expected.
    """
    if met_too:
        for met in verdict.met_records:
            yield f"  met         {_where(met.found)}"
    for differing in verdict.differing:
        yield f"  differing   {_where(differing.found)}"
        yield from mismatch_lines(differing.cells)
    for missing in verdict.missing:
        yield f"  missing     {safe_name(missing.table)} {_wanted(missing.wanted)}"
        if missing.nearest is not None:
            yield f"                nearest: {_where(missing.nearest)}"
    for unexpected in verdict.unexpected:
        yield f"  unexpected  {_where(unexpected.found)}  {_row(unexpected.found)}"
        if unexpected.nearest is not None:
            yield f"                nearest expected: {_wanted(unexpected.nearest)}"
            yield from mismatch_lines(unexpected.cells)
    if verdict.more_unexpected:
        yield f"  unexpected  {verdict.more_unexpected} more records, not listed"
    for count in verdict.counts:
        yield (
            f"  count       {safe_name(count.table)}: {count.found} {count.kind}, "
            f"expected {count.wanted.words}"
        )
    for problem in verdict.problems:
        yield f"  {line(problem, 400)}"


def mismatch_lines(cells: Sequence[Mismatch]) -> Iterator[str]:
    """A line for each cell that differs: what it holds, and what was expected."""
    width = max((len(safe_name(cell.column)) for cell in cells), default=0)
    for cell in cells:
        name = safe_name(cell.column).ljust(width)
        yield f"                {name}  {mismatch_words(cell)}"


def mismatch_words(cell: Mismatch) -> str:
    """What a cell holds, and what was expected of it."""
    found = "no such cell" if isinstance(cell.found, NoValue) else _value(cell.found)
    if not isinstance(cell.before, NoValue):
        found = f"{_value(cell.before)} → {found}"
    wanted = "no change" if cell.wanted is None else cell.wanted
    return f"{found}, expected {wanted}"


def result_lines(result: ActionResult, *, met_too: bool = False) -> Iterator[str]:
    """What came of an action: a line, and what is not as expected under it."""
    sign = {True: "met    ", False: "NOT MET", None: "ran    "}[result.met]
    turn = f" ({result.turn})" if result.action.repeat > 1 else ""
    step = f"  step {result.step.after.id}" if result.step is not None else ""
    summary = "" if result.met else f"  {line(result.summary, 400)}"
    yield f"{sign}  {safe_name(result.action.name)}{turn}{step}{summary}"
    if result.verdict is not None and not result.verdict.met:
        yield from verdict_lines(result.verdict, met_too=met_too)


def _where(found: Found) -> str:
    table, record = found
    name = record_name(table, record)
    return f"{safe_name(table.table)} {MARKS[record.kind]} {name}".rstrip()


def _row(found: Found) -> str:
    """What the record holds, in short."""
    table, record = found
    if record.kind == "changed":
        cells = (
            f"{safe_name(cell.column)} {line(cell.after, _VALUE_CHARACTERS)}"
            for cell in record.cells
        )
    else:
        cells = (
            f"{safe_name(name)} {line(value, _VALUE_CHARACTERS)}"
            for name, value in cells_of(table, record).items()
            if name not in table.key_columns
        )
    shown = " · ".join(cells)
    return shown if len(shown) <= _ROW_CHARACTERS else shown[: _ROW_CHARACTERS - 1] + "…"


def _wanted(wanted: ExpectedRecord) -> str:
    return wanted.words()


def _value(value: object) -> str:
    return line(value, _VALUE_CHARACTERS)  # type: ignore[arg-type]
