"""What the lines around a sheet say, each as parts of a band."""

from __future__ import annotations

from jondel.core.browse.display import grouped, line, number_text, safe_name
from jondel.core.browse.sheet_states import SheetState
from jondel.core.engines.protocol import ArrangingProgress, Extent, Tally
from jondel.core.model.values import Exact

_VALUE_CHARACTERS = 24

Parts = list[tuple[str, str]]
"""Texts, each with the name of its style."""


def extent_words(extent: Extent) -> str:
    """How many rows there are, with a sign where that is not exact."""
    sign = {"exact": "", "estimate": "≈ ", "at least": "over "}[extent.precision]
    return f"{sign}{grouped(extent.rows)}"


def rows_words(extent: Extent, filtered_of: int | None) -> str:
    """How many rows are shown; ``filtered_of`` is how many there are without the filter."""
    rows = extent_words(extent)
    if filtered_of is not None:
        return f"{rows} of {grouped(filtered_of)} rows"
    return f"{rows} row{'' if rows == '1' else 's'}"


def progress_parts(progress: ArrangingProgress | None, state: SheetState) -> Parts:
    """How far an order is made; nothing where none is being made."""
    if progress is None:
        return []
    what = "sorting" if state.order else "filtering"
    if progress.rows:
        how_far = f" {grouped(progress.rows)} rows"
    elif progress.looked_at is not None:
        how_far = f" {progress.looked_at:.0%}"
    else:
        how_far = ""
    return [(f"  {what} …{how_far}  Esc stops it", "plain")]


def state_parts(state: SheetState, *, from_before: bool) -> Parts:
    """How rows are filtered and sorted, and how many columns are hidden, where that is so.

    ``from_before``: the filter is one that was left there when the database was last open.
    """
    parts = _arrangement_parts(state) if state.filter is not None or state.order else []
    if from_before:
        parts.append(("  as you left it; F turns the filter off", "strong"))
    hidden = len(state.layout.hidden)
    if hidden:
        parts.append((f"  {hidden} column{'' if hidden == 1 else 's'} hidden", "dim"))
    return parts


def _arrangement_parts(state: SheetState) -> Parts:
    from jondel.core.browse.condition_words import (  # not for a first look
        condition_words,
        order_words,
    )

    parts: Parts = []
    for number, layer in enumerate(state.filter.layers if state.filter is not None else ()):
        parts.append((" and " if number else " where ", "dim"))
        words = condition_words(layer.condition)
        parts.append((words, "plain") if layer.on else (f"off: {words}", "dim"))
    if state.order:
        parts += [(" sorted by ", "dim"), (order_words(state.order), "plain")]
    return parts


def tally_parts(column: str, tally: Tally, which: str) -> Parts:
    """The parts of a band; ``which`` says which rows were added up, empty for all."""
    facts = [
        (which or "rows", grouped(tally.rows)),
        ("distinct", grouped(tally.distinct)),
        ("NULL", grouped(tally.nulls)),
        ("empty", grouped(tally.empty)),
    ]
    if tally.least is not None:
        facts.append(("min", line(tally.least, _VALUE_CHARACTERS)))
        facts.append(("max", line(tally.greatest, _VALUE_CHARACTERS)))
    if tally.total is not None and tally.mean is not None:
        facts.append(("sum", _number(tally.total)))
        facts.append(("mean", f"{tally.mean:.6g}"))
    parts = [(f" {safe_name(column)} ", "strong")]
    for name, value in facts:
        parts += [(f" {name} ", "dim"), (value, "plain")]
    return parts


def _number(value: int | float | Exact) -> str:
    if isinstance(value, Exact):
        return line(value)
    return grouped(value) if isinstance(value, int) else number_text(value)
