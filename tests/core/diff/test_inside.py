"""What differs inside values: told where it is, told whole, and in bounded time."""

from __future__ import annotations

import json
import random
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jondel.core.diff.edit_script import edit_script
from jondel.core.diff.inside import inside_of, with_inside
from jondel.core.diff.json_difference import json_difference
from jondel.core.diff.text_difference import text_difference
from jondel.core.engines.sqlite.column_types import column_type
from jondel.core.model.changes import NO_VALUE, CellChange
from jondel.core.model.differences import (
    BlobDifference,
    JsonDifference,
    TextDifference,
    TimeDifference,
)
from jondel.core.model.schema import Column

words = st.lists(st.sampled_from(["gull ", "tern ", "\n", "e\u0301", "x", ",", "12"]), max_size=30)


@given(st.lists(st.integers(0, 4), max_size=40), st.lists(st.integers(0, 4), max_size=40))
def test_an_edit_script_makes_the_one_into_the_other(before: list[int], after: list[int]) -> None:
    script = edit_script(before, after)
    assert script is not None
    made, at = [], 0
    for b0, b1, a0, a1 in script:
        made += before[at:b0]
        assert len(made) == a0
        made += after[a0:a1]
        at = b1
        assert b1 > b0 or a1 > a0
    assert made + before[at:] == after
    removed = sum(edit.b1 - edit.b0 for edit in script)
    assert removed == len(before) - _longest_common(before, after)


def _longest_common(one: list[int], other: list[int]) -> int:
    lengths = [[0] * (len(other) + 1) for _ in range(len(one) + 1)]
    for i, a in enumerate(one):
        for j, b in enumerate(other):
            lengths[i + 1][j + 1] = (
                lengths[i][j] + 1 if a == b else max(lengths[i][j + 1], lengths[i + 1][j])
            )
    return lengths[-1][-1]


@given(words, words)
def test_a_text_difference_makes_the_one_text_into_the_other(b: list[str], a: list[str]) -> None:
    before, after = "".join(b), "".join(a)
    made, at = "", 0
    for edit in text_difference(before, after).edits:
        made += before[at : edit.at_before]
        assert len(made) == edit.at_after
        assert before[: edit.at_before].endswith(edit.lead)
        assert after[: edit.at_after].endswith(edit.lead)
        at = edit.at_before + len(edit.before)
        made += edit.after
        assert before[at:].startswith(edit.trail)
        assert after[len(made) :].startswith(edit.trail)
        assert edit.before != edit.after
    assert made + before[at:] == after


@pytest.mark.parametrize(
    ("before", "after", "edits"),
    [
        ("a" * 300 + "b" + "c" * 50, "a" * 300 + "B" + "c" * 50, [(300, "b", "B")]),
        ("take the north pontoon", "take the south pontoon", [(9, "north", "south")]),
        ("take the pontoon", "take the far pontoon", [(9, "", "far ")]),
        ("two berths, one boat", "two berth, one boats", [(9, "s", ""), (20, "", "s")]),
        ("cafe\u0301 open", "caf\u00e9 open", [(3, "e\u0301", "\u00e9")]),
        ("one\ntwo\nthree\n", "one\nthree\n", [(4, "two\n", "")]),
    ],
)
def test_texts_differ_by_words_and_characters(
    before: str, after: str, edits: list[tuple[int, str, str]]
) -> None:
    told = text_difference(before, after)
    assert [(edit.at_before, edit.before, edit.after) for edit in told.edits] == edits


def _members(before: Any, after: Any) -> list[tuple[str, Any, Any, Any]]:
    told = json_difference(json.dumps(before), json.dumps(after))
    assert told is not None
    return [
        (
            member.kind,
            member.path,
            member.before and json.loads(member.before),
            member.after and json.loads(member.after),
        )
        for member in told.members
    ]


@pytest.mark.parametrize(
    ("before", "after", "members"),
    [
        ({"a": {"b": [1, 2]}, "c": 1}, {"a": {"b": [1, 3]}, "d": 1},
         [("changed", ("a", "b", 1), 2, 3), ("added", ("d",), None, 1),
          ("removed", ("c",), 1, None)]),
        ([1, 2, 3, 4], [1, 9, 2, 3, 4], [("added", (1,), None, 9)]),
        ([1, 2, 3, 4], [1, 3, 4], [("removed", (1,), 2, None)]),
        ([{"id": 1, "n": "a"}, {"id": 2, "n": "b"}], [{"id": 2, "n": "B"}],
         [("removed", (0,), {"id": 1, "n": "a"}, None), ("changed", (0, "n"), "b", "B")]),
        ([{"x": 1, "y": 2, "z": 3}, {"x": 7, "y": 8, "z": 9}],
         [{"x": 5, "y": 5, "z": 5}, {"x": 7, "y": 8, "z": 10}],
         [("changed", (0, "x"), 1, 5), ("changed", (0, "y"), 2, 5), ("changed", (0, "z"), 3, 5),
          ("changed", (1, "z"), 9, 10)]),
        ({"a": 1}, {"a": "1"}, [("changed", ("a",), 1, "1")]),
        ({"a": None}, {"a": False}, [("changed", ("a",), None, False)]),
    ],
)  # fmt: skip
def test_json_differs_by_paths(before: Any, after: Any, members: list[Any]) -> None:
    assert _members(before, after) == members


