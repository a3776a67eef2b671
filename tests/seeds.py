"""The seeds of random tests: the same in ``make test``, others each time in ``make soak``."""

from __future__ import annotations

import os

FIRST = int(os.environ.get("JONDEL_FIRST_SEED", "0"))
"""Setting it to what a run printed has the same tests again."""


def seeds(variable: str, usual: int) -> range:
    """As many seeds as an environment variable says, else the usual number."""
    return range(FIRST, FIRST + int(os.environ.get(variable, usual)))


def length(usual: int, soaking: int) -> int:
    """How long a random test goes on with each seed."""
    return soaking if os.environ.get("JONDEL_SOAK") else usual
