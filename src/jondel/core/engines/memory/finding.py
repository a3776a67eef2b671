"""Filters, sorts, adds up and searches tables in memory."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from decimal import Decimal

from jondel.core.engines.memory.conditions import check, meets, text_of
from jondel.core.engines.memory.reading import MemoryOrder, shown_window
from jondel.core.engines.memory.tables import MemoryAccess, rank
from jondel.core.engines.protocol import ArrangingProgress, Hit, RowOrder, Tally
from jondel.core.errors import ConditionInvalid
from jondel.core.model.filters import Arrangement, Condition
from jondel.core.model.rows import Position, Window
from jondel.core.model.schema import Table
from jondel.core.model.statements import Statement
from jondel.core.model.values import Exact, Row, StoredValue, is_number


class MemoryFinder:
    """See ``Finder``."""

    def __init__(self, access: MemoryAccess) -> None:
        self._access = access

    def arrange(
        self,
        table: Table,
        arrangement: Arrangement,
        *,
        first: Callable[[Window], None] | None = None,
        on_progress: Callable[[ArrangingProgress], None] | None = None,
        first_rows: int = 128,
    ) -> RowOrder:
        found = self._arranged(table, arrangement)
        if first is not None:
            first(shown_window(0, found[:first_rows]))
        if on_progress is not None:
            on_progress(ArrangingProgress(1.0, len(found)))
        self._access.check()
        return MemoryOrder([position for position, _ in found])

    def first_rows(self, table: Table, arrangement: Arrangement, limit: int) -> Window:
        return shown_window(0, self._arranged(table, arrangement)[:limit])

    def statement(
        self, table: Table, arrangement: Arrangement, columns: Sequence[str]
    ) -> Statement:
        self._check(table, arrangement)
        return Statement((f"TABLE {table.title}",))

    def check_condition(self, table: Table, condition: Condition) -> None:
        check(table, condition)

    def tally(
        self,
        table: Table,
        column: str,
        arrangement: Arrangement,
        only: Sequence[Position] | None = None,
    ) -> Tally:
        place = table.column_names.index(column)
        wanted = None if only is None else set(only)
        values = [
            row[place]
            for position, row in self._arranged(table, arrangement)
            if wanted is None or position in wanted
        ]
        present = sorted((v for v in values if v is not None), key=rank)
        numbers = [value for value in present if is_number(value)]
        total = _sum(numbers) if numbers else None
        return Tally(
            len(values),
            len({rank(value) for value in present}),
            len(values) - len(present),
            values.count(""),
            present[0] if present else None,
            present[-1] if present else None,
            total,
            None if total is None else float(str(total)) / len(numbers),
        )

    def find_text(self, table: Table, text: str, *, whole: bool = False) -> Iterator[Hit]:
        wanted = text.casefold()
        for position, row in self._access.in_order(table):
            self._access.check()
            for name, value in zip(table.column_names, row, strict=True):
                held = text_of(value)
                folded = held.casefold() if held is not None else None
                if folded is not None and (folded == wanted if whole else wanted in folded):
                    yield Hit(position, name, value)

    def places_of_absent(
        self,
        table: Table,
        arrangement: Arrangement,
        order: RowOrder | None,
        rows: Sequence[tuple[Position, Row]],
    ) -> list[tuple[int, int]]:
        there = self._arranged(table, arrangement)
        shown = [
            (self._place(table, arrangement, position, row), index)
            for index, (position, row) in enumerate(rows)
            if meets(dict(zip(table.column_names, row, strict=True)), arrangement.condition)
        ]
        places = [self._place(table, arrangement, *entry) for entry in there]
        return [(index, sum(p < place for p in places)) for place, index in sorted(shown)]

    def _check(self, table: Table, arrangement: Arrangement) -> None:
        if arrangement.condition is not None:
            check(table, arrangement.condition)
        for key in arrangement.order:
            if table.column(key.column) is None:
                raise ConditionInvalid(f"{table.title} has no column {key.column!r}")

    def _arranged(self, table: Table, arrangement: Arrangement) -> list[tuple[Position, Row]]:
        self._check(table, arrangement)
        found = list(self._access.matching(table, lambda row: meets(row, arrangement.condition)))
        return sorted(found, key=lambda entry: self._place(table, arrangement, *entry))

    @staticmethod
    def _place(
        table: Table, arrangement: Arrangement, position: Position, row: Row
    ) -> tuple[object, ...]:
        """What sorts as a row stands in an arrangement."""
        keys: list[object] = []
        for key in arrangement.order:
            held = rank(row[table.column_names.index(key.column)])
            keys.append(_Downwards(held) if key.descending else held)
        return (*keys, *map(rank, position))


class _Downwards:
    """Sorts the other way round."""

    def __init__(self, held: tuple[object, ...]) -> None:
        self._held = held

    def __lt__(self, other: _Downwards) -> bool:
        return other._held < self._held

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Downwards) and other._held == self._held

    __hash__ = None  # type: ignore[assignment]


def _sum(numbers: Sequence[StoredValue]) -> int | float | Exact:
    if any(isinstance(number, Exact) for number in numbers):
        return Exact("numeric", str(sum((Decimal(str(number)) for number in numbers), Decimal())))
    total: int | float = 0
    for number in numbers:
        assert isinstance(number, int | float)
        total += number
    return total
