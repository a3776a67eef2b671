"""Which rows of a table are wanted, and in which order.

A *condition* says something of a row. Conditions of the four kinds below mean the same however
they came to be: typed as words, put together column by column, or written as SQL. A *filter* is a
stack of conditions that must all hold, of which each can be switched off.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal, TypeAlias

from jondel.core.model.values import StoredValue

Operator: TypeAlias = Literal[
    "is",
    "is not",
    "contains",
    "does not contain",
    "starts with",
    "ends with",
    "before",
    "up to",
    "after",
    "from",
    "between",
    "is NULL",
    "is not NULL",
    "is empty",
    "is not empty",
    "one of",
    "none of",
    "matches",
    "does not match",
]
"""How a column is compared.

``is`` and ``one of`` compare as the engine's own ``=`` does, with the column's type and collation;
``before``, ``up to`` (included), ``after``, ``from`` (included) and ``between`` (both included) in
its order; ``contains``, ``starts with`` and ``ends with`` ignore case; ``matches`` takes a pattern
in which ``*`` stands for any characters and ``?`` for one, and minds case. These four look at
text, and at numbers as the engine writes them; a blob is never looked into. NULL is only found by
``is NULL`` and by the negative ones: each of those finds exactly what its opposite does not.
"""

OPERATORS: dict[Operator, tuple[int, int | None]] = {
    "is": (1, 1),
    "is not": (1, 1),
    "contains": (1, 1),
    "does not contain": (1, 1),
    "starts with": (1, 1),
    "ends with": (1, 1),
    "before": (1, 1),
    "up to": (1, 1),
    "after": (1, 1),
    "from": (1, 1),
    "between": (2, 2),
    "is NULL": (0, 0),
    "is not NULL": (0, 0),
    "is empty": (0, 0),
    "is not empty": (0, 0),
    "one of": (1, None),
    "none of": (1, None),
    "matches": (1, 1),
    "does not match": (1, 1),
}
"""The fewest and the most values that each takes; None for any number."""

NEGATED: dict[Operator, Operator] = {
    "is not": "is",
    "does not contain": "contains",
    "is not NULL": "is NULL",
    "is not empty": "is empty",
    "none of": "one of",
    "does not match": "matches",
}
"""The negative operators, each with its opposite."""


@dataclass(frozen=True, slots=True)
class ColumnCondition:
    """One column compared with as many values as the operator takes."""

    column: str
    operator: Operator
    values: tuple[StoredValue, ...] = ()


@dataclass(frozen=True, slots=True)
class WordsCondition:
    """Every one of the words is found in some column, whatever its case; blobs are left out.

    Words are parted by blanks; double quotes keep several together as one.
    """

    text: str


@dataclass(frozen=True, slots=True)
class SqlCondition:
    """A condition in the engine's own SQL."""

    sql: str


@dataclass(frozen=True, slots=True)
class GroupCondition:
    """Conditions of which all hold (``and``) or at least one (``or``)."""

    joined: Literal["and", "or"]
    members: tuple[Condition, ...]


Condition: TypeAlias = ColumnCondition | WordsCondition | SqlCondition | GroupCondition


@dataclass(frozen=True, slots=True)
class Layer:
    """One condition of a stack, and whether it is in force."""

    condition: Condition
    on: bool = True


@dataclass(frozen=True, slots=True)
class Filter:
    """A stack of conditions; those that are on must all hold."""

    layers: tuple[Layer, ...] = ()

    @property
    def condition(self) -> Condition | None:
        """What a row must meet; None where any will do."""
        members = tuple(layer.condition for layer in self.layers if layer.on)
        if len(members) < 2:
            return members[0] if members else None
        return GroupCondition("and", members)

    def with_layer(self, condition: Condition) -> Filter:
        """This and one condition more; one that is there already is switched on."""
        for index, layer in enumerate(self.layers):
            if layer.condition == condition:
                return self.changed(index, replace(layer, on=True))
        return Filter((*self.layers, Layer(condition)))

    def all_off(self) -> Filter:
        """This with every layer switched off."""
        return Filter(tuple(replace(layer, on=False) for layer in self.layers))

    def changed(self, index: int, layer: Layer | None) -> Filter:
        """This with one layer replaced, or left out for None."""
        put = () if layer is None else (layer,)
        return Filter((*self.layers[:index], *put, *self.layers[index + 1 :]))


@dataclass(frozen=True, slots=True)
class OrderKey:
    """A column to sort by."""

    column: str
    descending: bool = False


@dataclass(frozen=True, slots=True)
class Arrangement:
    """Which rows, and in which order: the first key decides, the next among its equals."""

    condition: Condition | None = None
    order: tuple[OrderKey, ...] = ()

    @property
    def natural(self) -> bool:
        """Whether this is the table as it is: all rows, in their own order."""
        return self.condition is None and not self.order


def words_of(text: str) -> list[str]:
    """The words of a text, as ``WordsCondition`` parts them."""
    words: list[str] = []
    for number, part in enumerate(text.split('"')):
        words += [part] if number % 2 and part else part.split()
    return words
