"""How wide columns are: as much as fits is shown before anything is cut."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from jondel.core.model.values import ShownRow
from jondel.tui.widgets.sheet.columns import GAP, GUTTER, SheetColumns
from jondel.tui.widgets.sheet.source import SourceColumn


def _column(name: str, remark: str = "text") -> SourceColumn:
    return SourceColumn(name, name, remark, in_key=False, numeric=False)


def _fitted(rows: list[ShownRow], room: int, *columns: SourceColumn) -> SheetColumns:
    fitted = SheetColumns(columns, rows)
    fitted.fit(room, rows)
    return fitted


def test_types_and_long_values_are_whole_where_there_is_room() -> None:
    columns = _column("name", "text not null"), _column("value", "text not null")
    rows: list[ShownRow] = [("prices", "x" * 90)]
    assert _fitted(rows, 160, *columns).widths == [13, 90]
    assert _fitted(rows, 70, *columns).widths == [13, 70 - GUTTER - GAP - 13]
    assert _fitted(rows, 30, *columns).widths == [8, 36]  # it scrolls, and nothing is spared


def test_what_needs_least_is_shown_first() -> None:
    columns = [_column(name) for name in "abc"]
    rows: list[ShownRow] = [("x" * 500, "y" * 60, "z" * 40)]
    widths = _fitted(rows, 170, *columns).widths
    assert widths[1:] == [60, 40]
    assert widths[0] == 170 - GUTTER - 2 * GAP - 100


@given(
    st.lists(st.lists(st.text("ab", max_size=120), min_size=3, max_size=3), max_size=6),
    st.integers(10, 300),
)
def test_no_more_room_is_taken_than_there_is_or_is_needed(
    texts: list[list[str]], room: int
) -> None:
    rows: list[ShownRow] = [tuple(row) for row in texts]
    columns = [_column(name, "integer not null") for name in ("id", "name", "note")]
    narrow, fitted = SheetColumns(columns, rows), _fitted(rows, room, *columns)
    assert fitted.total_width <= max(room, narrow.total_width)
    assert all(one >= other for one, other in zip(fitted.widths, narrow.widths, strict=True))
    if fitted.total_width < room:
        for place, width in enumerate(fitted.widths):
            longest = max((len(row[place]) or 2 for row in texts), default=0)
            assert width == max(len("integer not null"), longest)
