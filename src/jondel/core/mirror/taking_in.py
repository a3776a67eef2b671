"""Takes into a mirror what changed in a table, touching nothing that is as it was."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from functools import cache
from itertools import islice
from typing import TypeVar, cast

import apsw

from jondel.core.engines.delta import NULL_FIELD, Fields, PresentKeys, PutRow, Span, TableDelta
from jondel.core.engines.sqlite.connection import NEGATIVE_ZERO
from jondel.core.engines.sqlite.sql_text import (
    joined_evenly,
    mark_of,
    parameter_of,
    quoted,
    quoted_list,
)
from jondel.core.errors import StoreUnavailable
from jondel.core.mirror.layout import NOT_A_NUMBER, OWN_NUMBER, MirrorTable, encoded
from jondel.core.model.rows import Position
from jondel.core.model.values import InvalidText, StoredValue

_AT_ONCE = 500
_STAGED = "temp.jondel_staged"
_STAGED_KEYS = "temp.jondel_keys"
_BOTH = "temp.jondel_both"
_MOST_PARAMETERS = 600
_RANGES = 1000
_SPANS_AT_ONCE = 200
_FEW_ROWS = 2000
_WIDEST = 1 << 62
"""Above this, differences of numbers would be too large for a number."""
_T = TypeVar("_T")

GoOn = Callable[[], None]
"""Called now and then; raises where the work is to be stopped."""


class TakingIn:
    """One table of a mirror, being brought up to date."""

    def __init__(self, connection: apsw.Connection, kept: MirrorTable, go_on: GoOn) -> None:
        self._connection = connection
        self._kept = kept
        self._name = quoted(kept.name)
        self._go_on = go_on
        self.changed = False
        """Whether anything had to be written."""

    def apply(self, told: TableDelta, *, is_new: bool) -> None:
        """Take in what is told; ``is_new``: the table was just made."""
        self._take_in(told, is_new=is_new)
        if told.rows is None or self.rows == told.rows():
            return
        if told.whole_again is not None:
            again = told.whole_again()
            self._take_in(again, is_new=False)
            if again.rows is None or self.rows == again.rows():
                return
        raise StoreUnavailable(
            f"{self._kept.table.title}: the mirror holds {self.rows} rows and the database does "
            "not; try again, and if that does not help delete the mirror's folder"
        )

    @property
    def rows(self) -> int:
        """How many rows it holds."""
        found = self._connection.execute(f"SELECT count(*) FROM {self._name}").get
        return int(found)

    def _take_in(self, told: TableDelta, *, is_new: bool) -> None:
        if told.whole and not is_new:
            self._replace(told)
            return
        for gone in self._in_turns(told.gone):
            self._remove(gone)
        rows = (self._kept.stored_row(*put) for put in told.put)
        how = self._plain_insert if is_new or not self._kept.address else self._upsert
        with self._noticing():
            self._write(how, rows, len(self._kept.stored_names))
            self._write_bulk(self._name, told.bulk)
        if told.present is not None:
            self._remove_absent(told.present)

    # Single rows

    def _in_turns(self, items: Iterable[_T]) -> Iterator[_T]:
        for number, item in enumerate(items):
            if number % _AT_ONCE == 0:
                self._go_on()
            yield item

    @contextmanager
    def _noticing(self) -> Iterator[None]:
        before = self._connection.total_changes()
        yield
        self.changed |= self._connection.total_changes() != before

    def _write(
        self,
        statement: Callable[[Sequence[str]], str],
        rows: Iterator[Sequence[StoredValue]],
        width: int,
    ) -> None:
        usual = statement(["?"] * width)
        while batch := list(islice(rows, _AT_ONCE)):
            self._go_on()
            plain: list[Sequence[StoredValue]] = []
            for row in batch:
                if any(isinstance(value, InvalidText) for value in row):
                    sql = statement([mark_of(value) for value in row])
                    self._connection.execute(sql, [parameter_of(value) for value in row])
                else:
                    plain.append(row)
            self._connection.executemany(usual, plain)

    def _write_bulk(self, into: str, blocks: Iterable[Fields | list[PutRow]]) -> None:
        """Insert rows that are told as text, several with one statement."""
        kept = self._kept
        width = len(kept.columns)
        at_once = max(1, _MOST_PARAMETERS // max(1, width))
        real = [n for n, column in enumerate(kept.table.columns) if column.type.kind == "real"]
        names = quoted_list(kept.stored_names)

        @cache
        def statement(rows: int) -> str:
            values = (", ".join(kept.from_fields(1 + width * row)) for row in range(rows))
            return f"INSERT INTO {into}({names}) VALUES ({'), ('.join(values)})"

        for block in blocks:
            self._go_on()
            if block and isinstance(block[0], PutRow):
                rows = (kept.stored_row(*put) for put in block)
                self._write(lambda marks: self._plain_insert(marks, into), rows,
                            len(kept.stored_names))  # fmt: skip
                continue
            fields = cast("list[str | float | None]", block)
            for place in real:
                fields[place::width] = _real(cast("list[str]", fields[place::width]))
            size = at_once * width
            for first in range(0, len(fields), size):
                part = fields[first : first + size]
                self._connection.execute(statement(len(part) // width), part)

    def _plain_insert(self, marks: Sequence[str], into: str = "") -> str:
        names = quoted_list(self._kept.stored_names)
        return f"INSERT INTO {into or self._name}({names}) VALUES ({', '.join(marks)})"

    def _upsert(self, marks: Sequence[str]) -> str:
        return f"{self._plain_insert(marks)} {self._on_conflict()}"

    def _on_conflict(self) -> str:
        address = quoted_list(self._kept.address)
        # Keys that are equal may be written otherwise: -0.0 and 0.0.
        rewritten = self._kept.real_key
        others = [
            n for n in self._kept.stored_names if n not in self._kept.address or n in rewritten
        ]
        if not others:
            return f"ON CONFLICT({address}) DO NOTHING"
        sets = ", ".join(f"{quoted(name)} = excluded.{quoted(name)}" for name in others)
        differ = joined_evenly(
            " OR ",
            [_differ(f"{self._name}.{quoted(n)}", f"excluded.{quoted(n)}") for n in others],
        )
        return f"ON CONFLICT({address}) DO UPDATE SET {sets} WHERE {differ}"

    def _remove(self, gone: Position) -> None:
        kept = self._kept
        names: Sequence[str] = kept.address or kept.columns
        values = kept.stored_position(gone) if kept.address else tuple(map(encoded, gone))
        where = joined_evenly(
            " AND ", [f"{quoted(n)} IS {mark_of(v)}" for n, v in zip(names, values, strict=True)]
        )
        if not kept.address:  # one of those that are alike
            one = f"SELECT {OWN_NUMBER} FROM {self._name} WHERE {where} LIMIT 1"
            where = f"{OWN_NUMBER} = ({one})"
        with self._noticing():
            self._connection.execute(
                f"DELETE FROM {self._name} WHERE {where}", [parameter_of(v) for v in values]
            )

    # All rows

    def _replace(self, told: TableDelta) -> None:
        """Have the table hold just what is put; rows that it holds already stay as they are."""
        names = quoted_list(self._kept.stored_names)
        with self._scratch(_STAGED, f"({names})"):
            rows = (self._kept.stored_row(*put) for put in told.put)
            width = len(self._kept.stored_names)
            self._write(lambda marks: self._plain_insert(marks, _STAGED), rows, width)
            self._write_bulk(_STAGED, told.bulk)
            self._go_on()
            if self._kept.address:
                self._replace_by_key(names)
            else:
                self._replace_by_rows(names)

    def _replace_by_key(self, names: str) -> None:
        address = quoted_list(self._kept.address)
        self._connection.execute(f"CREATE INDEX temp.jondel_by_key ON jondel_staged({address})")
        same = " AND ".join(f"s.{quoted(n)} = t.{quoted(n)}" for n in self._kept.address)
        with self._noticing():
            self._connection.execute(
                f"DELETE FROM {self._name} AS t WHERE NOT EXISTS "
                f"(SELECT 1 FROM {_STAGED} s WHERE {same})"
            )
            self._connection.execute(
                f"INSERT INTO {self._name}({names}) SELECT {names} FROM {_STAGED} WHERE TRUE "
                f"{self._on_conflict()}"
            )

    def _replace_by_rows(self, names: str) -> None:
        """Rows that nothing tells apart are counted.

        The first of those that are alike on one side goes with the first on the other, and so on.
        """
        number = OWN_NUMBER
        content = joined_evenly("||", [_spelled(quoted(name)) for name in self._kept.columns])
        # No column of the table is in sight where these names are used.
        ours, theirs = (
            "SELECT number, content, row_number() OVER (PARTITION BY content) AS nth "
            f"FROM (SELECT {number} AS number, {content} AS content FROM {source})"
            for source in (self._name, _STAGED)
        )
        both = (
            f"SELECT a.number AS ours, b.number AS theirs FROM ({ours}) a "
            f"JOIN ({theirs}) b ON a.content = b.content AND a.nth = b.nth"
        )
        with self._scratch(_BOTH, f"AS {both}"), self._noticing():
            self._connection.execute(
                f"DELETE FROM {self._name} WHERE {number} NOT IN (SELECT ours FROM {_BOTH})"
            )
            self._connection.execute(
                f"INSERT INTO {self._name}({names}) SELECT {names} FROM {_STAGED} "
                f"WHERE {number} NOT IN (SELECT theirs FROM {_BOTH})"
            )

    @contextmanager
    def _scratch(self, table: str, made_of: str) -> Iterator[None]:
        self._connection.execute(f"CREATE TABLE {table} {made_of}")
        yield
        self._connection.execute(f"DROP TABLE {table}")

    # Keys

    def _remove_absent(self, present: PresentKeys) -> None:
        """Remove the rows whose keys the database has no more; all that it has are there."""
        column, within = self._kept.leading_integer, present.within
        if column is not None and within and within[-1][1] - within[0][0] < _WIDEST:
            self._remove_in_spans(column, present, within)
            return
        if self.rows == present.rows:
            return
        ends = self._ends(column) if column is not None else None
        if column is None or ends is None or ends[1] - ends[0] >= _WIDEST:
            self._remove_others("TRUE", present.keys(None))
            return
        self._remove_in_spans(column, present, [ends])

    def _remove_in_spans(self, column: str, present: PresentKeys, spans: Sequence[Span]) -> None:
        name = quoted(column)
        spans = self._spans_that_differ(name, spans, present)
        for first in range(0, len(spans), _SPANS_AT_ONCE):
            some = spans[first : first + _SPANS_AT_ONCE]
            self._remove_others(_in_spans(name, some), present.keys(some))

    def _ends(self, column: str) -> Span | None:
        name = quoted(column)
        low, high = self._connection.execute(
            f"SELECT min({name}), max({name}) FROM {self._name}"
        ).get
        return None if low is None else (low, high)

    def _spans_that_differ(
        self, name: str, within: Sequence[Span], present: PresentKeys
    ) -> list[Span]:
        """Where rows went, as closely as is worth the counting."""
        spans = list(within)
        low = spans[0][0] if spans else 0
        while spans:
            self._go_on()
            width = max(1, sum(last - first + 1 for first, last in spans) // _RANGES)
            ours = dict(
                self._connection.execute(
                    f"SELECT ({name} - {low}) / {width}, count(*) FROM {self._name} "
                    f"WHERE {_in_spans(name, spans)} GROUP BY 1"
                )
            )
            theirs = present.counts(low, width, spans)
            differing = [n for n, count in sorted(ours.items()) if theirs.get(n, 0) != count]
            spans = [(low + n * width, low + (n + 1) * width - 1) for n in differing]
            if width == 1 or len(spans) > _SPANS_AT_ONCE or (
                sum(ours[n] for n in differing) <= _FEW_ROWS
            ):  # fmt: skip
                break
        return spans

    def _remove_others(self, where: str, there: Iterator[Position]) -> None:
        """Remove the rows of a part of the table that have none of some keys."""
        address = quoted_list(self._kept.address)
        with self._scratch(_STAGED_KEYS, f"({address}, PRIMARY KEY ({address})) WITHOUT ROWID"):
            keys = (self._kept.stored_position(position) for position in there)
            self._write(
                lambda marks: f"INSERT INTO {_STAGED_KEYS} VALUES ({', '.join(marks)})",
                keys,
                len(self._kept.address),
            )
            same = " AND ".join(f"s.{quoted(n)} = t.{quoted(n)}" for n in self._kept.address)
            with self._noticing():
                self._connection.execute(
                    f"DELETE FROM {self._name} AS t WHERE ({where}) AND NOT EXISTS "
                    f"(SELECT 1 FROM {_STAGED_KEYS} s WHERE {same})"
                )


def _in_spans(name: str, spans: Sequence[Span]) -> str:
    return " OR ".join(f"{name} BETWEEN {first} AND {last}" for first, last in spans) or "FALSE"


def _real(fields: list[str]) -> list[str | float | None]:
    """Real numbers that are told as text, exactly; what is none stays as it is stored."""
    if NULL_FIELD not in fields and NOT_A_NUMBER not in fields:
        return list(map(float, fields))
    none = {NULL_FIELD: None, NOT_A_NUMBER: NOT_A_NUMBER}
    return [none[field] if field in none else float(field) for field in fields]


def _alike(one: str, other: str) -> str:
    """Whether two stored values are the same; -0.0 is another one than 0.0."""
    return (
        f"{one} IS {other} AND typeof({one}) = typeof({other}) "
        f"AND ({one} IS NOT 0 OR {NEGATIVE_ZERO}({one}) = {NEGATIVE_ZERO}({other}))"
    )


def _spelled(value: str) -> str:
    """A stored value as text that no other value is spelled as, whatever is put behind it."""
    return (
        f"CASE typeof({value}) WHEN 'null' THEN '-' WHEN 'integer' THEN 'i' || {value} || ';' "
        f"WHEN 'real' THEN 'r' || quote({value}) || iif({value} = 0, {NEGATIVE_ZERO}({value}), '') "
        f"|| ';' WHEN 'text' THEN 't' || length(CAST({value} AS BLOB)) || ':' || {value} "
        f"ELSE 'b' || hex({value}) || ';' END"
    )


def _differ(one: str, other: str) -> str:
    return f"NOT ({_alike(one, other)})"
