"""Merging two ordered sides, against a naive join of dictionaries."""

from __future__ import annotations

from collections.abc import Iterator

from hypothesis import given
from hypothesis import strategies as st

from jondel.core.diff.merge import merge, sort_key
from jondel.core.model.values import InvalidText, Row

_keys = st.one_of(
    st.none(),
    st.integers(-5, 5),
    st.sampled_from(["", "a", "A", "ä", "\U0001f6a2", "\uffee"]),
    st.sampled_from([b"", b"a", InvalidText(b"\xff")]),
)
_sides = st.dictionaries(_keys, st.integers(0, 2), max_size=40)


def _batches(side: dict[object, int], size: int) -> Iterator[list[Row]]:
    rows: list[Row] = sorted(side.items(), key=lambda row: sort_key(row[:1]))  # type: ignore[arg-type]
    for start in range(0, len(rows), size):
        yield rows[start : start + size]


@given(_sides, _sides, st.integers(1, 7), st.integers(1, 7))
def test_merging_pairs_rows_of_equal_keys_whatever_the_batches(
    one: dict[object, int], other: dict[object, int], one_size: int, other_size: int
) -> None:
    pairs = list(merge(_batches(one, one_size), _batches(other, other_size), 1, True))
    found = {(before or after)[0]: (before, after) for before, after in pairs}  # type: ignore[index]
    assert len(found) == len(pairs)
    for key in one.keys() | other.keys():
        expected = tuple((key, side[key]) if key in side else None for side in (one, other))
        if expected[0] != expected[1]:
            assert found[key] == expected
        else:
            assert found.get(key, expected) == expected


def test_long_equal_stretches_are_stepped_over_and_every_difference_found() -> None:
    before = dict.fromkeys(range(20000), 0)
    after = {**before, 7: 1, 9_999: 1, 20_001: 1}
    del after[15_000]
    pairs = list(merge(_batches(before, 512), _batches(after, 300), 1, True))  # type: ignore[arg-type]
    differing = [(one, other) for one, other in pairs if one != other]
    assert differing == [
        ((7, 0), (7, 1)),
        ((9_999, 0), (9_999, 1)),
        ((15_000, 0), None),
        (None, (20_001, 1)),
    ]


def test_rows_of_equal_keys_are_paired_one_to_one() -> None:
    pairs = list(merge(iter([[("a",), ("a",), ("b",)]]), iter([[("a",)]]), 1, True))
    assert pairs == [(("a",), None), (("b",), None)]
