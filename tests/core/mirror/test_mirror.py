"""The mirror tells the same as what it mirrors, and is whole whenever it is killed."""

from __future__ import annotations

import random
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import AbstractContextManager, closing, contextmanager, nullcontext
from pathlib import Path
from typing import Any

import mirror_updates
import pytest
from workload_app import working

from engines_under_test import RISING, column_type_of
from jondel.core.diff.compare import Scope, compare
from jondel.core.engines.delta import Delta, Known, Mark, PutRow, TableDelta
from jondel.core.engines.memory.database import open_tables
from jondel.core.engines.memory.tables import MemoryTables
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_database
from jondel.core.errors import Cancelled, StoreUnavailable, TableUnreadable
from jondel.core.mirror.mirror import Mirror
from jondel.core.mirror.rereading import Rereading
from jondel.core.mirror.state import mirrored_state, open_mirrored
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import NO_VALUE, Changes
from jondel.core.model.column_types import ColumnType
from jondel.core.model.schema import Column, Schema, Table
from jondel.core.trail.trail import Trail
from seeds import length, seeds

_PHASES = 5


@pytest.mark.parametrize("seed", seeds("JONDEL_SEEDS", 4))
def test_random_work_is_told_alike_by_the_mirror_and_by_the_pages(
    seed: int, tmp_path: Path
) -> None:
    """Each state is mirrored, and both are captured; steps of the one are steps of the other."""
    path, mirror = tmp_path / "app.db", Mirror(tmp_path / "mirror")
    with (
        working(path, seed) as app,
        closing(open_database(path)) as database,
        closing(Trail(database.location)) as trail,
        closing(Trail(str(mirror.path))) as mirrored_trail,
    ):
        taken = []
        for number in range(_PHASES + 1):
            if number:
                app.phase()
            mirror.update(Rereading(database, mirror.path))
            with closing(open_database(mirror.path)) as live_mirror:
                taken.append((trail.take(database), mirrored_trail.take(live_mirror)))
        pairs = [*zip(range(_PHASES), range(1, _PHASES + 1), strict=True), (0, _PHASES)]
        for one, other in pairs:
            with trail.both_sides(taken[one][0], taken[other][0]) as sides:
                by_pages = compare(*sides) if sides else Changes()
            states = [
                mirrored_state(mirrored_trail.open(taken[end][1]), str(path), "app.db")
                for end in (one, other)
            ]
            told = compare(states[0], states[1])
            again = compare(states[0], states[1], Scope(by_pages=False))
            assert told._replace(method="rows") == again._replace(method="rows")
            assert told.method in ("pages", "pages and rows", "same")
            assert _comparable(told) == _comparable(by_pages)
            for state in states:
                state.close()


def _comparable(changes: Changes) -> Changes:
    """Without cells of columns that only the newer side has: there a mirror knows no defaults."""
    tables = []
    for table in changes.tables:
        records = []
        for record in table.records:
            cells = tuple(cell for cell in record.cells if cell.before is not NO_VALUE)
            if record.kind != "changed" or cells:
                records.append(record._replace(cells=cells))
        if records:
            tables.append(table._replace(records=tuple(records), counts=None))  # type: ignore[arg-type]
    return Changes(tuple(tables), changes.schema_changes)


def _tables(*rows: tuple[Any, ...], kind: str = "numeric") -> MemoryTables:
    columns = (
        Column("id", ColumnType("integer", "integer"), not_null=True, key_position=1),
        Column("V", column_type_of(kind)),
        Column("v", column_type_of(kind)),
        Column("~order 1", column_type_of("text")),
    )
    tables = MemoryTables("harbour", [Table(_T, "table", columns, schema="public")])
    tables.fill(_T, rows)
    return tables


_T = TableId("public", "odd.name")


def _updated(mirror: Mirror, tables: MemoryTables) -> Database:
    with closing(open_tables(tables)) as database:
        mirror.update(Rereading(database, mirror.path))
    return open_mirrored(mirror.path)


@pytest.mark.parametrize("kind", sorted(RISING))
def test_names_that_sqlite_takes_for_one_another_are_kept_apart(kind: str, tmp_path: Path) -> None:
    values = RISING[kind]
    rows = tuple((n, value, values[-1 - n], "x") for n, value in enumerate(values))
    with closing(_updated(Mirror(tmp_path / "m"), _tables(*rows, kind=kind))) as state:
        (table,) = state.schema().tables
        assert table.column_names == ("id", "V", "v", "~order 1")
        assert state.rows.read_window(table, 0, 100).rows == rows


def test_an_update_writes_what_changed_and_nothing_else(tmp_path: Path) -> None:
    rows = [(n, None, None, "x" * 50) for n in range(2000)]
    tables, mirror = _tables(*rows), Mirror(tmp_path / "m")
    _updated(mirror, tables).close()
    wal = mirror.path.with_name("mirror.db-wal")
    _updated(mirror, tables).close()
    size = wal.stat().st_size if wal.exists() else 0
    assert size < 20_000
    tables.fill(_T, [*rows[:1000], (1000, None, None, "y"), *rows[1001:]])
    with closing(_updated(mirror, tables)) as state:
        assert state.rows.read_record(state.schema().tables[0], (1000,), 99) == (
            1000, None, None, "y",
        )  # fmt: skip
    assert (wal.stat().st_size if wal.exists() else 0) - size < 50_000


