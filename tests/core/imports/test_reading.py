"""Files of rows: what is written in a format is read back as it was, and no row gets lost."""

from __future__ import annotations

import csv
import io
import json
import tempfile
from collections.abc import Sequence
from decimal import Decimal
from pathlib import Path

import openpyxl
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from jondel.core.engines.postgresql.dialect import DIALECT as POSTGRESQL
from jondel.core.engines.sqlite.dialect import DIALECT as SQLITE
from jondel.core.errors import ImportFailed
from jondel.core.formats.row_writers import writer_to
from jondel.core.formats.rows_xlsx import WorkbookWriter
from jondel.core.imports.destination import table_that_fits
from jondel.core.imports.guesses import kind_of_values
from jondel.core.imports.matching import matches_for_new, matches_with, read_by, without_values
from jondel.core.imports.plan import ImportedRows, ImportPlan
from jondel.core.imports.preview import problem_of, sample_of
from jondel.core.imports.readings import column_reader
from jondel.core.imports.rejects import Rejects
from jondel.core.imports.source import AS_FOUND, SourceOptions, open_source
from jondel.core.model.addresses import TableId
from jondel.core.model.column_types import ColumnType
from jondel.core.model.outcomes import ResultColumn
from jondel.core.model.schema import Column, Schema, Table
from jondel.core.model.values import Exact, InvalidText, Row, StoredValue, identical

INTEGER, REAL, TEXT, BLOB, BOOLEAN, DATE, ANY = (
    SQLITE.type_named(name) for name in ("INT", "REAL", "TEXT", "BLOB", "BOOLEAN", "DATE", "")
)
TEXTS = st.one_of(
    st.text(st.characters(codec="utf-8"), max_size=6),
    st.sampled_from(
        ["", "NULL", '"', '""', ",", "a\nb", "\r", "\r\n", " x ", "007", "1e5", "0x41", "_x0041_"]
    ),
)
INTEGERS = st.integers(-(2**63), 2**63 - 1)
ROWS = st.lists(
    st.tuples(
        st.one_of(st.none(), INTEGERS),
        st.one_of(st.none(), st.floats(allow_nan=False)),
        st.one_of(st.none(), TEXTS),
        st.one_of(st.none(), st.binary(max_size=4)),
    ),
    min_size=1,
    max_size=5,
)
NAMES = ("id", "depth", "note", "photo")
TYPES = (INTEGER, REAL, TEXT, BLOB)


def _file(folder: str | Path, form: str, rows: Sequence[Row], names: Sequence[str]) -> Path:
    path = Path(folder, f"rows.{form}")
    columns = [ResultColumn(name) for name in names]
    if form == "xlsx":
        with path.open("wb") as out:
            book = WorkbookWriter(out)
            book.begin(columns)
            book.take(rows)
            book.end(True)
            book.close()
        return path
    with path.open("w", encoding="utf-8", errors="surrogateescape", newline="") as text:
        writer = writer_to(form, text)  # type: ignore[arg-type]
        writer.begin(columns)
        writer.take(rows)
        writer.end(True)
    return path


def _read(
    path: Path, types: Sequence[ColumnType], options: SourceOptions = AS_FOUND
) -> tuple[list[Row], Rejects]:
    source = open_source(path, options)
    rejects = Rejects()
    matches = tuple(
        match._replace(target=match.name, type=kind)
        for match, kind in zip(
            matches_for_new(source.columns, [[]] * len(types), SQLITE), types, strict=True
        )
    )
    plan = ImportPlan(path, options, TableId("t"), matches)
    rows = ImportedRows(plan, source, rejects, lambda rows: None)
    found = []
    for batch in rows.batches():
        for row in batch.rows:
            given = dict(zip(batch.columns, row, strict=True))
            found.append(tuple(given.get(name) for name in source.columns))
    return found, rejects


def _same(one: Sequence[Row], other: Sequence[Row]) -> bool:
    return len(one) == len(other) and all(
        len(a) == len(b) and all(map(identical, a, b)) for a, b in zip(one, other, strict=True)
    )


@pytest.mark.parametrize("form", ["csv", "json", "jsonl"])
@given(rows=ROWS)
def test_rows_are_read_back_as_they_were_written(form: str, rows: list[Row]) -> None:
    with tempfile.TemporaryDirectory() as folder:
        found, rejects = _read(_file(folder, form, rows, NAMES), TYPES)
    assert rejects.rows == 0
    assert _same(found, rows)


