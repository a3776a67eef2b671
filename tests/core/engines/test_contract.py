"""The contract of engines: every one does this alike, with every kind of value it has."""

from __future__ import annotations

import io
import json
import random
from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from engines_under_test import (
    ENGINES,
    RISING,
    SERVER_ENGINE,
    SORTED_KINDS,
    Made,
    Spec,
    column_type_of,
)
from jondel.core.browse.display import line
from jondel.core.browse.links import declared_links, target_of
from jondel.core.browse.typed_values import as_typed, typed_value
from jondel.core.browse.windows import WindowCache
from jondel.core.diff.compare import Scope, compare
from jondel.core.draft.draft import Draft
from jondel.core.draft.draft_file import DraftFile
from jondel.core.draft.draft_plan import cells_of, plan_of
from jondel.core.draft.value_entry import as_entered, entered, untouched
from jondel.core.engines.needed import (
    capturer_of,
    commits_of,
    restorer_of,
    statements_of,
    writer_of,
)
from jondel.core.engines.protocol import Database, Feature
from jondel.core.errors import Cancelled, FeatureMissing, RecordsMovedOn, WriteError
from jondel.core.files.json_values import json_value, value_from_json
from jondel.core.formats.changes_json import write_changes
from jondel.core.formats.copied_rows import CopyForm, rows_as
from jondel.core.model.addresses import TableId
from jondel.core.model.filters import (
    Arrangement,
    ColumnCondition,
    Condition,
    GroupCondition,
    OrderKey,
    WordsCondition,
)
from jondel.core.model.schema import Column, Table
from jondel.core.model.values import Exact, Row, StoredValue, identical, is_number

_BY_KIND = [
    pytest.param(engine, kind, id=f"{engine.name}-{kind}")
    for engine in ENGINES
    for kind in engine.kinds
]
_BY_ENGINE = [pytest.param(engine, id=engine.name) for engine in ENGINES]
_WRITTEN_BY_KIND = [param for param in _BY_KIND if param.values[0].writes]  # type: ignore[attr-defined]
_WRITTEN = [param for param in _BY_ENGINE if param.values[0].writes]  # type: ignore[attr-defined]
_AS_KEY = [p for p in _BY_KIND if p.values[1] not in getattr(p.values[0], "no_keys", ())]
_BYTES = 1 << 16
_ADDRESS = TableId("harbour", "t")


def _shuffled(kind: str) -> list[StoredValue]:
    values = [*RISING[kind], None]
    random.Random(kind).shuffle(values)
    return values


def _spec(kind: str) -> Spec:
    rows = tuple((number, value) for number, value in enumerate(_shuffled(kind), 1))
    return Spec("t", (("id", "integer"), ("v", kind)), ("id",), rows)


MakeOf = Callable[..., tuple[Made, Database]]


@pytest.fixture
def made_of(
    tmp_path: Path, request: pytest.FixtureRequest
) -> Iterator[Callable[..., tuple[Made, Database]]]:
    """Makes and opens a database."""
    opened: list[Database] = []
    folder = tmp_path / "databases"
    folder.mkdir()

    def make(engine: Any, *specs: Spec) -> tuple[Made, Database]:
        if engine is SERVER_ENGINE:
            engine.server = request.getfixturevalue("postgresql")
        made = engine.make(folder, specs)
        opened.append(made.open())
        return made, opened[-1]

    yield make
    for database in opened:
        database.close()


def _values(database: Database, table: Table, arrangement: Arrangement) -> list[StoredValue]:
    order = database.finder.arrange(table, arrangement)
    window = database.rows.read_window(table, 0, 1000, order=order)
    assert order.rows == len(window.rows)
    return [row[1] for row in window.rows]  # type: ignore[misc]


def _found(database: Database, table: Table, condition: Condition) -> set[int]:
    order = database.finder.arrange(table, Arrangement(condition))
    window = database.rows.read_window(table, 0, 1000, order=order)
    return {row[0] for row in window.rows}  # type: ignore[misc]


# Reading


