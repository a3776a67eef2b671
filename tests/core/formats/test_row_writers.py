"""Rows in each format: read back by another program they are what they were."""

from __future__ import annotations

import csv
import io
import json
import math
from contextlib import closing
from typing import Any

import apsw
import openpyxl
import pytest
from hypothesis import Phase, given, settings
from hypothesis import strategies as st

from jondel.core.files.json_values import value_from_json
from jondel.core.formats.row_writers import form_of_name, writer_to
from jondel.core.formats.rows_as_data import distinct_names
from jondel.core.formats.rows_to_read import TableWriter
from jondel.core.formats.rows_xlsx import WorkbookWriter
from jondel.core.model.outcomes import ResultColumn
from jondel.core.model.values import Exact, InvalidText, Row, identical

NAMES = ("id", "name")
ROWS: list[Row] = [
    (1, "tide"), (20, None), (3, ""), (4, 'a "b", c\nd'), (5, "名前"), (6, b"\x00\x01"),
]  # fmt: skip
VALUES = st.one_of(
    st.none(), st.integers(-(2**63), 2**63 - 1), st.floats(), st.binary(max_size=8),
    st.text(st.characters(codec="utf-8", exclude_characters="\0"), max_size=8),
    st.sampled_from(["", "=1+1", "_x0041_", "NULL", "1", "\x01\x1b[2J", " a ", "'", "line\r\n"]),
)  # fmt: skip
TABLES = st.integers(1, 3).flatmap(lambda width: st.lists(st.tuples(*[VALUES] * width), max_size=4))


def _written(form: str, names: Any, rows: list[Row], complete: bool = True, **options: Any) -> str:
    out = io.StringIO(newline="")
    writer = writer_to(form, out, **options)  # type: ignore[arg-type]
    writer.begin([ResultColumn(name) for name in names])
    for row in rows:
        assert writer.take([row])
    writer.end(complete)
    return out.getvalue()


def _names(rows: list[Row]) -> list[str]:
    return [f"c{number}" for number in range(len(rows[0]) if rows else 1)]


def test_the_table_is_aligned_by_cells_and_says_what_is_left_out() -> None:
    lines = _written("table", NAMES, ROWS, complete=False).splitlines()
    assert lines[:5] == ["id  name", "──  ──────────", " 1  tide", "20  ∅", ' 3  ""']
    assert lines[-1] == "6 rows, more left out"
    assert "⏎" in lines[5]


def test_a_table_of_many_rows_is_written_as_they_come() -> None:
    out = io.StringIO()
    writer = TableWriter(out, whole=False)
    writer.begin([ResultColumn("n"), ResultColumn("t")])
    for first in range(0, 6000, 1000):
        writer.take([(n, "x" * 300) for n in range(first, first + 1000)])
    before = len(out.getvalue().splitlines())
    writer.end(complete=True)
    lines = out.getvalue().splitlines()
    assert before == 6002
    assert len(lines) == 6003
    assert len({len(line) for line in lines[1:-1]}) == 1


def test_columns_of_the_same_name_all_stay() -> None:
    assert json.loads(_written("json", ("n", "n"), [(1, 2)]))["rows"] == [[1, 2]]
    assert json.loads(_written("jsonl", ("n", "n"), [(1, 2)])) == {"n": 1, "n_2": 2}
    assert distinct_names(["a", "a", "a_2", "a"]) == ["a", "a_3", "a_2", "a_4"]


@given(TABLES)
def test_json_holds_every_value(rows: list[Row]) -> None:
    read = json.loads(_written("json", _names(rows), rows))["rows"]
    lines = [json.loads(line).values() for line in _written("jsonl", _names(rows), rows).split("\n")
             if line]  # fmt: skip
    for found in (read, lines):
        values = [tuple(map(value_from_json, row)) for row in found]
        assert len(values) == len(rows)
        for one, other in zip(values, rows, strict=True):
            assert all(map(identical, one, other))


