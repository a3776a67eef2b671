"""Text in a field: nothing of it acts on a terminal, and all of it comes back."""

from __future__ import annotations

import unicodedata

import pytest
from hypothesis import given
from hypothesis import strategies as st
from rich.cells import cell_len

from jondel.core.browse.display import line
from jondel.core.browse.field_text import FieldText

_BAD = ("Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp")
any_text = st.text(
    st.one_of(
        st.characters(exclude_categories=["Cs"]),
        st.sampled_from("ab \x00\x1b\x7f\x9b\t\r\n\u200b\u202e\u2066\u0301\u20e3\ufe0f\U0003f01b"),
    ),
    max_size=60,
)


@given(any_text, any_text, st.integers(0, 60), st.booleans())
def test_what_is_put_in_comes_back_wherever_it_is_put(
    text: str, more: str, place: int, has_lines: bool
) -> None:
    field = FieldText(has_lines=has_lines)
    held = field.put_in(text)
    assert len(held) == len(text)  # one moves from character to character
    added = field.put_in(more)
    assert field.take_out(held[:place] + added + held[place:]) == text[:place] + more + text[place:]


@given(any_text, st.booleans())
def test_nothing_that_is_drawn_acts_on_a_terminal_or_cannot_be_seen(
    text: str, has_lines: bool
) -> None:
    field = FieldText(has_lines=has_lines)
    held = field.put_in(text)
    for one in held.split("\n") if has_lines else [held]:
        drawn = field.drawn(one)
        assert not any(unicodedata.category(c) in _BAD for c in drawn)
        assert not any(c in "\ufe0e\ufe0f\u3164" for c in drawn)
        assert cell_len(drawn) == cell_len(one)
        assert not drawn or unicodedata.category(drawn[0]) not in ("Mn", "Me")


@pytest.mark.parametrize(
    "text", ["\x1b]52;c;aGk=\x07x", "a\u202eb\u2066c", "x\u200by", "\x9b31mred", "\u0301a", "a\rb"]
)
def test_a_field_shows_a_text_as_a_sheet_does(text: str) -> None:
    field = FieldText()
    assert field.drawn(field.put_in(text)) == line(text)


def test_lines_of_a_box_are_not_split_where_the_text_has_no_line_feed() -> None:
    field = FieldText(has_lines=True)
    held = field.put_in("a\x0bb\x0cc\x1cd\x85e\u2028f\rg\nh")
    assert held.splitlines() == held.split("\n")
    assert len(held.splitlines()) == 2