@pytest.mark.parametrize(("engine", "kind"), _BY_KIND)
def test_a_value_is_read_as_it_was_written(made_of: MakeOf, engine: Any, kind: str) -> None:
    made, database = made_of(engine, _spec(kind))
    table = made.table(database, "t")
    expected = _spec(kind).rows
    window = database.rows.read_window(table, 0, 100)
    assert [tuple(row) for row in window.rows] == list(expected)
    assert database.rows.measure(table).rows == len(expected)
    for position, row in zip(window.positions, expected, strict=True):
        record = database.rows.read_record(table, position, _BYTES)
        assert record is not None
        assert all(identical(one, other) for one, other in zip(record, row, strict=True))
        assert database.rows.find_position(table, ("id", "v"), row) == position
        assert database.rows.ordinal_of(table, position) == row[0] - 1  # type: ignore[operator]
    streamed = [r for b in database.scanner.stream_rows(table, ("id", "v"), ("id",)) for r in b]
    assert streamed == list(expected)
    distinct = database.rows.distinct_values(table, "v", 100)
    assert len(distinct) == len(RISING[kind])
    assert all(any(identical(v, d) for d in distinct) for v in RISING[kind])


@pytest.mark.parametrize(("engine", "kind"), _BY_KIND)
def test_values_are_told_apart_and_found(made_of: MakeOf, engine: Any, kind: str) -> None:
    made, database = made_of(engine, _spec(kind))
    table = made.table(database, "t")
    places = {row[0]: row[1] for row in _spec(kind).rows}
    for number, value in places.items():
        if value is None:
            assert _found(database, table, ColumnCondition("v", "is NULL")) == {number}
            continue
        assert _found(database, table, ColumnCondition("v", "is", (value,))) == {number}
        assert _found(database, table, ColumnCondition("v", "is not", (value,))) == {*places} - {
            number
        }
        assert database.rows.count_matching(table, (("v", value),)) == 1
        assert database.rows.matching_rows(table, (("v", value),), 9).rows == ((number, value),)
        if not isinstance(value, bytes) and str(value).strip():
            hits = [h.value for h in database.finder.find_text(table, str(value), whole=True)]
            assert value in hits or kind == "real"
    two = tuple(RISING[kind][:2])
    both = _found(database, table, ColumnCondition("v", "one of", two))
    assert {places[number] for number in both} == set(two)
    neither = _found(database, table, ColumnCondition("v", "none of", two))
    assert both | neither == {*places}
    assert not both & neither
    keys = [(value,) for value in _shuffled(kind)]
    assert database.rows.which_occur(table, ("v",), keys) == {
        place for place, (value,) in enumerate(keys) if value is not None
    }


@pytest.mark.parametrize(("engine", "kind"), [p for p in _BY_KIND if p.values[1] in SORTED_KINDS])
def test_values_sort_and_compare_in_their_order(made_of: MakeOf, engine: Any, kind: str) -> None:
    made, database = made_of(engine, _spec(kind))
    table, rising = made.table(database, "t"), list(RISING[kind])
    assert _values(database, table, Arrangement(None, (OrderKey("v"),))) == [None, *rising]
    down = Arrangement(None, (OrderKey("v", True),))
    assert _values(database, table, down) == [*reversed(rising), None]
    assert [r[1] for r in database.finder.first_rows(table, down, 2).rows] == rising[-1:-3:-1]
    places = {row[1]: row[0] for row in _spec(kind).rows}
    for index, value in enumerate(rising):
        for operator, expected in (
            ("before", rising[:index]),
            ("up to", rising[: index + 1]),
            ("after", rising[index + 1 :]),
            ("from", rising[index:]),
        ):
            found = _found(database, table, ColumnCondition("v", operator, (value,)))  # type: ignore[arg-type]
            assert found == {places[v] for v in expected}
    ends = ColumnCondition("v", "between", (rising[0], rising[-1]))
    assert _found(database, table, ends) == {places[v] for v in rising}
    tally = database.finder.tally(table, "v", Arrangement())
    assert (tally.rows, tally.distinct, tally.nulls) == (len(rising) + 1, len(rising), 1)
    assert (tally.least, tally.greatest) == (rising[0], rising[-1])
    assert (tally.total is not None) == is_number(rising[0])


@pytest.mark.parametrize(("engine", "kind"), _AS_KEY)
def test_it_can_be_the_key(made_of: MakeOf, engine: Any, kind: str) -> None:
    values = [value for value in _shuffled(kind) if value is not None]
    parent = Spec("parents", (("k", kind),), ("k",), tuple((value,) for value in values))
    rows = tuple((n, value) for n, value in enumerate(values, 1))
    child = Spec("t", (("id", "integer"), ("p", kind)), ("id",), rows, ("p", "parents", "k"))
    made, database = made_of(engine, parent, child)
    parents, children = made.table(database, "parents"), made.table(database, "t")
    (link,) = declared_links(database.schema())
    for row in rows:
        record = target_of(database, database.schema(), link, children, row)
        assert record is not None
        assert identical(record.row[0], row[1])
        position = database.rows.find_position(parents, ("k",), (row[1],))
        assert position is not None
        assert database.rows.read_record(parents, position, _BYTES) == (row[1],)
    window = database.rows.read_window(parents, 0, 100)
    order = [row[0] for row in window.rows]
    assert len(order) == len(values)
    for number, position in enumerate(window.positions):
        assert database.rows.ordinal_of(parents, position) == number


