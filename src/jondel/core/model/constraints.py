"""Records that a table holds in spite of what it declares."""

from __future__ import annotations

from typing import NamedTuple

from jondel.core.model.values import StoredValue, Value


class Violation(NamedTuple):
    """A record for which a constraint does not hold, and the first column that this names.

    ``constraint`` is its expression, as it is declared.
    """

    key: tuple[StoredValue, ...]
    column: str
    value: Value
    constraint: str