json_values = st.recursive(
    st.none() | st.booleans() | st.integers(0, 3) | st.sampled_from(["gull", "tern"]),
    lambda inner: (
        st.lists(inner, max_size=4) | st.dictionaries(st.sampled_from("abc"), inner, max_size=3)
    ),
    max_leaves=12,
)


@given(json_values, json_values)
def test_what_json_differences_say_of_the_values_is_so(before: Any, after: Any) -> None:
    one, other = {"top": before}, {"top": after}
    told = json_difference(json.dumps(one), json.dumps(other))
    assert told is not None
    assert (one == other) == (not told.members)
    for member in told.members:
        if member.kind != "removed":
            assert _at(other, member.path) == json.loads(member.after or "null")
        elif not any(isinstance(step, int) for step in member.path[:-1]):
            assert _at(one, member.path) == json.loads(member.before or "null")


def _at(value: Any, path: tuple[str | int, ...]) -> Any:
    for step in path:
        value = value[step]
    return value


def test_json_that_is_only_written_differently_says_so() -> None:
    told = inside_of('{"a": 1, "b": [2, 3]}', '{"a":1,"b":[2,3]}')
    assert isinstance(told, JsonDifference)
    assert told.members == ()
    assert told.text is not None
    assert told.text.edits


def test_numbers_in_json_are_compared_as_they_are_written() -> None:
    told = json_difference('{"n": 1.0, "m": 100000000000000000001}', '{"n": 1, "m": 1e20}')
    assert told is not None
    assert [(m.before, m.after) for m in told.members] == [
        ("1.0", "1"), ("100000000000000000001", "1e20"),
    ]  # fmt: skip


def test_blobs_differ_from_an_offset_on() -> None:
    png = b"\x89PNG\r\n\x1a\n"
    told = inside_of(png + b"x" * 50 + b"a" + b"y" * 9, png + b"x" * 50 + b"bc" + b"y" * 9)
    assert told == BlobDifference(
        58, 9, (68, 69), ("png", "png"), b"a" + b"y" * 7, b"bc" + b"y" * 6
    )


def test_times_differ_with_their_readings() -> None:
    cell = CellChange("paid_at", 1780000000, 1780086400)
    told = with_inside(cell, Column("paid_at", column_type("INTEGER"))).inside
    assert told == TimeDifference(
        "unix seconds", "2026-05-28 20:26:40 UTC", "2026-05-29 20:26:40 UTC", 86400.0
    )
    assert with_inside(cell, Column("total", column_type("INTEGER"))).inside is None


@pytest.mark.parametrize(
    ("before", "after"), [(1, 2), (None, "text"), ("held", "paid"), (b"a", "a"), (1, "1")]
)
def test_values_that_show_themselves_how_they_differ_have_nothing_inside(
    before: Any, after: Any
) -> None:
    assert inside_of(before, after) is None
    assert with_inside(CellChange("c", NO_VALUE, after), None).inside is None


def _large_json(chance: random.Random, rows: int) -> list[dict[str, Any]]:
    return [{"id": n, "note": f"{chance.random()}", "at": [n, n + 1]} for n in range(rows)]


@pytest.mark.parametrize("shape", ["json", "lines", "one word", "nothing alike", "blob", "spaces"])
def test_values_of_many_megabytes_are_told_apart(shape: str) -> None:
    """In which time is measured in ``bench/``; one that took its square would not end here."""
    told = inside_of(*_large(shape, 4))
    assert isinstance(told, TextDifference | JsonDifference | BlobDifference)
    if isinstance(told, TextDifference):
        assert 0 < len(told.edits) <= 200
    if isinstance(told, JsonDifference):
        assert 40 <= len(told.members) <= 80


def _large(shape: str, size: int) -> tuple[Any, Any]:
    chance = random.Random(size)
    match shape:
        case "json":
            rows = _large_json(chance, 20_000 * size)
            before = json.dumps(rows)
            for _ in range(40):
                rows[chance.randrange(len(rows))]["note"] = "changed"
                rows.pop(chance.randrange(len(rows)))
            return before, json.dumps(rows)
        case "lines":
            lines = [f"{chance.random()} berth {n}" for n in range(60_000 * size)]
            before = "\n".join(lines)
            for _ in range(40):
                lines[chance.randrange(len(lines))] = "changed"
            return before, "\n".join(lines)
        case "one word":
            return "x" * size * 3_000_000 + "a" + "y" * 99, "x" * size * 3_000_000 + "b" + "y" * 99
        case "blob":
            return b"x" * size * 9_000_000 + b"a", b"x" * size * 9_000_000 + b"bc"
        case "spaces":
            return "a " * size * 300_000 + "b", "b" + " a" * size * 300_000
        case _:
            letters = "abcdefgh \n"
            return tuple("".join(chance.choices(letters, k=size * 500_000)) for _ in range(2))  # type: ignore[return-value]
