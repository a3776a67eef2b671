"""JSON is laid out without changing what it says, down to how a number is written."""

from __future__ import annotations

import json
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jondel.core.browse.json_lines import laid_out, problem_in

_SCALARS = st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False) | st.text()
_JSON = st.recursive(
    _SCALARS, lambda inner: st.lists(inner) | st.dictionaries(st.text(), inner), max_leaves=20
)


@given(_JSON, st.booleans())
def test_laid_out_it_says_the_same(value: Any, ascii_only: bool) -> None:
    text = json.dumps(value, ensure_ascii=ascii_only)
    assert json.loads(laid_out(text)) == value
    assert laid_out(laid_out(text)) == laid_out(text)


def test_numbers_and_doubled_names_stay_as_they_are_written() -> None:
    text = '{"a":1.10,"a":1e400,"big":12345678901234567890123,"none":[],"in":[{"x":-0}]}'
    assert laid_out(text) == (
        '{\n  "a": 1.10,\n  "a": 1e400,\n  "big": 12345678901234567890123,\n'
        '  "none": [],\n  "in": [\n    {\n      "x": -0\n    }\n  ]\n}'
    )


@pytest.mark.parametrize("text", ["", "plain", "12", '"x"', "{", "[1,]", "{'a': 1}"])
def test_what_is_no_object_or_list_stays(text: str) -> None:
    assert laid_out(text) == text


def test_half_a_surrogate_pair_stays_escaped() -> None:
    assert laid_out('["\\ud800"]') == '[\n  "\\ud800"\n]'


@pytest.mark.parametrize("text", ['{"a": 1}', "[]", "12", '"x"', "null", " [1.5e3] "])
def test_json_has_no_problem(text: str) -> None:
    assert problem_in(text) == ""


@pytest.mark.parametrize("text", ["", "{", "[1,]", "NaN", '{"a": Infinity}', "[" * 100_000])
def test_what_is_no_json_says_why(text: str) -> None:
    assert problem_in(text).startswith("not JSON: ")
