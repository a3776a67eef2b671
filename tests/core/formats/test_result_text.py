"""Rows of a statement as a table, JSON or CSV."""

from __future__ import annotations

import csv
import json

from jondel.core.formats.result_text import as_csv, as_json, as_table
from jondel.core.model.rows import ResultRows

_RESULT = ResultRows(
    ("id", "name"),
    ((1, "tide"), (20, None), (3, ""), (4, 'a "b", c\nd'), (5, "名前"), (6, b"\x00\x01")),
    complete=False,
)


def test_the_table_is_aligned_by_cells_and_says_what_is_left_out() -> None:
    lines = list(as_table(_RESULT))
    assert lines[:5] == ["id  name", "──  ──────────", " 1  tide", "20  ∅", ' 3  ""']
    assert lines[-1] == "6 rows, more left out"
    assert "⏎" in lines[5]


def test_json_keeps_null_and_empty_text_apart() -> None:
    document = json.loads("\n".join(as_json(_RESULT)))
    assert document["columns"] == ["id", "name"]
    assert document["rows"][1:3] == [[20, None], [3, ""]]
    assert document["rows"][5] == [6, {"base64": "AAE="}]


def test_csv_can_be_read_back_and_tells_null_from_empty_text() -> None:
    text = "\n".join(as_csv(_RESULT))
    rows = list(csv.reader(text.splitlines(keepends=True)))
    assert rows[4] == ["4", 'a "b", c\nd']
    assert "\n20,\n" in text
    assert '\n3,""\n' in text


def test_columns_of_the_same_name_all_stay() -> None:
    result = ResultRows(("n", "n"), ((1, 2),), complete=True)
    assert json.loads("".join(as_json(result)))["rows"] == [[1, 2]]
    assert next(iter(as_table(result))) == "n  n"