@given(TABLES)
def test_csv_keeps_what_each_field_says_and_null_apart_from_empty_text(rows: list[Row]) -> None:
    text = _written("csv", _names(rows), rows)
    read = list(csv.reader(io.StringIO(text, newline="")))[1:]
    lines = _written("csv", ["a", "b"], [(None, ""), ("", None)]).splitlines()
    assert lines == ["a,b", ',""', '"",']
    assert len(read) == len(rows)
    for fields, row in zip(read, rows, strict=True):
        for field, value in zip(fields or [""], row, strict=True):
            if isinstance(value, float):
                assert float(field) == value or math.isnan(value)
            elif isinstance(value, bytes):
                assert bytes.fromhex(field.removeprefix("0x")) == value
            elif isinstance(value, int):
                assert int(field) == value
            else:
                assert field == (value or "")


@given(TABLES)
def test_sql_makes_the_same_table_again(rows: list[Row]) -> None:
    script = _written("sql", _names(rows), rows, table='"made"', with_ddl=True)
    with closing(apsw.Connection(":memory:")) as connection:
        connection.execute(script)
        made = list(connection.execute("SELECT * FROM made"))
    assert len(made) == len(rows)
    for one, other in zip(made, rows, strict=True):
        for found, wanted in zip(one, other, strict=True):
            nan = isinstance(wanted, float) and math.isnan(wanted)
            assert identical(found, None if nan else wanted)


@settings(max_examples=12, phases=[Phase.generate])
@given(st.lists(st.tuples(VALUES, VALUES, VALUES), min_size=20, max_size=60))
def test_a_workbook_holds_numbers_as_numbers_and_all_else_as_text(rows: list[Row]) -> None:
    out = io.BytesIO()
    writer = WorkbookWriter(out)
    writer.name("a/b: [c]" + "x" * 50)
    writer.begin([ResultColumn(name) for name in _names(rows)])
    writer.take(rows)
    writer.end(complete=True)
    writer.close()
    sheet = openpyxl.load_workbook(io.BytesIO(out.getvalue()))
    (only,) = sheet.worksheets
    read = list(only.iter_rows(min_row=2, values_only=True))
    for found, row in zip(read, rows, strict=False):
        for cell, value in zip(found, row, strict=False):
            if isinstance(value, int) and abs(value) <= 2**53:
                assert cell == value
                assert isinstance(cell, int)
            elif isinstance(value, float) and math.isfinite(value):
                assert cell == float(f"{value:.16g}")
            elif isinstance(value, bytes):
                assert cell == f"0x{value.hex()}"
            elif value is None:
                assert cell is None
            elif isinstance(value, str):
                from openpyxl.utils.escape import unescape

                assert unescape(cell or "") == value
    assert writer.cut == 0


def test_a_workbook_starts_another_sheet_and_says_what_it_cut() -> None:
    out = io.BytesIO()
    writer = WorkbookWriter(out)
    for _ in range(2):
        writer.begin([ResultColumn("n")])
        writer.take([("x" * 40_000,), (Exact("numeric", "1.50"),), (Exact("numeric", "1" * 20),)])
    writer.close()
    book = openpyxl.load_workbook(io.BytesIO(out.getvalue()))
    assert book.sheetnames == ["result", "result 2"]
    assert [row[0].value for row in book["result"].iter_rows(min_row=3)] == [1.5, "1" * 20]
    assert writer.cut == 2


def test_pages_take_nothing_for_markup() -> None:
    hostile = "<script>alert(1)</script> | & \x1b[2J"
    page = _written("html", ["<b>"], [(hostile,), (None,)], title="<i>")
    assert "<script>" not in page
    assert "<b>" not in page.replace("<tbody>", "")
    assert "\x1b" not in page
    markdown = _written("markdown", ["a|b"], [(hostile,)])
    assert len(markdown.splitlines()) == 3
    assert "\x1b" not in markdown


@pytest.mark.parametrize(
    ("name", "form"),
    [
        ("a.CSV", "csv"),
        ("x/y.ndjson", "jsonl"),
        ("a.b.xlsx", "xlsx"),
        ("csv", None),
        ("a.db", None),
    ],
)
def test_the_ending_of_a_name_tells_the_format(name: str, form: str | None) -> None:
    assert form_of_name(name) == form


def test_bytes_that_are_no_text_are_the_same_bytes_again() -> None:
    text = _written("csv", ["a"], [(InvalidText(b"a\xff"),)])
    assert text.encode("utf-8", "surrogateescape") == b"a\na\xff\n"