def test_a_table_that_is_declared_otherwise_is_mirrored_anew(tmp_path: Path) -> None:
    mirror = Mirror(tmp_path / "m")
    _updated(mirror, _tables((1, None, None, "x"))).close()
    other = Table(
        _T, "table", (Column("id", ColumnType("integer", "integer"), True, None, 1), Column("w"))
    )
    view = Table(TableId("public", "seen"), "view", (Column("w"),))
    tables = MemoryTables("harbour", [other, view])
    tables.fill(_T, [(1, "z"), (2, None)])
    with closing(_updated(mirror, tables)) as state:
        table, seen = state.schema().tables
        assert table == other
        assert state.rows.read_window(table, 0, 9).rows == ((1, "z"), (2, None))
        with pytest.raises(TableUnreadable, match="a view is not mirrored"):
            state.rows.measure(seen)


def test_rows_without_an_address_go_as_often_as_they_went(tmp_path: Path) -> None:
    table = Table(_T, "table", (Column("a"), Column("b")))
    mirror, told = Mirror(tmp_path / "m"), [_Told(table, [("x", 1), ("x", 1), (None, b"")], [])]
    mirror.update(told[0])
    mirror.update(_Told(table, [("y", 2)], [("x", 1), (None, b"")], whole=False))
    with closing(open_mirrored(mirror.path)) as state:
        window = state.rows.read_window(table, 0, 9)
        assert sorted(window.rows) == [("x", 1), ("y", 2)]
        assert window.positions == ((), ())


class _Told:
    """A delta made up."""

    def __init__(
        self, table: Table, put: list[Any], gone: list[Any], *, whole: bool = True
    ) -> None:
        self._schema = Schema((table,))
        self._delta = TableDelta(table.id, whole, gone, [PutRow((), row) for row in put])
        self.since: Mark | None = None

    def delta(self, known: Known) -> AbstractContextManager[Delta]:
        self.since, self.hints = known.mark, known.hints
        number = len(self._delta.put)  # type: ignore[arg-type]
        return nullcontext(
            Delta(self._schema, iter([self._delta]), {"at": number}, {"seen": number})
        )


def test_a_mark_is_handed_back(tmp_path: Path) -> None:
    table = Table(_T, "table", (Column("a"),))
    mirror = Mirror(tmp_path / "m")
    assert mirror.kept() is None
    first, second = _Told(table, [(1,), (2,)], []), _Told(table, [(1,)], [])
    mirror.update(first)
    mirror.update(second)
    assert (first.since, second.since) == (None, {"at": 2})
    kept = mirror.kept()
    assert kept is not None
    assert kept.mark == {"at": 1}


def test_hints_are_handed_back_with_their_mark_alone(tmp_path: Path) -> None:
    table = Table(_T, "table", (Column("a"),))
    mirror = Mirror(tmp_path / "m")
    told = [_Told(table, [(n,) for n in range(rows)], []) for rows in (1, 2, 3)]
    mirror.update(told[0])
    mirror.update(told[1])
    assert (told[0].hints, told[1].hints) == (None, {"seen": 1})
    hints = tmp_path / "m" / "hints.json"
    of_the_second = hints.read_bytes()
    mirror.update(told[2])
    for lost in (of_the_second, b"{", b"[]", None):
        hints.unlink() if lost is None else hints.write_bytes(lost)
        later = _Told(table, [(9,)], [])
        mirror.update(later)
        assert later.hints is None
        mirror.update(told[2])


def test_what_fails_or_is_stopped_changes_nothing(tmp_path: Path) -> None:
    table = Table(_T, "table", (Column("a"),))
    mirror = Mirror(tmp_path / "m")
    mirror.update(_Told(table, [(1,), (2,)], []))

    def failing() -> Iterator[Any]:
        yield (3,)
        raise Cancelled("stopped")

    told = _Told(table, [], [])
    rows = (PutRow((), row) for row in failing())
    told._delta = TableDelta(table.id, True, [], rows)
    with pytest.raises((Cancelled, TypeError)):
        mirror.update(told)

    def stop() -> None:
        raise Cancelled("stopped")

    with pytest.raises(Cancelled):
        mirror.update(_Told(table, [(9,)], []), stop)
    with closing(open_mirrored(mirror.path)) as state:
        assert state.rows.read_window(table, 0, 9).rows == ((1,), (2,))


def test_what_is_no_mirror_is_told(tmp_path: Path) -> None:
    (tmp_path / "m").mkdir()
    (tmp_path / "m" / "mirror.db").write_bytes(b"rubbish" * 1000)
    with pytest.raises(StoreUnavailable, match="mirror"):
        Mirror(tmp_path / "m").kept()


@contextmanager
def _killed_at_random(folder: Path, chance: random.Random) -> Iterator[None]:
    process = subprocess.Popen([sys.executable, mirror_updates.__file__, str(folder)])
    time.sleep(0.4 + chance.random() * 0.6)
    process.kill()
    process.wait()
    yield


def test_a_kill_at_any_instant_leaves_it_as_before_or_after(tmp_path: Path) -> None:
    chance, mirror, last = random.Random(0), Mirror(tmp_path / "m"), -1
    for _ in range(length(6, 100)):
        with _killed_at_random(tmp_path / "m", chance):
            kept = mirror.kept()
            if kept is None:
                continue
            number = kept.mark["number"]
            assert number >= last
            last = number
            with closing(open_mirrored(mirror.path)) as state:
                table = kept.schema.tables[0]
                expected = mirror_updates.rows_of(number)
                assert state.rows.read_window(table, 0, 10_000).rows == expected
    assert last > 0
