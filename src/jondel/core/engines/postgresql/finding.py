"""Filters, sorts, adds up and searches on the server."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from jondel.core.engines.postgresql.column_types import value_of
from jondel.core.engines.postgresql.conditions import order_of, where_of
from jondel.core.engines.postgresql.orders import ServerOrder, key_statement
from jondel.core.engines.postgresql.reading import joined
from jondel.core.engines.postgresql.session import Asked, Session, has_no_order
from jondel.core.engines.postgresql.sql_text import argument, quoted, quoted_list, searched, source
from jondel.core.engines.protocol import ArrangingProgress, Hit, RowOrder, Tally
from jondel.core.errors import ConditionInvalid, StatementFailed
from jondel.core.model.column_types import ColumnType
from jondel.core.model.filters import Arrangement, Condition
from jondel.core.model.rows import Position, Window
from jondel.core.model.schema import Table
from jondel.core.model.statements import Statement
from jondel.core.model.values import Exact, Row, Value, clipped

_AT_ONCE = 20_000
_NUMERIC = ColumnType("numeric", "numeric", exact=True)
_SHOWN_BYTES = 4096


class ServerFinder:
    """See ``Finder``."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def arrange(
        self,
        table: Table,
        arrangement: Arrangement,
        *,
        first: Callable[[Window], None] | None = None,
        on_progress: Callable[[ArrangingProgress], None] | None = None,
        first_rows: int = 128,
    ) -> RowOrder:
        where = where_of(self._session, table, arrangement.condition)
        by = order_of(table, arrangement)
        if first is not None:
            first(self.first_rows(table, arrangement, first_rows))
        order = ServerOrder(where, by)
        if not table.primary_key:
            counted = Asked(f"SELECT count(*) FROM {source(table)} t WHERE ") + where
            order.rows = int(self._session.ask(counted)[0][0])
            return order
        with self._session.streamed(key_statement(table, where, by), _AT_ONCE) as batches:
            for batch in batches:
                for key in batch:
                    order.add(key)
                if on_progress is not None:
                    on_progress(ArrangingProgress(None, order.rows))
        return order

    def first_rows(self, table: Table, arrangement: Arrangement, limit: int) -> Window:
        where = where_of(self._session, table, arrangement.condition)
        by = order_of(table, arrangement)
        ending = f" ORDER BY {by}" if by else ""
        rows = self._session.rows(table, Asked(" WHERE ") + where + f"{ending} LIMIT {limit}")
        return Window(0, tuple(p for p, _ in rows), tuple(row for _, row in rows))

    def statement(
        self, table: Table, arrangement: Arrangement, columns: Sequence[str]
    ) -> Statement:
        where = where_of(self._session, table, arrangement.condition)
        by = order_of(table, arrangement)
        asked = Asked(f"SELECT {quoted_list(columns)} FROM {source(table)}")
        if arrangement.condition is not None:
            asked = asked + " WHERE " + where
        asked = asked + (f" ORDER BY {by}" if by else "")
        return asked.statement

    def check_condition(self, table: Table, condition: Condition) -> None:
        where = where_of(self._session, table, condition)
        asked = Asked(f"EXPLAIN SELECT 1 FROM {source(table)} t WHERE ") + where
        try:
            self._session.ask(asked)
        except StatementFailed as error:
            raise ConditionInvalid(str(error)) from error

    def tally(
        self,
        table: Table,
        column: str,
        arrangement: Arrangement,
        only: Sequence[Position] | None = None,
    ) -> Tally:
        declared = table.column(column)
        assert declared is not None
        where = where_of(self._session, table, arrangement.condition)
        if only is not None:
            some = joined(" OR ", (self._session.at(table, position) for position in only))
            where = where + " AND (" + some + ")"
        name, kind = quoted(column), declared.type
        number = kind.kind in ("integer", "real", "numeric")
        total_of = f"sum({name})" if number else "NULL"
        asked = Asked(
            f"SELECT count(*), count(DISTINCT {name}::text), count(*) - count({name}), "
            f"count(*) FILTER (WHERE {name}::text = ''), {total_of} "
            f"FROM {source(table)} t WHERE "
        )
        rows, distinct, nulls, empty, total = self._session.ask(asked + where)[0]
        ends = [self._end(table, column, where, way) for way in ("ASC", "DESC")]
        of_total = kind if kind.kind == "real" else _NUMERIC
        summed = value_of(of_total, total)
        if kind.kind == "integer" and isinstance(summed, Exact):
            summed = int(summed.text)
        return Tally(
            int(rows),
            int(distinct),
            int(nulls),
            int(empty) if kind.kind == "text" else 0,
            ends[0],
            ends[1],
            summed if isinstance(summed, int | float | Exact) else None,
            None if total is None else float(total) / (int(rows) - int(nulls)),
        )

    def _end(self, table: Table, column: str, where: Asked, way: str) -> Value:
        declared = table.column(column)
        assert declared is not None
        name = quoted(column)
        by = f"{name}::text" if has_no_order(table, column) else name
        asked = Asked(f"SELECT {name} FROM {source(table)} t WHERE {name} IS NOT NULL AND ")
        rows = self._session.ask(asked + where + f" ORDER BY {by} {way} LIMIT 1")
        return clipped(value_of(declared.type, rows[0][0]), _SHOWN_BYTES) if rows else None

    def find_text(self, table: Table, text: str, *, whole: bool = False) -> Iterator[Hit]:
        columns = [c for c in table.columns if c.type.kind != "blob"]
        if not columns:
            return
        if whole:
            match = "lower({0}) = lower(%s::text)"
        else:
            match = "strpos(lower({0}), lower(%s::text)) > 0"
        tests = [match.format(searched(column)) for column in columns]
        keys = [quoted(name) for name in table.primary_key]
        shown = [
            f"CASE WHEN {test} THEN {quoted(c.name)} END"
            for c, test in zip(columns, tests, strict=True)
        ]
        sql = (
            f"SELECT {', '.join([*shown, *keys])} FROM {source(table)} t WHERE {' OR '.join(tests)}"
        )
        values = (text,) * (2 * len(tests))
        with self._session.streamed(Asked(sql, values), 500) as batches:
            for batch in batches:
                for row in batch:
                    position = self._session.whole(table, table.primary_key, row[len(columns) :])
                    for column, part in zip(columns, row, strict=False):
                        if part is not None:
                            value = clipped(value_of(column.type, part), _SHOWN_BYTES)
                            yield Hit(position, column.name, value)  # type: ignore[arg-type]

    def places_of_absent(
        self,
        table: Table,
        arrangement: Arrangement,
        order: RowOrder | None,
        rows: Sequence[tuple[Position, Row]],
    ) -> list[tuple[int, int]]:
        if not rows or not table.primary_key:
            return []
        found = []
        casts = self._session.require(table)
        named = ", ".join(f"%s::{casts[name]} AS {quoted(name)}" for name in table.column_names)
        where = where_of(self._session, table, arrangement.condition)
        for index, (_, row) in enumerate(rows):
            values = Asked(f"SELECT {named}", tuple(map(argument, row)))
            if self._session.ask(Asked("SELECT 1 FROM (") + values + ") t WHERE " + where):
                found.append((self._rows_before(table, arrangement, values), index))
        return [(index, before) for before, index in sorted(found)]

    def _rows_before(self, table: Table, arrangement: Arrangement, values: Asked) -> int:
        """How many rows of an arrangement come before one that is not there."""
        where = where_of(self._session, table, arrangement.condition)
        names = quoted_list(table.column_names)
        by = order_of(table, arrangement)
        asked = (
            Asked(
                f"SELECT n FROM (SELECT absent, row_number() OVER (ORDER BY {by}) - 1 AS n FROM ("
            )
            + f"SELECT FALSE AS absent, {names} FROM {source(table)} t WHERE "
            + where
            + f" UNION ALL SELECT TRUE, {names} FROM ("
            + values
            + ") t) both_of_them) numbered WHERE absent"
        )
        return int(self._session.ask(asked)[0][0])