# Layers over engines


@pytest.mark.parametrize("kind", sorted(RISING))
def test_every_layer_keeps_it(kind: str, home: Path) -> None:
    column = Column("v", column_type_of(kind))
    table = Table(_ADDRESS, "table", (column,))
    for value in RISING[kind]:
        assert identical(value_from_json(json.loads(json.dumps(json_value(value)))), value)
        assert line(value).isprintable()
        if not isinstance(value, bytes):
            assert untouched(as_entered(value), value)
            assert identical(entered(as_entered(value), table, column), value)
            assert identical(typed_value(as_typed(value), column), value)
        draft = Draft()
        draft.set_cell(_ADDRESS, (value,), (("v", None),), "v", value)
        with closing(DraftFile(f"/x/{kind}.db")) as file:
            file.open()
            file.write(draft)
        with closing(DraftFile(f"/x/{kind}.db")) as file:
            (entry,) = file.open().entries
            assert identical(entry.values["v"], value)
            file.write(Draft())
        text = rows_as(("v",), [(value,)], CopyForm.CSV)
        assert text.startswith("v\n")
        if isinstance(value, Exact):
            assert value.text in text.replace('""', '"')


# Writing


def _write(database: Database, draft: Draft) -> None:
    writer_of(database).apply(plan_of(draft, database).plan, commits_of(database).mark())


def _edit(draft: Draft, database: Database, table: Table, row: Row, value: StoredValue) -> None:
    position = database.rows.find_position(table, table.column_names, row)
    assert position is not None
    draft.set_cell(table.id, position, cells_of(table, row), table.column_names[-1], value)


@pytest.mark.parametrize(("engine", "kind"), _WRITTEN_BY_KIND)
def test_every_value_can_be_written_over_every_other(
    made_of: MakeOf, engine: Any, kind: str
) -> None:
    made, database = made_of(engine, _spec(kind))
    table = made.table(database, "t")
    old = list(_spec(kind).rows)
    draft = Draft()
    new = [(row[0], old[number - 1][1]) for number, row in enumerate(old)]
    for row, (_, value) in zip(old, new, strict=True):
        _edit(draft, database, table, row, value)
    draft.insert(table.id, {"id": 100, "v": old[0][1]})
    _write(database, draft)
    with closing(made.open()) as other:
        rows = other.rows.read_window(made.table(other, "t"), 0, 100).rows
    assert len(rows) == len(old) + 1
    for held, wanted in zip(rows, [*new, (100, old[0][1])], strict=True):
        assert all(identical(one, two) for one, two in zip(held, wanted, strict=True))


@pytest.mark.parametrize(("engine", "kind"), _WRITTEN_BY_KIND)
def test_what_moved_on_is_not_written_over(made_of: MakeOf, engine: Any, kind: str) -> None:
    made, database = made_of(engine, _spec(kind))
    table, rows = made.table(database, "t"), list(_spec(kind).rows)
    draft = Draft()
    _edit(draft, database, table, rows[0], rows[1][1])
    plan = plan_of(draft, database).plan
    moved = [(rows[0][0], rows[2][1]), *rows[1:]]
    token = commits_of(database).change_token()
    made.commit("t", moved)
    assert commits_of(database).change_token() != token
    with pytest.raises(RecordsMovedOn):
        writer_of(database).apply(plan)
    with closing(made.open()) as other:
        assert list(other.rows.read_window(made.table(other, "t"), 0, 100).rows) == moved


@pytest.mark.parametrize("engine", _WRITTEN)
def test_a_plan_is_written_whole_or_not_at_all(made_of: MakeOf, engine: Any) -> None:
    rows = ((1, "a"), (2, "b"))
    spec = Spec("t", (("id", "integer"), ("v", "text")), ("id",), rows)
    made, database = made_of(engine, spec)
    table = made.table(database, "t")
    draft = Draft()
    _edit(draft, database, table, rows[0], "changed")
    draft.insert(table.id, {"id": 2, "v": "there already"})
    with pytest.raises(WriteError):
        _write(database, draft)
    assert database.rows.read_window(table, 0, 9).rows == rows
    assert [len(b) for b in database.scanner.stream_rows(table, ("id",), ("id",))] == [2]


