"""Removed records stand where they would be, in a table's own order and in any other."""

from __future__ import annotations

import random
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

from jondel.core.browse.ghosts import ghosts_of
from jondel.core.diff.compare import compare
from jondel.core.engines.registry import open_database
from jondel.core.model.filters import Arrangement, ColumnCondition, OrderKey
from jondel.core.trail.trail import Trail

_TABLES = {
    "numbered": "CREATE TABLE t(k INTEGER PRIMARY KEY, v COLLATE NOCASE, w)",
    "text key": "CREATE TABLE t(k TEXT COLLATE NOCASE PRIMARY KEY, v, w) WITHOUT ROWID",
    "two columns": "CREATE TABLE t(k TEXT, v COLLATE NOCASE, w, PRIMARY KEY (v, k)) WITHOUT ROWID",
}
_ARRANGEMENTS = {
    "own order": (Arrangement(), "", ""),
    "by one": (Arrangement(None, (OrderKey("v"),)), "", "v, "),
    "downwards": (Arrangement(None, (OrderKey("v", True),)), "", "v DESC, "),
    "by two": (
        Arrangement(None, (OrderKey("w", True), OrderKey("v"))),
        "",
        "w DESC, v, ",
    ),
    "filtered": (
        Arrangement(ColumnCondition("v", "after", ("m",)), (OrderKey("w"),)),
        "WHERE v > 'm'",
        "w, ",
    ),
}


@pytest.mark.parametrize("declared", _TABLES.values(), ids=_TABLES)
@pytest.mark.parametrize("how", _ARRANGEMENTS.values(), ids=_ARRANGEMENTS)
def test_ghosts_stand_where_the_records_stood(
    tmp_path: Path, declared: str, how: tuple[Arrangement, str, str]
) -> None:
    path, (arrangement, where, order) = tmp_path / "app.db", how
    chance = random.Random(declared)
    names = [chance.choice("aAbBmMnNzZ") + str(number) for number in range(80)]
    with closing(sqlite3.connect(path)) as connection:
        connection.execute(declared)
        numbered = "INTEGER PRIMARY KEY" in declared
        for number, name in enumerate(names):
            v = chance.choice(["a", "B", "n", "Z", "ü", 5, 2.5, b"m", None])
            v = "" if v is None and "PRIMARY KEY (v" in declared else v
            row = (number if numbered else name, v, chance.choice([None, 1, 2, "x"]))
            connection.execute("INSERT INTO t VALUES (?, ?, ?)", row)
        connection.commit()
    with closing(open_database(path)) as database, closing(Trail(database.location)) as trail:
        before = trail.take(database)
        with closing(sqlite3.connect(path)) as connection:
            # In the last key's direction, as the sheet has equal rows.
            down = " DESC" if arrangement.order and arrangement.order[-1].descending else ""
            own = "v, k" if "(v, k)" in declared else "k"
            own = ", ".join(f"{name}{down}" for name in own.split(", ") if f"{name}," not in order)
            listed = [
                row[0]
                for row in connection.execute(f"SELECT k FROM t {where} ORDER BY {order} {own}")
            ]
            gone = set(chance.sample([k for (k,) in connection.execute("SELECT k FROM t")], 20))
            connection.executemany("DELETE FROM t WHERE k = ?", [(k,) for k in gone])
            connection.commit()
        with trail.both_sides(before, database) as sides:
            assert sides is not None
            (changes,) = compare(*sides).tables
        table = database.schema().named("t")
        assert table is not None
        made = None if arrangement.natural else database.finder.arrange(table, arrangement)
        found = ghosts_of(database, table, changes, arrangement, made)
    expected, passed = [], 0
    for k in listed:
        if k in gone:
            expected.append((k, passed))
        else:
            passed += 1
    place = table.column_names.index("k")
    assert [((g.record.before or ())[place], g.rows_before) for g in found] == expected
