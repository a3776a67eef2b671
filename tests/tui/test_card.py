"""The card's lines: wrapped at the right places, and nothing lost."""

from __future__ import annotations

import pytest
from driving import SMALL, driven
from hypothesis import given
from hypothesis import strategies as st
from rich.cells import cell_len

import hostile
from conftest import MakeDatabase
from jondel.core.browse.display import full_lines
from jondel.tui.widgets.card.card import wrapped_runs

_texts = st.text(
    st.one_of(st.sampled_from("ab 名前⚓é👩\u0301\u200d\u3000"), st.characters()), max_size=60
)


@given(
    st.lists(st.tuples(_texts, st.sampled_from(["text", "mark"])), max_size=5), st.integers(2, 9)
)
def test_wrapping_keeps_every_character_and_fits_the_width(
    runs: list[tuple[str, str]], width: int
) -> None:
    # Only what the card is ever given: text made safe to show.
    safe = [
        ("".join(piece.text for line in full_lines(text) for piece in line), name)
        for text, name in runs
    ]
    lines = list(wrapped_runs(safe, width))
    assert "".join(text for line in lines for text, _ in line) == "".join(t for t, _ in safe)
    for line in lines:
        assert sum(cell_len(text) for text, _ in line) <= width


@pytest.mark.parametrize("value", [hostile.WIDE, "名" * 500, "👩" * 3])
async def test_wide_text_in_a_card_that_is_folded_away_does_no_harm(
    make: MakeDatabase, value: str
) -> None:
    path = make("CREATE TABLE t(id INTEGER PRIMARY KEY, v)", f"INSERT INTO t VALUES (1, '{value}')")
    async with driven(path, SMALL) as driver:
        await driver.sees("row 1 of 1")
        await driver.press("enter")
        await driver.until(lambda: value[0] in driver.card.text)
        await driver.press("escape")
