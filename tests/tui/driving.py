"""Drives the interface without a terminal: open it, press keys, wait, read the screen.

The one door to the interface for its tests: what a test wants to know is asked of the driver, and
never of a private field.
"""

from __future__ import annotations

import time
from collections.abc import AsyncIterator, Callable, Sequence
from contextlib import asynccontextmanager
from pathlib import Path

from textual.pilot import Pilot
from textual.screen import Screen
from textual.widget import Widget

from jondel.core.browse.sheet_states import SheetState
from jondel.core.model.schema import Table
from jondel.core.trail.trail import Step
from jondel.core.verify.actions import Action
from jondel.tui.app import JondelApp
from jondel.tui.frame.desk import Desk
from jondel.tui.frame.screen import MainScreen
from jondel.tui.frame.view_set import ViewEntry
from jondel.tui.services.workspace import Workspace
from jondel.tui.views.changes.access import opened_changes
from jondel.tui.views.changes.change_list import ChangeList
from jondel.tui.views.records.access import records_view
from jondel.tui.views.records.pane import SheetPane
from jondel.tui.views.table import VIEWS
from jondel.tui.widgets.card.card import Card
from jondel.tui.widgets.cell_editor import CellEditor
from jondel.tui.widgets.sheet.sheet import Sheet

WIDE, SMALL = (160, 47), (80, 24)
_LONGEST_WAIT = 20.0


class Driver:
    """The interface on one database."""

    def __init__(self, app: JondelApp, pilot: Pilot[None]) -> None:
        self.app = app
        self.pilot = pilot

    # What there is

    @property
    def screen(self) -> MainScreen:
        """The screen of the database in front, whatever may be open over it."""
        return next(screen for screen in self.app.screen_stack if isinstance(screen, MainScreen))

    @property
    def _stack(self) -> Sequence[Screen[object]]:
        """Empty once the interface has ended."""
        return self.app.screen_stack

    @property
    def desk(self) -> Desk:
        return self.screen.desk

    @property
    def workspace(self) -> Workspace:
        return self.app.workspace

    @property
    def dialog_is_open(self) -> bool:
        return self.app.screen is not self.screen

    @property
    def pane(self) -> SheetPane:
        return records_view(self.desk).pane

    @property
    def sheet(self) -> Sheet:
        return self.pane.sheet

    @property
    def table(self) -> Table | None:
        """The table whose rows the sheet shows."""
        return self.pane.table if self.pane.source is not None else None

    @property
    def sheet_state(self) -> SheetState:
        return self.pane.state

    @property
    def editor(self) -> CellEditor | None:
        return self.pane.field.editor

    @property
    def card(self) -> Card:
        return self.desk.card

    @property
    def changes(self) -> ChangeList:
        view = opened_changes(self.desk)
        assert view is not None, "Changes has been opened"
        return view.list

    @property
    def tables(self) -> list[str]:
        """The names of the tables in the list."""
        return [table.name for table in self.desk.state.tables]

    @property
    def steps(self) -> list[Step]:
        return self.workspace.trail.steps

    # What the screen shows

    @property
    def lines(self) -> list[str]:
        """What the screen shows, line by line."""
        strips = self.app.screen._compositor.render_strips()
        return ["".join(segment.text for segment in strip) for strip in strips]

    @property
    def text(self) -> str:
        return "\n".join(self.lines)

    # What one does

    async def press(self, *keys: str) -> None:
        """Press keys, and wait until they have had their effect or are held back."""
        await self.pilot.press(*keys)
        while any(isinstance(s, MainScreen) and s.desk.typed.is_busy for s in self._stack):
            await self.pilot.pause(0.005)

    async def until(self, holds: Callable[[], bool]) -> None:
        """Wait until something holds; fails with what the screen shows then."""
        started = time.monotonic()
        while not holds():
            if time.monotonic() - started > _LONGEST_WAIT:
                raise AssertionError(f"never came true; the screen shows:\n{self.text}")
            await self.pilot.pause(0.05)

    async def sees(self, *words: str) -> None:
        """Wait until the screen shows all the words."""

        def shown() -> bool:
            text = self.text
            return all(word in text for word in words)

        await self.until(shown)

    async def comes_to_rest(self) -> None:
        """Wait until what is seen is what can be clicked on: lines may still be moving."""
        before: list[str] = []
        while before != self.lines:
            before = self.lines
            await self.pilot.pause(0.1)

    async def click(
        self,
        widget: type[Widget] | str,
        at: tuple[int, int],
        *,
        button: int = 1,
        times: int = 1,
    ) -> None:
        """Click at a place in a widget."""
        await self.comes_to_rest()
        await self.pilot.click(widget, offset=at, button=button, times=times)

    async def click_on(self, words: str) -> None:
        """Click on words that are seen."""
        await self.comes_to_rest()
        y = next(y for y, line in enumerate(self.lines) if words in line)
        await self.pilot.click(offset=(self.lines[y].index(words), y))

    async def open_table(self, table: str, column: str = "", row: int = 0) -> None:
        """Go to a table by the list, and to one of its columns."""
        await self.until(lambda: table in self.tables)
        downs = self.tables.index(table)
        await self.press("t", "home", *["down"] * downs, "enter")
        await self.until(lambda: self.table is not None and self.table.name == table)
        await self.until(lambda: self.desk.navigator.journey is None)
        if column:
            self.sheet.go_to(row, column)
            await self.pilot.pause()


@asynccontextmanager
async def driven(
    path: Path,
    size: tuple[int, int] = WIDE,
    actions: Sequence[Action] = (),
    *,
    read_only: bool = False,
    views: Sequence[ViewEntry] = VIEWS,
) -> AsyncIterator[Driver]:
    """Open the interface on a database and wait until its tables are shown."""
    app = JondelApp(str(path), actions, read_only=read_only, views=views)
    async with app.run_test(size=size) as pilot:
        driver = Driver(app, pilot)
        await driver.until(lambda: driver.table is not None or bool(driver.sheet.problem))
        yield driver


@asynccontextmanager
async def opened_without(size: tuple[int, int] = WIDE) -> AsyncIterator[Driver]:
    """Open the interface on no database: one is chosen in it."""
    app = JondelApp(None)
    async with app.run_test(size=size) as pilot:
        yield Driver(app, pilot)
