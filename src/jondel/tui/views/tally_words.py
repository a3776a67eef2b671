"""What a column's tally says, on one line."""

from __future__ import annotations

from jondel.core.browse.display import grouped, line, number_text, safe_name
from jondel.core.engines.protocol import Tally

_VALUE_CHARACTERS = 24


def tally_parts(column: str, tally: Tally, which: str) -> list[tuple[str, str]]:
    """The parts of a band; ``which`` says which rows were added up, empty for all."""
    facts = [
        (f"{which} rows" if which else "rows", grouped(tally.rows)),
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


def _number(value: int | float) -> str:
    return grouped(value) if isinstance(value, int) else number_text(value)
