"""What changed on a server is told as a naive reading of everything finds it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest
from server_work import Work, make, naive_reading, slot

from jondel.core.diff.compare import compare
from jondel.core.engines.postgresql.delta import ServerDelta
from jondel.core.engines.postgresql.session import Session
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_database
from jondel.core.mirror.mirror import Mirror
from jondel.core.mirror.state import mirrored_state, open_mirrored
from jondel.core.model.addresses import TableId
from jondel.core.model.values import Exact
from jondel.core.trail.trail import Trail
from seeds import length, seeds

Rows = Counter[tuple[str | None, ...]]


@pytest.fixture
def session(postgresql_database: str) -> Iterator[Session]:
    with closing(Session(postgresql_database, "harbour")) as opened:
        yield opened


def _text(value: Any) -> str | None:
    if isinstance(value, Exact):
        return value.text if value.kind != "boolean" else value.text[0]
    return value if value is None or isinstance(value, str) else repr(value)


def _mirrored(state: Database) -> dict[str, Rows]:
    """All rows that a state holds, as text."""
    found = {}
    for table in state.schema().tables:
        if table.is_mirrored:
            order = table.primary_key or table.column_names
            batches = state.scanner.stream_rows(table, table.column_names, order)
            found[table.name] = Counter(
                tuple(map(_text, row)) for batch in batches for row in batch
            )
    return found


def _plain(read: dict[str, Rows], state: Database) -> dict[str, Rows]:
    """A naive reading with floats as the mirror's are written."""
    plain = {}
    for name, rows in read.items():
        table = state.schema().named(name)
        assert table is not None, name
        real = [column.type.kind == "real" for column in table.columns]
        plain[name] = Counter()
        for row, times in rows.items():
            cells = (
                repr(float(v)) if r and v is not None else v for v, r in zip(row, real, strict=True)
            )
            plain[name][tuple(cells)] += times
    return plain


@pytest.mark.parametrize("by_numbers", [True, False], ids=["xmin", "rereading"])
@pytest.mark.parametrize("seed", seeds("JONDEL_SERVER_SEEDS", 12))
def test_random_work_is_told_as_a_naive_reading_finds_it(
    seed: int, by_numbers: bool, postgresql_database: str, session: Session, tmp_path: Path
) -> None:
    make(postgresql_database)
    mirror = Mirror(tmp_path / "mirror")
    source = ServerDelta(session, by_numbers=by_numbers)
    with (
        closing(Work(postgresql_database, seed)) as work,
        closing(Trail(str(mirror.path))) as trail,
        slot(postgresql_database) as decoded,
    ):
        readings, taken = [], []
        for number in range(length(6, 25)):
            done = work.turn(length(12, 20)) if number else []
            touched = decoded()
            mirror.update(source)
            read = naive_reading(postgresql_database)
            with closing(open_mirrored(mirror.path)) as state:
                assert _mirrored(state) == _plain(read, state), done
            with closing(open_database(mirror.path)) as live:
                taken.append(trail.take(live))
            readings.append(read)
            if number:
                _check_diff(trail, taken[-2:], readings[-2:], touched)
        before = mirror.path.read_bytes()
        mirror.update(ServerDelta(session, by_numbers=False))
        assert mirror.path.read_bytes() == before, "reading everything again finds nothing more"
        mirror.update(source)
        assert mirror.path.read_bytes() == before


def _check_diff(
    trail: Trail, taken: list[Any], readings: list[dict[str, Rows]], touched: set[tuple[str, str]]
) -> None:
    """A step's changes are those that two naive readings differ by, and that were decoded."""
    before, after = (mirrored_state(trail.open(s), "harbour", "harbour") for s in taken)
    with closing(before), closing(after):
        told = compare(before, after)
        was, now = _plain(readings[0], before), _plain(readings[1], after)
    assert not told.unread
    renamed = {c.table.name for c in told.schema_changes if c.table is not None}
    for name in was.keys() & now.keys() - renamed:
        entry = told.table(TableId("public", name))
        gone, came = was[name] - now[name], now[name] - was[name]
        records = entry.records if entry is not None else ()
        old: Rows = Counter(tuple(map(_text, r.before)) for r in records if r.before is not None)
        new: Rows = Counter(tuple(map(_text, r.after)) for r in records if r.after is not None)
        assert (old, new) == (gone, came), name
        if name in ("boats", "places", "berths"):
            keys = {_text(record.key[0]) for record in records}
            assert {(name, key) for key in keys} <= touched, name
