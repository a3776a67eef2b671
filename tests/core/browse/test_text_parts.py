"""A long text in parts is the same text."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jondel.core.browse.text_parts import MOST_CHARACTERS, MOST_LINES, split_text

_PIECES = st.lists(
    st.tuples(st.sampled_from(["a", "\n", "\r\n", "\r", "ö\u0308", "word ", "\U0001f6a2"]),
              st.integers(1, 3000)),
    max_size=8,
)  # fmt: skip


@given(_PIECES)
def test_parts_make_up_the_text_and_are_small(pieces: list[tuple[str, int]]) -> None:
    text = "".join(piece * times for piece, times in pieces)
    parts = split_text(text)
    assert "".join(parts) == text
    for number, part in enumerate(parts):
        assert len(part) <= MOST_CHARACTERS + 1
        assert part.count("\n") <= MOST_LINES + 1
        assert part or len(parts) == 1
        if number:
            assert not (parts[number - 1].endswith("\r") and part.startswith("\n"))


@pytest.mark.parametrize("text", ["", "x", "a\nb", "x" * MOST_CHARACTERS])
def test_a_short_text_is_one_part(text: str) -> None:
    assert split_text(text) == [text]
