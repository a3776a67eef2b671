"""Differences inside values as lines: what differs is marked, and nothing looks the same."""

from __future__ import annotations

import pytest

from jondel.core.diff.inside import with_inside
from jondel.core.engines.sqlite.column_types import column_type
from jondel.core.formats.changes_text import cell_lines, cell_parts
from jondel.core.formats.inside_text import closed_up, path_text, plain
from jondel.core.model.changes import CellChange
from jondel.core.model.schema import Column
from jondel.core.model.values import Value

_LONG = "The boat lies at the north pontoon. " * 9


@pytest.mark.parametrize(
    ("before", "after", "lines"),
    [
        ("held", "paid", ["held → paid"]),
        (1, "1", ["1 → 1  integer → text"]),
        (1, 1.0, ["1 → 1.0"]),
        (None, "", ['∅ → ""']),
        (_LONG + "five", _LONG + "six",
         ["from character 325: …s at the north pontoon. ‹five → six›"]),
        ("a far pontoon indeed", "a pontoon indeed", ["a ‹- far ›pontoon indeed"]),
        ("a pontoon indeed", "a far pontoon indeed", ["a ‹+ far ›pontoon indeed"]),
        ("one\ntwo\nthree lines", "one\ntwo\nfour lines",
         ["line 3: one⏎two⏎‹three → four› lines"]),
        ("cafe\u0301", "caf\u00e9", ["caf‹e\u0301 → é (U+0065 U+0301 → U+00E9)›"]),
        ("pay", "p\u0430y", ["p‹a → \u0430 (U+0061 → U+0430)›y"]),
        ("a\u200bb", "a\u200cb", ["a‹⁞ → ⁞ (U+200B → U+200C)›b"]),
        ('{"pk": 6, "path": "0001"}', '{"pk": 6, "path": "0002"}', ['~ path  "0001" → "0002"']),
        ('[1, {"a b": [2]}]', '[{"a b": []}]', ["- [0]  1", "- [0][\'a b\'][0]  2"]),
        ('{"a":1}         ', '{"a": 1}',
         ["the same JSON, written differently", '{"a":‹1}          →  1}›']),
        (b"\x00" * 100 + b"a", b"\x00" * 100 + b"bc",
         ["from byte 100: 61 → 62 63  blob 101 B → blob 102 B"]),
    ],
)  # fmt: skip
def test_a_cell_says_what_differs(before: Value, after: Value, lines: list[str]) -> None:
    assert list(cell_lines(with_inside(CellChange("c", before, after), None))) == lines


def test_a_time_says_how_it_reads() -> None:
    column = Column("paid_at", column_type("INTEGER"))
    cell = with_inside(CellChange("paid_at", 1780000000, 1780090000), column)
    assert list(cell_lines(cell)) == [
        "1780000000 → 1780090000  2026-05-28 20:26:40 UTC → 2026-05-29 21:26:40 UTC  +1 day 1 hour"
    ]


def test_times_that_read_alike_say_how_far_they_are_apart() -> None:
    column = Column("last_login", column_type("TEXT"))
    cell = CellChange("last_login", "2026-05-01 10:00:00", "2026-05-01 10:00:04.5")
    assert list(cell_lines(with_inside(cell, column))) == [
        "2026-05-01 10:00:00 → 2026-05-01 10:00:04.5  +4 seconds"
    ]


def test_many_members_are_listed_up_to_a_point() -> None:
    before, after = (str([{"id": n, "n": n + more} for n in range(40)]) for more in (0, 1))
    cell = CellChange("c", before.replace("'", '"'), after.replace("'", '"'))
    lines = list(cell_lines(with_inside(cell, None)))
    assert len(lines) == 13
    assert lines[-1] == "… 28 more parts of it differ"


@pytest.mark.parametrize("room", [20, 40, 60, 200])
def test_what_differs_is_kept_where_room_is_scarce(room: int) -> None:
    cell = CellChange("c", _LONG + "north " + _LONG, _LONG + "south " + _LONG)
    (parts,) = cell_parts(with_inside(cell, None))
    shown = plain(closed_up(parts, room))
    assert "‹north → south›" in shown
    assert len(shown) <= max(room, 60)
    assert "……" not in shown


def test_paths_are_one_word() -> None:
    assert path_text(("lines", 2, "price")) == "lines[2].price"
    assert path_text(("a b", "c")) == "['a b'].c"
    assert path_text(()) == "all of it"
    assert "\x1b" not in path_text(("\x1b[31m",))
