"""Reads rows of a server's tables where they stand."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from jondel.core.engines.postgresql.column_types import value_of
from jondel.core.engines.postgresql.orders import ServerOrder, ordered_window
from jondel.core.engines.postgresql.session import Asked, Session, has_no_order
from jondel.core.engines.postgresql.sql_text import argument, quoted, quoted_list, source, written
from jondel.core.engines.protocol import LANDMARK_ROWS, Extent, RowOrder
from jondel.core.errors import ReadError
from jondel.core.model.rows import Position, Window
from jondel.core.model.schema import Table
from jondel.core.model.values import Clipped, ShownRow, StoredValue, clipped
from jondel.core.model.writes import Cells

_ESTIMATED_ROWS = 100_000
_KEYS_AT_ONCE = 2000


class ServerReader:
    """See ``RowReader``."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def measure(self, table: Table, *, quick: bool = False) -> Extent:
        self._session.require(table)
        if quick:
            (found,) = self._session.ask(
                Asked("SELECT reltuples::int8 FROM pg_class WHERE oid = %s::oid", (_oid(table),))
            )
            if int(found[0]) > _ESTIMATED_ROWS:
                return Extent(int(found[0]), precision="estimate")
        (counted,) = self._session.ask(Asked(f"SELECT count(*) FROM {source(table)}"))
        rows = int(counted[0])
        if rows <= LANDMARK_ROWS or not table.primary_key:
            return Extent(rows)
        return Extent(rows, landmarks=self._landmarks(table))

    def _landmarks(self, table: Table) -> tuple[Position, ...]:
        keys = quoted_list(table.primary_key)
        sql = (
            f"SELECT {keys} FROM (SELECT {keys}, row_number() OVER (ORDER BY {keys}) AS jondel_n "
            f"FROM {source(table)}) t WHERE jondel_n %% {LANDMARK_ROWS} = 1 ORDER BY {keys}"
        )
        rows = self._session.ask(Asked(sql))
        return tuple(self._session.whole(table, table.primary_key, row) for row in rows)  # type: ignore[misc]

    def read_window(
        self,
        table: Table,
        offset: int,
        limit: int,
        *,
        extent: Extent | None = None,
        after: Position | None = None,
        before: Position | None = None,
        order: RowOrder | None = None,
    ) -> Window:
        if limit <= 0:
            return Window(offset, (), ())
        if isinstance(order, ServerOrder):
            return ordered_window(self._session, table, order, offset, limit)
        keys = _own_order(table)
        if after and table.primary_key:
            behind = self._session.at(table, after, ">")
            return self._window(offset, table, behind, f"{keys} LIMIT {limit}")
        if before and table.primary_key:
            backwards = ", ".join(f"{quoted(name)} DESC" for name in table.primary_key)
            where = self._session.at(table, before, "<")
            window = self._window(offset, table, where, f"{backwards} LIMIT {limit}")
            return Window(offset, window.positions[::-1], window.rows[::-1])
        if extent is not None and extent.landmarks and offset >= LANDMARK_ROWS:
            place = min(offset // LANDMARK_ROWS, len(extent.landmarks) - 1)
            where = self._session.at(table, extent.landmarks[place], ">=")
            skip = offset - place * LANDMARK_ROWS
            return self._window(offset, table, where, f"{keys} LIMIT {limit} OFFSET {skip}")
        return self._window(offset, table, None, f"{keys} LIMIT {limit} OFFSET {offset}")

    def _window(self, offset: int, table: Table, where: Asked | None, ordered: str) -> Window:
        self._session.require(table)
        asked = Asked(" WHERE ") + where if where is not None else Asked("")
        rows = self._session.rows(table, asked + f" ORDER BY {ordered}")
        return Window(offset, tuple(p for p, _ in rows), tuple(row for _, row in rows))

    def read_record(self, table: Table, position: Position, max_bytes: int) -> ShownRow | None:
        if not position or not table.primary_key:
            return None
        names = quoted_list(table.column_names)
        asked = Asked(f"SELECT {names} FROM {source(table)} WHERE ") + self._session.at(
            table, position
        )
        rows = self._session.ask(asked)
        if not rows:
            return None
        whole = self._session.whole(table, table.column_names, rows[0])
        return tuple(clipped(value, max_bytes) for value in whole)

    def ordinal_of(
        self, table: Table, position: Position, last: tuple[Position, int] | None = None
    ) -> int:
        where = self._session.at(table, position, "<")
        if last is not None and last[0]:
            known = self._count(table, self._session.at(table, last[0], ">=") + " AND " + where)
            if known:
                return last[1] + known
        return self._count(table, where)

    def _count(self, table: Table, where: Asked) -> int:
        asked = Asked(f"SELECT count(*) FROM {source(table)} WHERE ") + where
        return int(self._session.ask(asked)[0][0])

    def find_position(
        self, table: Table, key_columns: Sequence[str], key: Sequence[StoredValue]
    ) -> Position | None:
        if not table.primary_key:
            return None
        pairs = zip(key_columns, key, strict=True)
        where = joined(" AND ", (self._session.holds(table, n, v) for n, v in pairs))
        keys = quoted_list(table.primary_key)
        asked = Asked(f"SELECT {keys} FROM {source(table)} WHERE ") + where
        rows = self._session.ask(asked + f" ORDER BY {keys} LIMIT 1")
        return self._session.whole(table, table.primary_key, rows[0]) if rows else None  # type: ignore[return-value]

    def which_occur(
        self, table: Table, columns: Sequence[str], keys: Sequence[Sequence[StoredValue]]
    ) -> set[int]:
        casts = self._session.require(table)
        match = " AND ".join(
            f"t.{quoted(name)}{'::text' if has_no_order(table, name) else ''} = k.jondel_v{n}"
            for n, name in enumerate(columns)
        )
        marks = ", ".join(
            f"(%s::{casts[name]}){'::text' if has_no_order(table, name) else ''}"
            for name in columns
        )
        names = ", ".join(f"jondel_v{n}" for n in range(len(columns)))
        found: set[int] = set()
        for first in range(0, len(keys), _KEYS_AT_ONCE):
            some = keys[first : first + _KEYS_AT_ONCE]
            rows = ", ".join(f"({first + place}, {marks})" for place in range(len(some)))
            values = tuple(argument(value) for key in some for value in key)
            sql = (
                f"SELECT DISTINCT k.n FROM {source(table)} t "
                f"JOIN (VALUES {rows}) AS k(n, {names}) ON {match}"
            )
            found |= {int(row[0]) for row in self._session.ask(Asked(sql, values))}
        return found

    def matching_rows(self, table: Table, cells: Cells, limit: int) -> Window:
        where = self._equal(table, cells)
        return self._window(0, table, where, f"{_own_order(table)} LIMIT {limit}")

    def count_matching(self, table: Table, cells: Cells, most: int | None = None) -> int:
        limit = "" if most is None else f" LIMIT {most}"
        asked = Asked(f"SELECT count(*) FROM (SELECT 1 FROM {source(table)} WHERE ")
        return int(self._session.ask(asked + self._equal(table, cells) + f"{limit}) t")[0][0])

    def _equal(self, table: Table, cells: Cells) -> Asked:
        some = (self._session.equals(table, name, value) for name, value in cells)
        return joined(" AND ", some) if cells else Asked("TRUE")

    def distinct_values(
        self, table: Table, column: str, most: int, cells: Cells | None = None
    ) -> list[StoredValue]:
        name, declared = quoted(column), table.column(column)
        assert declared is not None
        where = Asked(f"{name} IS NOT NULL AND ") + self._equal(table, cells or ())
        some = Asked(f"SELECT {written(column)} AS v FROM {source(table)} WHERE ") + where
        asked = Asked("SELECT DISTINCT v FROM (") + some + f" LIMIT 100000) t LIMIT {most}"
        return [value_of(declared.type, row[0]) for row in self._session.ask(asked)]

    def has_repeated_null_keys(self, table: Table, key_columns: Sequence[str]) -> bool:
        nulls = " OR ".join(f"{quoted(name)} IS NULL" for name in key_columns)
        return bool(key_columns) and self._count(table, Asked(f"({nulls})")) > 1

    def read_value(self, table: Table, row_id: int, column: str) -> StoredValue:
        raise ReadError(f"{table.title}: rows of a server have no numbers")

    def read_head(self, table: Table, row_id: int, column: str, value: Clipped) -> Clipped:
        raise ReadError(f"{table.title}: rows of a server have no numbers")


def joined(separator: str, parts: Iterable[Asked]) -> Asked:
    """Parts with a text between them."""
    whole: Asked | None = None
    for part in parts:
        whole = part if whole is None else whole + separator + part
    return whole if whole is not None else Asked("TRUE")


def _own_order(table: Table) -> str:
    """What the rows of a table are in the order of: the key, else where they are stored."""
    if table.primary_key:
        return quoted_list(table.primary_key)
    return "ctid" if table.kind in ("table", "materialised view") else "(SELECT NULL)"


def _oid(table: Table) -> str:
    return str(table.identity or 0)