@pytest.mark.parametrize("engine", _WRITTEN)
def test_rows_without_a_key_are_addressed_by_number_or_not_at_all(
    made_of: MakeOf, engine: Any
) -> None:
    spec = Spec("t", (("v", "text"),), (), (("a",), ("a",), ("b",)))
    made, database = made_of(engine, spec)
    table = made.table(database, "t")
    if table.addressing == "none":
        assert "tell one from another" in writer_of(database).why_not_written(table)
        assert [*database.rows.read_window(table, 0, 9).rows] == [("a",), ("a",), ("b",)]
        return
    assert (table.addressing, table.primary_key) == ("row number", ())
    window = database.rows.read_window(table, 0, 9)
    assert len(set(window.positions)) == 3
    draft = Draft()
    draft.delete(table.id, window.positions[1], cells_of(table, window.rows[1]))
    _write(database, draft)
    left = database.rows.read_window(table, 0, 9)
    assert left.positions == (window.positions[0], window.positions[2])


@pytest.mark.parametrize("engine", _WRITTEN)
def test_a_record_that_is_pointed_at_goes_with_its_links_alone(
    made_of: MakeOf, engine: Any
) -> None:
    parent = Spec("parents", (("k", "text"),), ("k",), (("a",), ("b",)))
    columns = (("id", "integer"), ("p", "text"))
    child = Spec("t", columns, ("id",), ((1, "a"),), ("p", "parents", "k"))
    made, database = made_of(engine, parent, child)
    parents = made.table(database, "parents")
    draft = Draft()
    draft.delete(parents.id, ("a",) if parents.row_id is None else (1,), (("k", "a"),))
    with pytest.raises(WriteError, match="point"):
        _write(database, draft)
    children = made.table(database, "t")
    _edit(draft, database, children, (1, "a"), "b")
    _write(database, draft)
    assert database.rows.measure(parents).rows == 1


# Comparing


@pytest.mark.parametrize(("engine", "kind"), _BY_KIND)
def test_every_change_of_a_value_is_told_exactly(made_of: MakeOf, engine: Any, kind: str) -> None:
    values = RISING[kind]
    pairs = [(a, b) for a in (*values, None) for b in (*values, None)]
    before = tuple((number, a) for number, (a, _) in enumerate(pairs))
    after = tuple((number, b) for number, (_, b) in enumerate(pairs))
    columns = (("id", "integer"), ("v", kind))
    made, older = made_of(engine, Spec("t", columns, ("id",), before))
    _, newer = made_of(engine, Spec("t", columns, ("id",), (*after, (9999, values[0]))))
    table = made.table(older, "t")
    changes = compare(older, newer).table(table.id)
    assert changes is not None
    told = {record.key[0]: record for record in changes.records}
    assert told.pop(9999).kind == "added"
    assert set(told) == {n for n, (a, b) in enumerate(pairs) if not identical(a, b)}
    for number, record in told.items():
        (cell,) = record.cells
        assert (cell.before, cell.after) == pairs[number]  # type: ignore[index]
    out = io.StringIO()
    ends: Any = older, newer
    write_changes(out, ends, (older, newer), Scope(inside=True))
    (written,) = json.loads(out.getvalue())["tables"]
    assert (written["table"], written["schema"]) == ("t", table.schema)
    for entry in written["changed"]:
        wanted = pairs[entry["key"]["id"]]
        cell = entry["cells"]["v"]
        assert identical(value_from_json(cell["before"]), wanted[0])
        assert identical(value_from_json(cell["after"]), wanted[1])


@pytest.mark.parametrize(("engine", "kind"), _AS_KEY)
def test_records_are_told_apart_by_a_key_of_it(made_of: MakeOf, engine: Any, kind: str) -> None:
    values = RISING[kind]
    columns = (("k", kind), ("v", "integer"))
    older_rows = tuple((value, n) for n, value in enumerate(values[:-1]))
    newer_rows = tuple((value, n + (n == 1)) for n, value in enumerate(values) if n)
    made, older = made_of(engine, Spec("t", columns, ("k",), older_rows))
    _, newer = made_of(engine, Spec("t", columns, ("k",), newer_rows))
    changes = compare(older, newer).table(made.table(older, "t").id)
    assert changes is not None
    told = {record.key[0]: record.kind for record in changes.records}
    expected = {values[0]: "removed", values[-1]: "added"}
    if len(values) > 2:
        expected[values[1]] = "changed"
    assert told == expected


