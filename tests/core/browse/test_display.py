"""Stored values as safe and honest text."""

from __future__ import annotations

import unicodedata

import pytest
from hypothesis import given
from hypothesis import strategies as st

import hostile
from jondel.core.browse.display import blob_kind, full_lines, grouped, line, pieces, safe_name
from jondel.core.model.sizes import size_text
from jondel.core.model.values import Clipped, InvalidText, Value

_values = st.one_of(
    st.none(),
    st.integers(-(2**63), 2**63 - 1),
    st.floats(),
    st.text(),
    st.binary(max_size=60),
    st.builds(InvalidText, st.binary(max_size=20)),
    st.builds(Clipped, st.sampled_from(["text", "blob"]), st.integers(0, 10**10), st.binary()),
)


def _is_harmless(text: str) -> bool:
    """No control character, no line break, nothing invisible, nothing that turns the text."""
    return all(unicodedata.category(c) not in ("Cc", "Cf", "Cs", "Zl", "Zp") for c in text)


@given(_values)
def test_nothing_a_terminal_acts_on_is_ever_shown(value: Value) -> None:
    assert _is_harmless(line(value))
    for shown in full_lines(value):
        assert _is_harmless("".join(piece.text for piece in shown))


@given(st.text(max_size=50))
def test_names_are_shown_safely_and_never_as_nothing(name: str) -> None:
    assert _is_harmless(safe_name(name))
    assert safe_name(name) or set(name) <= {"\ufe0e", "\ufe0f"}


@pytest.mark.parametrize(
    ("value", "shown", "role"),
    [
        pytest.param(None, "∅", "null", id="null"),
        pytest.param("∅", "∅", "text", id="text-that-looks-like-null"),
        pytest.param("", '""', "empty", id="empty-text"),
        pytest.param('""', '""', "text", id="text-that-looks-empty"),
        pytest.param(1, "1", "number", id="whole"),
        pytest.param(1.0, "1.0", "number", id="real-whole"),
        pytest.param("1", "1", "text", id="text-of-a-number"),
        pytest.param(float("inf"), "∞", "number", id="infinite"),
        pytest.param(float("-inf"), "-∞", "number", id="minus-infinite"),
        pytest.param(b"", "‹blob 0 B›", "blob", id="zero-length-blob"),
        pytest.param(b"\x89PNG\r\n\x1a\n", "‹png 8 B›", "blob", id="blob-of-a-known-kind"),
        pytest.param(
            Clipped("blob", 20_000_000, b"\xff\xd8\xff"), "‹jpeg 20 MB›", "blob", id="clipped-blob"
        ),
    ],
)
def test_values_that_look_alike_differ_in_text_or_role(value: Value, shown: str, role: str) -> None:
    (piece,) = pieces(value)
    assert (piece.text, piece.role) == (shown, role)


@pytest.mark.parametrize(
    ("text", "shown"),
    [
        pytest.param("  a b ", "··a b·", id="blanks-at-both-ends"),
        pytest.param("   ", "···", id="only-blanks"),
        pytest.param("one\ntwo\tthree\r", "one⏎two⇥three^M", id="breaks"),
        pytest.param("a\x00b\x1b[0m\x7f", "a^@b^[[0m^?", id="controls"),
        pytest.param("a\x9bb", "a�b", id="c1-control"),
        pytest.param("a\u202eb\u200bc", "a⁞b⁞c", id="invisible"),
        pytest.param("\u0301a\u0301", "◌\u0301a\u0301", id="accent-without-a-base"),
        pytest.param("⚓\ufe0f", "⚓", id="emoji-selector-dropped"),
        pytest.param("a\u00a0b", "a·b", id="no-break-space"),
        pytest.param("[/x][b]", "[/x][b]", id="markup-is-text"),
    ],
)
def test_what_cannot_be_seen_in_text_is_made_visible(text: str, shown: str) -> None:
    assert line(text) == shown
    marked = [piece for piece in pieces(text) if piece.role == "mark"]
    assert bool(marked) == (shown not in (text, "⚓"))


def test_long_text_is_cut_with_a_sign() -> None:
    shown = line("x" * 1000, limit=10)
    assert shown == "x" * 10 + "…"


def test_trailing_blanks_beyond_the_cut_are_not_claimed() -> None:
    assert line("ab   and more", limit=5) == "ab   …"


def test_a_clipped_text_says_how_large_it_is() -> None:
    assert line(Clipped("text", 5_000_000, b"begin")) == "begin… 5 MB"


def test_a_clipped_text_cut_within_a_character_shows_the_whole_ones() -> None:
    assert line(Clipped("text", 5000, "né".encode()[:-1])) == "n… 5 kB"


def test_json_is_laid_out_and_its_indentation_not_taken_for_blanks() -> None:
    shown = ["".join(p.text for p in one) for one in full_lines('{"a": [1, " x"]}')]
    assert shown == ["{", '  "a": [', "    1,", '    " x"', "  ]", "}"]


def test_text_over_several_lines_keeps_its_lines_and_shows_its_breaks() -> None:
    shown = ["".join(p.text for p in one) for one in full_lines("one\ntwo\n")]
    assert shown == ["one⏎", "two⏎", ""]


def test_what_only_looks_like_json_is_shown_as_it_is() -> None:
    assert line("{") == "{"
    assert ["".join(p.text for p in one) for one in full_lines("{not: json}")] == ["{not: json}"]


def test_the_hostile_samples_stay_on_one_line() -> None:
    for sample in (hostile.ESCAPES, hostile.MARKUP, hostile.NUL, hostile.WIDE, hostile.LONG):
        assert _is_harmless(line(sample))


@pytest.mark.parametrize(
    ("size", "shown"),
    [(0, "0 B"), (999, "999 B"), (1000, "1 kB"), (12_400, "12.4 kB"), (999_900, "1 MB"),
     (5_000_000_000, "5 GB")],
)  # fmt: skip
def test_sizes_have_a_fitting_unit(size: int, shown: str) -> None:
    assert size_text(size) == shown


def test_counts_have_their_thousands_apart() -> None:
    assert grouped(200_000) == "200 000"


def test_unknown_blobs_are_just_blobs() -> None:
    assert blob_kind(b"\x00\x01") == "blob"
