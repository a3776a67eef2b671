"""What is copied comes out elsewhere as what it was."""

from __future__ import annotations

import csv
import io
import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jondel.core.files.json_values import value_from_json
from jondel.core.formats.copied_rows import CopyForm, cell_as, record_as, rows_as
from jondel.core.model.values import StoredValue, identical
from value_strategies import STORED_VALUES

_COLUMNS = ("id", 'a "name"', "größe")
_ROWS = st.lists(st.tuples(STORED_VALUES, STORED_VALUES, STORED_VALUES), max_size=4)


@given(_ROWS)
def test_json_gives_back_every_value(rows: list[tuple[StoredValue, ...]]) -> None:
    read = json.loads(rows_as(_COLUMNS, rows, CopyForm.JSON))
    assert [tuple(entry) for entry in read] == [_COLUMNS] * len(rows)
    for entry, row in zip(read, rows, strict=True):
        for plain, value in zip(entry.values(), row, strict=True):
            assert identical(value_from_json(plain), value)


@given(_ROWS)
def test_csv_has_a_line_of_names_and_one_a_row(rows: list[tuple[StoredValue, ...]]) -> None:
    text = rows_as(_COLUMNS, rows, CopyForm.CSV)
    read = list(csv.reader(io.StringIO(text, newline="")))
    assert tuple(read[0]) == _COLUMNS
    assert len(read) == len(rows) + 1
    for fields, row in zip(read[1:], rows, strict=True):
        for field, value in zip(fields, row, strict=True):
            if isinstance(value, str):
                assert field == value


@given(STORED_VALUES)
def test_a_cell_alone_is_exactly_what_is_stored(value: StoredValue) -> None:
    text = cell_as(value, "v", CopyForm.TEXT)
    if isinstance(value, str):
        assert text == value
    assert identical(value_from_json(json.loads(cell_as(value, "v", CopyForm.JSON))), value)


@pytest.mark.parametrize(
    ("form", "text"),
    [
        (CopyForm.TEXT, "id\t1\nname\tGull"),
        (CopyForm.JSON, '{\n  "id": 1,\n  "name": "Gull"\n}'),
        (CopyForm.CSV, "id,name\n1,Gull"),
        (
            CopyForm.MARKDOWN,
            "| column | value |\n| --- | --- |\n| id | 1 |\n| name | Gull |",
        ),
    ],
)
def test_a_record_has_a_line_a_column_where_the_form_allows_it(form: CopyForm, text: str) -> None:
    assert record_as(("id", "name"), (1, "Gull"), form) == text


def test_rows_as_text_have_tabs_and_no_heading() -> None:
    rows = [(1, None, "a"), (2, b"\x00", 0.5)]
    assert rows_as(_COLUMNS, rows, CopyForm.TEXT) == "1\t\ta\n2\t0x00\t0.5"