@given(
    rows=st.lists(
        st.tuples(
            st.one_of(st.none(), st.integers(-(2**53), 2**53)),
            st.one_of(st.none(), st.text(st.characters(codec="utf-8"), min_size=1, max_size=6)),
        ).filter(any),
        min_size=1,
        max_size=4,
    )
)
@settings(max_examples=20)
def test_a_workbook_is_read_back_as_it_was_written(rows: list[Row]) -> None:
    with tempfile.TemporaryDirectory() as folder:
        found, rejects = _read(_file(folder, "xlsx", rows, ("id", "note")), (INTEGER, TEXT))
    assert rejects.rows == 0
    assert _same(found, rows)


@given(rows=st.lists(st.tuples(TEXTS.filter(bool), TEXTS.filter(bool)), min_size=1, max_size=6))
def test_csv_of_other_programs_is_read_as_the_library_reads_it(rows: list[tuple[str, str]]) -> None:
    out = io.StringIO(newline="")
    csv.writer(out, quoting=csv.QUOTE_ALL).writerows([("a", "b"), *rows])
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "x.csv")
        path.write_bytes(out.getvalue().encode())
        found, rejects = _read(path, (TEXT, TEXT))
    assert (found, rejects.rows) == (rows, 0)


@given(text=st.text(st.sampled_from('ab,"\n\r; é'), max_size=40))
def test_whatever_a_file_holds_each_line_is_read_or_rejected(text: str) -> None:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "x.csv")
        path.write_bytes(b"h\n" + text.encode())
        kept = io.BytesIO()
        rejects = Rejects(kept)
        source = open_source(path, SourceOptions(delimiter=","))
        plan = ImportPlan(
            path, SourceOptions(), TableId("t"), matches_for_new(source.columns, [[]], SQLITE)
        )
        rows = [
            row
            for batch in ImportedRows(plan, source, rejects, lambda rows: None).batches()
            for row in batch.rows
        ]
    # Every letter of the file is in a row or among those that were rejected.
    left = "".join(str(cell) for row in rows for cell in row) + kept.getvalue().decode()
    for letter in "abé":
        assert left.count(letter) >= text.count(letter)
    assert len(rejects.result().first) == rejects.rows


def test_nothing_is_null_and_a_pair_of_quotes_is_empty_text(tmp_path: Path) -> None:
    path = tmp_path / "x.csv"
    path.write_text('a,b,c\n1,,""\n2,"",\n3,"NULL",NULL\n4,"x""y",""""\n')
    options = SourceOptions(null="NULL")
    found, _ = _read(path, (INTEGER, TEXT, TEXT), options)
    assert found == [(1, None, ""), (2, "", None), (3, "NULL", None), (4, 'x"y', '"')]


def test_rows_are_numbered_by_their_lines_and_the_wrong_ones_are_kept(tmp_path: Path) -> None:
    path = tmp_path / "x.csv"
    path.write_text('a;b\n1;"two\nlines"\n\n2\n3;x;y\nno;z\n"bad"quote;1\n5;e\n')
    kept = io.BytesIO()
    source = open_source(path)
    plan = ImportPlan(
        path, SourceOptions(), TableId("t"),
        matches_for_new(source.columns, [["1"], ["x"]], SQLITE),
    )  # fmt: skip
    rejects = Rejects(kept)
    batches = list(ImportedRows(plan, source, rejects, lambda rows: None).batches())
    assert [(n, row) for b in batches for n, row in zip(b.numbers, b.rows, strict=True)] == [
        (2, (1, "two\nlines")), (9, (5, "e")),
    ]  # fmt: skip
    told = list(csv.reader(io.StringIO(kept.getvalue().decode())))
    assert told[0] == ["rejected_line", "rejected_reason", "a", "b"]
    assert sorted((int(row[0]), row[2:]) for row in told[1:]) == [
        (5, ["2"]), (6, ["3", "x", "y"]), (7, ["no", "z"]), (8, ['"bad"quote;1']),
    ]  # fmt: skip
    assert rejects.result().rows == 4


