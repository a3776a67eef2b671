"""The sheet as a widget of its own: it draws any row source, and says what is wanted."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Sequence
from contextlib import asynccontextmanager

from textual.app import App, ComposeResult
from textual.message import Message
from textual.pilot import Pilot

from jondel.core.browse.layout import ColumnLayout
from jondel.core.draft.draft_marks import DraftMarks
from jondel.core.engines.protocol import Extent
from jondel.core.errors import ReadError
from jondel.core.model.rows import Position
from jondel.core.model.values import ShownRow
from jondel.tui.theme import DUSK
from jondel.tui.widgets.sheet.sheet import Sheet
from jondel.tui.widgets.sheet.source import ListedRows, RowSource, SourceColumn

_COLUMNS = (
    SourceColumn("id", "◆ id", "integer", numeric=True, in_key=True),
    SourceColumn("name", "name", "text"),
    SourceColumn("note", "note", "text"),
)
_BLOCK = 128


class _Sea:
    """Rows without end, each read only when it is asked for."""

    columns: Sequence[SourceColumn] = _COLUMNS

    def __init__(self, rows: int, *, broken_from: int | None = None) -> None:
        self.extent = Extent(rows)
        self.fetched: list[int] = []
        self._broken_from = broken_from

    def row(self, ordinal: int) -> tuple[Position, ShownRow] | None:
        if ordinal // _BLOCK not in self.fetched or ordinal >= self.extent.rows:
            return None
        return (ordinal,), (ordinal, f"wave {ordinal}", None)

    def missing(self, first: int, last: int) -> list[int]:
        last = min(last, self.extent.rows - 1)
        blocks = range(max(0, first) // _BLOCK, last // _BLOCK + 1)
        return [block for block in blocks if block not in self.fetched]

    async def fetch(self, block: int) -> bool:
        await asyncio.sleep(0.01)
        if self._broken_from is not None and block >= self._broken_from:
            raise ReadError("the sea is rough")
        self.fetched.append(block)
        return True


class _App(App[None]):
    """A sheet alone."""

    def __init__(self) -> None:
        super().__init__()
        self.register_theme(DUSK)
        self.theme = DUSK.name
        self.sheet = Sheet()
        self.heard: list[str] = []

    def compose(self) -> ComposeResult:
        yield self.sheet

    def _hear(self, message: Message) -> None:
        self.heard.append(type(message).__name__)

    on_sheet_heading_clicked = on_sheet_edit_wanted = on_sheet_rows_chosen = _hear
    on_sheet_reading_failed = _hear

    def get_theme_variable_defaults(self) -> dict[str, str]:
        return DUSK.variables

    @property
    def lines(self) -> list[str]:
        strips = self.screen._compositor.render_strips()
        return ["".join(segment.text for segment in strip).rstrip() for strip in strips]


@asynccontextmanager
async def _showing(source: RowSource) -> AsyncIterator[tuple[_App, Pilot[None]]]:
    app = _App()
    async with app.run_test(size=(60, 14)) as pilot:
        app.sheet.show(source)
        app.sheet.focus()
        await pilot.pause()
        yield app, pilot


async def test_rows_that_are_all_at_hand_are_drawn_such_as_two_out_of_a_diff() -> None:
    before_and_after = ListedRows(_COLUMNS, [(7, "Gull", None), (7, "Great Auk", "")])
    async with _showing(before_and_after) as (app, pilot):
        assert app.lines[0].split() == ["◆", "id", "name", "note"]
        assert app.lines[2].split() == ["7", "Gull", "∅"]
        assert app.lines[3].split() == ["7", "Great", "Auk", '""']
        await pilot.press("down", "right")
        assert (app.sheet.current_position, app.sheet.column_name) == ((1,), "name")
        assert app.sheet.current_value == "Great Auk"


async def test_only_what_comes_into_view_is_read() -> None:
    sea = _Sea(1_000_000)
    async with _showing(sea) as (app, pilot):
        await pilot.pause(0.1)
        assert "wave 3" in app.lines[5]
        await pilot.press("end")
        await pilot.pause(0.2)
        assert "wave 999999" in "\n".join(app.lines)
        assert len(sea.fetched) < 8


async def test_the_record_is_reported_once_it_has_been_read() -> None:
    async with _showing(_Sea(1000)) as (app, pilot):
        await pilot.pause(0.1)
        seen: list[Position] = []
        app.sheet.on_record = lambda: seen.append(app.sheet.current_position)
        await pilot.press("end")
        await pilot.pause(0.1)
        assert seen[-1] == (999,)
        assert () not in seen


async def test_rows_that_cannot_be_read_are_a_problem_that_is_shown() -> None:
    async with _showing(_Sea(1000, broken_from=4)) as (app, pilot):
        await pilot.pause(0.1)
        await pilot.press("end")
        await pilot.pause(0.1)
        assert "the sea is rough" in "\n".join(app.lines)
        assert app.sheet.source is None
        assert app.heard == ["ReadingFailed"]
        await pilot.press("down", "pageup", "home", "space", "ctrl+end")


async def test_the_mouse_says_what_is_wanted() -> None:
    async with _showing(_Sea(50)) as (app, pilot):
        await pilot.pause(0.1)
        await pilot.click(Sheet, offset=(14, 0))
        await pilot.click(Sheet, offset=(14, 4), times=2)
        await pilot.pause()
        assert app.heard == ["HeadingClicked", "EditWanted"]
        assert app.sheet.current_position == (2,)


async def test_rows_are_chosen_and_stay_so_when_they_are_read_anew() -> None:
    async with _showing(_Sea(50)) as (app, pilot):
        await pilot.pause(0.1)
        await pilot.press("space", "down", "space")
        await pilot.pause()
        assert app.sheet.chosen == {(0,), (2,)}
        app.sheet.show_again(_Sea(60))
        await pilot.pause(0.1)
        assert app.sheet.chosen == {(0,), (2,)}
        assert app.sheet.cursor_row == 3
        app.sheet.choose_none()
        assert app.sheet.chosen == set()
        assert app.heard == ["RowsChosen", "RowsChosen", "RowsChosen"][: len(app.heard)]


async def test_what_is_drafted_stands_in_the_rows_and_new_records_at_the_end() -> None:
    async with _showing(ListedRows(_COLUMNS, [(1, "Gull", None), (2, "Tern", None)])) as (app, p):
        marks = DraftMarks({(0,): {"name": "Auk"}}, frozenset({(1,)}), ((9, (None, "Skua", None)),))
        app.sheet.set_draft(marks)
        await p.pause()
        assert app.lines[2].split() == ["*", "1", "Auk", "∅"]
        assert app.lines[3].split() == ["*", "2", "Tern", "∅"]
        assert app.lines[4].split() == ["*", "∅", "Skua", "∅"]
        assert app.sheet.go_to_new(9)
        assert (app.sheet.current_new, app.sheet.current_row) == (9, None)


async def test_columns_are_laid_out_and_the_current_one_stays() -> None:
    async with _showing(ListedRows(_COLUMNS, [(1, "Gull", "x")])) as (app, pilot):
        await pilot.press("right")
        app.sheet.lay_out(ColumnLayout(order=("note", "name", "id"), hidden=frozenset({"id"})))
        await pilot.pause()
        assert app.sheet.shown_columns == ["note", "name"]
        assert app.sheet.column_name == "name"


async def test_the_current_row_stays_in_view_when_the_view_gets_smaller() -> None:
    async with _showing(_Sea(500)) as (app, pilot):
        await pilot.pause(0.1)
        await pilot.press(*["down"] * 11)
        await pilot.resize_terminal(60, 8)
        await pilot.pause(0.1)
        assert any("wave 11" in line for line in app.lines)
