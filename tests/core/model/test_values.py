"""Equality by stored value and storage class; clipping."""

from __future__ import annotations

import itertools

import pytest

from jondel.core.model.values import (
    Clipped,
    InvalidText,
    Value,
    clipped,
    identical,
    kind_of,
)

_DIFFERENT: list[Value] = [
    None, 0, 0.0, "0", b"0", "", b"", 1, 1.0, "1", InvalidText(b"1"), InvalidText(b""),
    float("inf"), "Infinity", -1,
]  # fmt: skip


def test_values_of_different_kind_ofes_are_never_identical() -> None:
    for one, other in itertools.combinations(_DIFFERENT, 2):
        assert not identical(one, other), (one, other)


def test_each_value_is_identical_to_itself() -> None:
    for value in _DIFFERENT:
        assert identical(value, value)


@pytest.mark.parametrize(
    ("value", "name"),
    [(None, "null"), (1, "integer"), (1.5, "real"), ("a", "text"), (b"a", "blob"),
     (InvalidText(b"\xff"), "text"), (Clipped("blob", 9, b""), "blob")],
)  # fmt: skip
def test_kind_ofes(value: Value, name: str) -> None:
    assert kind_of(value) == name


@pytest.mark.parametrize(
    ("value", "expected"),
    [
        pytest.param("abc", "abc", id="short-text-stays"),
        pytest.param("é" * 6, Clipped("text", 12, "é".encode() * 5), id="measured-in-bytes"),
        pytest.param("é" * 5, "é" * 5, id="exactly-fitting-text-stays"),
        pytest.param(b"x" * 11, Clipped("blob", 11, b"x" * 10), id="blob"),
        pytest.param(InvalidText(b"\xff" * 11), Clipped("text", 11, b"\xff" * 10), id="invalid"),
        pytest.param(2**60, 2**60, id="numbers-stay"),
        pytest.param(None, None, id="null-stays"),
    ],
)
def test_clipping_keeps_the_beginning_and_the_size(value: Value, expected: Value) -> None:
    assert clipped(value, 10) == expected
