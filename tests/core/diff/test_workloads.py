"""Random work by another process: by pages, by rows, and as two independent oracles tell it."""

from __future__ import annotations

import base64
import sqlite3
from collections import Counter
from contextlib import closing
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
import workload
from oracle import as_found, expected
from workload_app import working

from jondel.core.diff.compare import Scope, compare
from jondel.core.engines import pages
from jondel.core.engines.needed import statements_of
from jondel.core.engines.registry import open_database
from jondel.core.model.changes import NO_VALUE, Changes
from jondel.core.model.values import InvalidText
from jondel.core.trail.trail import Trail
from seeds import seeds

_PHASES = 5


@pytest.mark.parametrize("seed", seeds("JONDEL_SEEDS", 12))
def test_random_work_is_found_alike_by_pages_by_rows_and_by_the_oracles(
    seed: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """States are taken in, and compared, as small ones and as large ones by turns."""

    def handle_as_small(small: bool) -> None:
        monkeypatch.setattr(pages, "MOST_SMALL_PAGES", 1 << 30 if small else 0)

    path = tmp_path / "app.db"
    with (
        working(path, seed) as app,
        closing(open_database(path)) as database,
        closing(Trail(database.location)) as trail,
    ):
        taken = [trail.take(database)]
        copies = [app.copy(tmp_path / "0.db")]
        recorded: list[Any] = []
        for number in range(1, _PHASES + 1):
            recorded.append(app.phase())
            handle_as_small(number % 2 == seed % 2)
            taken.append(trail.take(database))
            copies.append(app.copy(tmp_path / f"{number}.db"))
        pairs = [*zip(range(_PHASES), range(1, _PHASES + 1), strict=True), (0, _PHASES)]
        for one, other in pairs:
            handle_as_small(True)
            found = _both_ways(trail, taken[one], taken[other])
            handle_as_small(False)
            assert _both_ways(trail, taken[one], taken[other]) == found
            assert as_found(_comparable(found)) == expected(copies[one], copies[other])
            if other == one + 1 and recorded[one] is not None:
                assert _keyed(found) == _recorded(recorded[one], copies[other])
        with trail.both_sides(taken[-1], database) as sides:
            assert sides is None, "nothing was committed since"


def _both_ways(trail: Trail, before: Any, after: Any) -> Changes:
    with trail.both_sides(before, after) as sides:
        if sides is None:
            return Changes()
        for side in sides:
            for table in workload.TABLES.keys() - {"folded", "reversed"}:
                assert statements_of(side).execute(f"PRAGMA integrity_check({table})").rows == (
                    ("ok",),
                )
        for internal in (True, False):
            scope = Scope(internal=internal)
            by_pages = compare(*sides, scope)
            by_rows = compare(*sides, replace(scope, by_pages=False))
            assert by_pages._replace(method="rows") == by_rows._replace(method="rows")
            assert by_pages.unread == ()
            assert by_pages.method in ("pages", "pages and rows")
    return by_pages


def _comparable(changes: Changes) -> Changes:
    """The changes of plain tables, without cells of columns that only the newer side has."""
    tables = []
    for table in changes.tables:
        if table.table.name in ("words", "places"):
            continue
        records = []
        for record in table.records:
            cells = tuple(cell for cell in record.cells if cell.before is not NO_VALUE)
            if record.kind != "changed" or cells:
                records.append(record._replace(cells=cells))
        tables.append(table._replace(records=tuple(records)))
    return Changes(tuple(tables))


_WITH_KEY = ("by_id", "counted", "by_text", "long_keys")
"""Not ``clustered``: that extension takes keys that are equal under a collation for the same."""


def _keyed(changes: Changes) -> Counter[Any]:
    """Changes of tables with declared keys, in the form of ``_recorded``."""
    found: Counter[Any] = Counter()
    for table in changes.tables:
        for record in table.records if table.table.name in _WITH_KEY else ():
            if record.kind == "changed":
                cells = {c.column: (_form(c.before), _form(c.after)) for c in record.cells}
                content: Any = frozenset(cells.items())
            else:
                row = record.after if record.kind == "added" else record.before
                content = tuple(map(_form, row or ()))
            found[(str(table.table), record.kind, tuple(map(_form, record.key)), content)] += 1
    return found


def _form(value: Any) -> Any:
    if isinstance(value, InvalidText):
        return "text", value.raw
    return type(value).__name__, value


def _recorded(changes: list[Any], database: Path) -> Counter[Any]:
    """What SQLite's session extension recorded, for tables with declared keys."""
    with closing(sqlite3.connect(database)) as connection:
        infos = {
            name: connection.execute(f"SELECT name, pk FROM pragma_table_info('{name}')").fetchall()
            for name in _WITH_KEY
        }
    found: Counter[Any] = Counter()
    for name, operation, old, new in changes:
        if name not in infos:
            continue
        names = [column for column, _ in infos[name]]
        order = sorted((pk, place) for place, (_, pk) in enumerate(infos[name]) if pk)
        row = new if operation == "INSERT" else old
        key = tuple(_back(row[place]) for _, place in order)
        if operation == "UPDATE":
            cells = frozenset(
                (column, (_back(before), _back(after)))
                for column, before, after in zip(names, old, new, strict=True)
                if after != "no change" and before != after
            )
            if cells:
                found[(name, "changed", key, cells)] += 1
        else:
            kind = "added" if operation == "INSERT" else "removed"
            found[(name, kind, key, tuple(map(_back, row)))] += 1
    return found


def _back(plain: Any) -> Any:
    if isinstance(plain, dict):
        return "bytes", base64.b64decode(plain["blob"])
    kind, value = plain
    return kind, value