def test_what_was_rejected_can_be_put_right_and_imported(tmp_path: Path) -> None:
    path = tmp_path / "x.rejected.csv"
    path.write_text("rejected_line,rejected_reason,id,note\n7,id: 'x' is no,8,mended\n")
    table = Table(TableId("t"), "table", (Column("id", INTEGER), Column("note", TEXT)))
    assert [m.target for m in matches_with(open_source(path).columns, table)] == [
        None, None, "id", "note",
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("text", "names", "rows"),
    [
        pytest.param('[{"a": 1}, {"b": "x", "a": 2}]', ("a", "b"), 2, id="objects"),
        pytest.param("[[1, 2], [3, 4]]", ("column 1", "column 2"), 2, id="lists"),
        pytest.param('{"columns": ["a", "b"], "rows": [[1, 2]]}', ("a", "b"), 1, id="ours"),
        pytest.param('{"n": 1, "data": [{"a": 1}]}', ("a",), 1, id="within-an-object"),
        pytest.param('\ufeff[{"a": 1}]', ("a",), 1, id="with-a-mark"),
    ],
)
def test_where_the_records_of_a_document_are_is_found(
    tmp_path: Path, text: str, names: tuple[str, ...], rows: int
) -> None:
    path = tmp_path / "x.json"
    path.write_text(text, "utf-8")
    source = open_source(path)
    assert source.columns == names
    assert sum(len(batch.rows) for batch in source.rows()) == rows


@pytest.mark.parametrize(
    ("name", "content", "words"),
    [
        ("x.json", b"{", "is no JSON"),
        ("x.json", b"3", "is no list of records"),
        ("x.json", b'{"a": 1}', "holds no list of records"),
        ("x.json", b"[]", "holds no records"),
        ("x.csv", b"", "holds no rows"),
        ("x.xlsx", b"no zip", "is no workbook"),
        ("x.bin", b"", "say what it is"),
    ],
)
def test_what_holds_no_rows_is_said(tmp_path: Path, name: str, content: bytes, words: str) -> None:
    (tmp_path / name).write_bytes(content)
    with pytest.raises(ImportFailed, match=words):
        open_source(tmp_path / name)


def test_a_document_that_breaks_off_and_members_that_nobody_knew(tmp_path: Path) -> None:
    broken = tmp_path / "x.json"
    broken.write_text("[" + '{"a": 1},' * 20_000)
    with pytest.raises(ImportFailed, match="after record 20000"):
        _read(broken, (INTEGER,))
    lines = tmp_path / "x.jsonl"
    lines.write_text('{"a": 1}\n' * 10_000 + '{"a": 2, "late": 3}\nno\n[1, 2]\n{"a": NaN}\n')
    found, rejects = _read(lines, (INTEGER,))
    assert len(found) == 10_000
    reasons = [reason for reason, _ in rejects.result().reasons]
    assert "no member 'late'" in reasons[0]
    assert len(reasons) == 4


def test_text_in_another_encoding_is_read_by_its_name_and_else_kept(tmp_path: Path) -> None:
    path = tmp_path / "x.csv"
    path.write_bytes("name\nJärvi\n".encode("cp1252"))
    assert _read(path, (TEXT,), SourceOptions(encoding="cp1252"))[0] == [("Järvi",)]
    assert _read(path, (TEXT,))[0] == [(InvalidText(b"J\xe4rvi"),)]
    assert sample_of(path).has_invalid
    wide = tmp_path / "y.csv"
    wide.write_bytes("name\nJärvi\n".encode("utf-16"))
    assert _read(wide, (TEXT,))[0] == [("Järvi",)]
    with pytest.raises(ImportFailed, match="no encoding called"):
        open_source(path, SourceOptions(encoding="nope"))


def test_a_workbook_gives_times_as_text_and_formulas_as_their_values(tmp_path: Path) -> None:
    import datetime as dt

    book = openpyxl.Workbook()
    sheet = book.active
    assert sheet is not None
    moment = dt.datetime(2026, 6, 14, 14, 2, 11)  # noqa: DTZ001
    for row in (["at", "on", "n"], [moment, dt.date(2026, 6, 14), 1.5], [None], [None, None, 2]):
        sheet.append(row)
    book.create_sheet("other").append(["z"])
    book.save(tmp_path / "x.xlsx")
    path = tmp_path / "x.xlsx"
    found, _ = _read(path, (TEXT, TEXT, REAL))
    assert found[0] == ("2026-06-14 14:02:11", "2026-06-14 00:00:00", 1.5)
    assert found[1] == (None, None, 2.0)
    numbers = [n for batch in open_source(path).rows() for n in batch.numbers]
    assert numbers == [2, 4]
    assert open_source(path, SourceOptions(sheet="other")).columns == ("z",)
    with pytest.raises(ImportFailed, match="its sheets: Sheet, other"):
        open_source(path, SourceOptions(sheet="nope"))