# All engines


@pytest.mark.parametrize("engine", _BY_ENGINE)
def test_windows_are_parts_of_one_order(made_of: MakeOf, engine: Any) -> None:
    rows = tuple((n * 7 % 501, f"v{n % 13}") for n in range(1, 501))
    spec = Spec("t", (("id", "integer"), ("v", "text")), ("id",), rows)
    made, database = made_of(engine, spec)
    table = made.table(database, "t")
    expected = sorted(rows)
    cache = WindowCache(table, database.rows.measure(table))
    for offset in (0, 1, 250, 499, 500, 700):
        window = database.rows.read_window(table, offset, 40)
        assert list(window.rows) == expected[offset : offset + 40]
        if window.rows:
            cache.read_around(database, (offset,))
            assert cache.row(offset) == (window.positions[0], expected[offset])
    arrangement = Arrangement(ColumnCondition("v", "is", ("v3",)), (OrderKey("id", True),))
    order = database.finder.arrange(table, arrangement)
    wanted = [row for row in reversed(expected) if row[1] == "v3"]
    assert list(database.rows.read_window(table, 2, 9, order=order).rows) == wanted[2:11]
    for place, position in enumerate(
        database.rows.read_window(table, 0, 99, order=order).positions
    ):
        assert order.ordinal_of(position) == place


@pytest.mark.parametrize("engine", _BY_ENGINE)
def test_conditions_combine(made_of: MakeOf, engine: Any) -> None:
    rows = ((1, "Red boat"), (2, "red buoy"), (3, None), (4, "blue BOAT"))
    spec = Spec("t", (("id", "integer"), ("v", "text")), ("id",), rows)
    made, database = made_of(engine, spec)
    table = made.table(database, "t")
    red, boat = (ColumnCondition("v", "contains", (word,)) for word in ("RED", "boat"))
    for condition, expected in (
        (GroupCondition("and", (red, boat)), {1}),
        (GroupCondition("or", (red, boat)), {1, 2, 4}),
        (WordsCondition('boat "blue b"'), {4}),
        (ColumnCondition("v", "matches", ("*BOAT",)), {4}),
        (ColumnCondition("v", "does not contain", ("red",)), {3, 4}),
        (ColumnCondition("v", "starts with", ("red",)), {1, 2}),
        (ColumnCondition("v", "ends with", ("boat",)), {1, 4}),
    ):
        assert _found(database, table, condition) == expected, condition


@pytest.mark.parametrize("engine", _BY_ENGINE)
def test_it_stops_when_it_is_told_to_and_goes_on_again(made_of: MakeOf, engine: Any) -> None:
    spec = Spec("t", (("id", "integer"),), ("id",), tuple((n,) for n in range(2000)))
    made, database = made_of(engine, spec)
    table = made.table(database, "t")
    ways: list[Callable[[], object]] = [
        lambda: database.rows.read_window(table, 0, 9),
        lambda: database.rows.measure(table),
        lambda: database.finder.arrange(table, Arrangement(None, (OrderKey("id", True),))),
        lambda: list(database.finder.find_text(table, "17")),
        lambda: list(database.scanner.stream_rows(table, ("id",), ("id",))),
        lambda: database.rows.count_matching(table, (("id", 5),)),
    ]
    for way in ways:
        database.interrupt()
        with pytest.raises(Cancelled):
            way()
        database.resume()
        way()


@pytest.mark.parametrize("engine", _BY_ENGINE)
def test_what_an_engine_lacks_it_says(made_of: MakeOf, engine: Any) -> None:
    _, database = made_of(engine, Spec("t", (("id", "integer"),), ("id",), ()))
    for feature, role in (
        (Feature.COMMITS, commits_of),
        (Feature.CAPTURE, lambda d: d.deltas or capturer_of(d)),
        (Feature.WRITING, writer_of),
        (Feature.RESTORING, restorer_of),
        (Feature.STATEMENTS, statements_of),
    ):
        if feature in database.features:
            assert role(database) is not None  # type: ignore[operator]
            assert database.features.why_not(feature) == ""
        else:
            with pytest.raises(FeatureMissing, match=f"cannot {feature.value}: ."):
                role(database)  # type: ignore[operator]
