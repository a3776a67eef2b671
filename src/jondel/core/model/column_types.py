"""What a column holds, in words that every engine's types come down to."""

from __future__ import annotations

from typing import Literal, NamedTuple, TypeAlias

ValueKind: TypeAlias = Literal[
    "any",
    "integer",
    "real",
    "numeric",
    "text",
    "blob",
    "boolean",
    "date",
    "time",
    "time with time zone",
    "timestamp",
    "timestamp with time zone",
    "interval",
    "uuid",
    "json",
    "enum",
    "array",
    "bits",
    "other",
]
"""``any`` takes whatever it is given as it is; ``numeric`` are numbers of any size and scale;
``other`` is all that has no kind of its own here."""

NUMBERS: frozenset[ValueKind] = frozenset({"integer", "real", "numeric"})
TIMES: frozenset[ValueKind] = frozenset(
    {"date", "time", "time with time zone", "timestamp", "timestamp with time zone"}
)


class ColumnType(NamedTuple):
    """A column's type: its ``name`` as the engine writes it, nothing where none is declared.

    ``kind`` is what the engine makes of values. ``meant`` is what people keep in columns declared
    so, where the engine knows no such kind of values: times as text, true and false as numbers.
    ``labels`` are an enum's, in its own order. Where it is ``exact``, values are ``Exact`` ones.
    """

    name: str = ""
    kind: ValueKind = "any"
    meant: ValueKind | None = None
    labels: tuple[str, ...] = ()
    exact: bool = False

    @property
    def exact_kind(self) -> str | None:
        """The kind of its exact values; None where it holds none."""
        if not self.exact:
            return None
        return self.name if self.kind == "other" else self.kind

    @property
    def use(self) -> ValueKind:
        """What the column is for."""
        return self.meant or self.kind

    @property
    def is_number(self) -> bool:
        """Whether the engine keeps numbers in it."""
        return self.kind in NUMBERS

    @property
    def is_time(self) -> bool:
        """Whether it is for dates or times."""
        return self.use in TIMES
