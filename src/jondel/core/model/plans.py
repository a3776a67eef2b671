"""How an engine means to run a statement."""

from __future__ import annotations

from typing import Literal, NamedTuple, TypeAlias

Concern: TypeAlias = Literal["", "reads all", "sorts", "makes an index"]
"""What makes a step of a plan slow: it reads all rows of a table, it sorts what no index sorts, it
makes an index for this statement alone."""


class PlanStep(NamedTuple):
    """One step, and those that it needs.

    ``table`` is what it reads, by the name that the statement has for it. ``estimated`` is how many
    rows the engine expects, ``rows`` and ``seconds`` what was measured where it was run.
    """

    words: str
    table: str = ""
    concern: Concern = ""
    estimated: float | None = None
    rows: float | None = None
    seconds: float | None = None
    steps: tuple[PlanStep, ...] = ()


def all_steps(steps: tuple[PlanStep, ...]) -> list[PlanStep]:
    """All steps of a plan, each before those that it needs."""
    found: list[PlanStep] = []
    for step in steps:
        found += [step, *all_steps(step.steps)]
    return found