@pytest.mark.parametrize(
    ("column", "way", "given", "wanted"),
    [
        (INTEGER, "by type", "12", 12),
        (INTEGER, "by type", "1_000", "whole number"),
        (INTEGER, "by type", "٣", "whole number"),
        (INTEGER, "by type", "0\x1f", "whole number"),
        (REAL, "by type", "0\x1f", "a number"),
        (POSTGRESQL.type_named("uuid"), "by type", "fe7a8972-dbf9-d9cb-d191-fd7ede76d790",
         "=fe7a8972-dbf9-d9cb-d191-fd7ede76d790"),
        (INTEGER, "by type", 2.0, 2),
        (INTEGER, "by type", "9" * 19, "64 bits"),
        (INTEGER, "as it is", "x", "x"),
        (REAL, "by type", "nan", float("nan")),
        (REAL, "by type", "1e3", 1000.0),
        (REAL, "by type", True, 1.0),
        (REAL, "comma decimals", "1.234,5", 1234.5),
        (REAL, "comma decimals", "12.34", "1.234,50"),
        (BOOLEAN, "by type", "Yes", 1),
        (BOOLEAN, "by type", False, 0),
        (BOOLEAN, "by type", "perhaps", "true or false"),
        (DATE, "by type", "2026-06-14", "2026-06-14"),
        (DATE, "day first", "3.6.2026", "2026-06-03"),
        (DATE, "month first", "6/3/2026 9:05", "2026-06-03 09:05"),
        (DATE, "day first", "31.2.2026", "a day that there is"),
        (DATE, "seconds", "1781445731.25", "2026-06-14 14:02:11.25"),
        (BLOB, "base64", "AAE=", b"\0\1"),
        (BLOB, "by type", "0x00ff", b"\0\xff"),
        (TEXT, "by type", "007", "007"),
        (TEXT, "by type", Decimal("1.50"), "1.50"),
        (TEXT, "by type", {"a": [1, Decimal("2.50")]}, '{"a": [1, 2.50]}'),
        (TEXT, "by type", True, "true"),
        (ANY, "by type", "007", "007"),
        (ANY, "by type", "7", 7),
        (ANY, "by type", {"base64": "AAE="}, b"\0\1"),
        (POSTGRESQL.type_named("numeric(8,2)"), "by type", Decimal("1.50"), "=1.50"),
        (POSTGRESQL.type_named("numeric"), "comma decimals", "1.234,50", "=1234.50"),
        (POSTGRESQL.type_named("boolean"), "by type", True, "=true"),
        (POSTGRESQL.type_named("date"), "by type", "14.6.2026", "a date"),
        (POSTGRESQL.type_named("jsonb"), "by type", {"a": 1}, '={"a": 1}'),
        (POSTGRESQL.type_named("uuid"), "by type", "x", "a uuid"),
        (POSTGRESQL.type_named("bigint"), "by type", "5", 5),
    ],
)  # fmt: skip
def test_values_are_read_as_the_column_or_the_person_says(
    column: ColumnType, way: str, given: object, wanted: StoredValue
) -> None:
    for values in ([given], [None, given, None]):
        found, unfit = column_reader(column, way)(values)  # type: ignore[arg-type]
        value = found[len(values) // 2]
        if unfit:
            assert str(wanted) in unfit[len(values) // 2]
        elif isinstance(value, Exact):
            assert f"={value.text}" == wanted
        else:
            assert identical(value, wanted)


@given(values=st.lists(st.one_of(st.none(), TEXTS, INTEGERS.map(str), st.floats().map(str))))
@pytest.mark.parametrize("column", [INTEGER, REAL, TEXT, ANY, SQLITE.type_named("DECIMAL(8,2)")])
def test_many_values_are_read_as_each_by_itself(
    column: ColumnType, values: list[str | None]
) -> None:
    together = column_reader(column)(values)
    for place, value in enumerate(values):
        # A blank beside it has it read by itself.
        alone = column_reader(column)([value, ""])
        assert together.unfit.get(place) == alone.unfit.get(0)
        assert identical(together.values[place], alone.values[0])


@pytest.mark.parametrize(
    ("values", "kind"),
    [
        (["1", "2", None], "integer"),
        (["1", "2.5"], "numeric"),
        (["007", "8"], "text"),
        (["2026-01-02"], "date"),
        (["2026-01-02", "2026-01-02 10:00"], "timestamp"),
        (["2026-13-40"], "text"),
        (["true", "false"], "boolean"),
        ([True, None], "boolean"),
        ([{"a": 1}], "json"),
        ([Decimal("1.5"), 2], "numeric"),
        ([2**70], "numeric"),
        ([None], "text"),
        ([], "text"),
    ],
)
def test_the_kind_of_values_is_guessed(values: list[object], kind: str) -> None:
    assert kind_of_values(values) == kind  # type: ignore[arg-type]


def test_a_new_table_has_plain_names_and_a_key_only_where_it_can_be_one(tmp_path: Path) -> None:
    path = tmp_path / "x.json"
    path.write_text(json.dumps([{"Id": 1, "Sold At": "2026-05-01", "sold-at": 2.5, "": None}]))
    sample = sample_of(path)
    values = [sample.values(place) for place in range(4)]
    matches = matches_for_new(sample.source.columns, values, SQLITE)
    assert [(m.target, m.type.name, m.is_key) for m in matches] == [
        ("id", "INTEGER", True), ("sold_at", "DATE", False), ("sold_at_2", "NUMERIC", False),
        ("column", "TEXT", False),
    ]  # fmt: skip
    twice = matches_for_new(("id",), [["1", "1"]], SQLITE)
    assert not twice[0].is_key
    comma = read_by(matches[3], "comma decimals", SQLITE, is_new=True)
    assert comma.type.name == "NUMERIC"


def test_columns_are_matched_by_their_names_and_what_is_missing_is_told(tmp_path: Path) -> None:
    table = Table(
        TableId("berths"), "table",
        (
            Column("id", INTEGER, key_position=1), Column("paid_at", DATE, not_null=True),
            Column("name", TEXT, not_null=True), Column("n", INTEGER, generated=True),
            Column("state", TEXT, not_null=True, default="'free'"),
        ),
        row_id="rowid",
    )  # fmt: skip
    path = tmp_path / "x.csv"
    path.write_text("ID,Paid At,N,paid_at\nx,,1,\n")
    sample = sample_of(path)
    matches = matches_with(sample.source.columns, table)
    assert [match.target for match in matches] == ["id", None, None, "paid_at"] or [
        match.target for match in matches
    ] == ["id", "paid_at", None, None]
    assert without_values(table, matches) == ["name"]
    problem = problem_of(sample, matches[0])
    assert problem is not None
    assert (problem.values, problem.first) == (1, 2)


EXACT_COLUMNS = tuple(
    POSTGRESQL.type_named(name)
    for name in ("numeric(30,10)", "boolean", "date", "timestamp with time zone", "uuid", "text[]")
)
EXACT_ROWS = st.lists(
    st.tuples(
        st.one_of(st.none(), st.builds(Exact, st.just("numeric"), st.decimals(
            allow_nan=False, allow_infinity=False).map(lambda d: f"{d:f}"))),
        st.one_of(st.none(), st.builds(Exact, st.just("boolean"), st.sampled_from(
            ("true", "false")))),
        st.one_of(st.none(), st.builds(Exact, st.just("date"), st.dates().map(str))),
        st.one_of(st.none(), st.builds(Exact, st.just("timestamp with time zone"), st.sampled_from(
            ("2026-06-14 14:02:11+02", "2026-06-14 14:02:11.123456-03:30", "infinity")))),
        st.one_of(st.none(), st.builds(Exact, st.just("uuid"), st.uuids().map(str))),
        st.one_of(st.none(), st.builds(Exact, st.just("array"), st.sampled_from(
            ("{}", '{a,"b c",NULL}', '{"\\\\""}')))),
    ),
    min_size=1, max_size=3,
)  # fmt: skip


@pytest.mark.parametrize("form", ["csv", "json", "jsonl"])
@given(rows=EXACT_ROWS)
def test_exact_values_are_read_back_to_the_last_digit(form: str, rows: list[Row]) -> None:
    names = ("price", "paid", "day", "at", "token", "tags")
    with tempfile.TemporaryDirectory() as folder:
        found, rejects = _read(_file(folder, form, rows, names), EXACT_COLUMNS)
    assert rejects.rows == 0
    assert found == rows


def test_the_table_that_a_file_fits_is_found() -> None:
    def table(name: str, *columns: str) -> Table:
        return Table(TableId(name), "table", tuple(Column(c, TEXT) for c in columns))

    boats = table("boats", "id", "name", "length_cm", "photo")
    prices = table("prices", "name", "length_cm", "price")
    schema = Schema((boats, prices, table("log", "what")))
    assert table_that_fits(("Name", "Length cm"), schema, None) == prices
    assert table_that_fits(("Name", "Length cm"), schema, boats) == boats
    assert table_that_fits(("id", "name"), schema, prices) == boats
    assert table_that_fits(("colour", "weight"), schema, boats) is None
    assert table_that_fits(("what",), schema, None) is None
