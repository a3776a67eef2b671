"""Drives the interface without a terminal: open it, wait for something, read the screen."""

from __future__ import annotations

import time
from collections.abc import AsyncIterator, Callable, Sequence
from contextlib import asynccontextmanager
from pathlib import Path

from textual.pilot import Pilot

from jondel.core.verify.actions import Action
from jondel.tui.app import JondelApp
from jondel.tui.views.workbench import Workbench
from jondel.tui.widgets.change_list import ChangeList
from jondel.tui.widgets.sheet import Sheet

WIDE, SMALL = (160, 47), (80, 24)
_LONGEST_WAIT = 20.0


class Driver:
    """The interface on one database."""

    def __init__(self, app: JondelApp, pilot: Pilot[None]) -> None:
        self.app = app
        self.pilot = pilot

    @property
    def bench(self) -> Workbench:
        """The one screen, whatever panel may be open over it."""
        return next(screen for screen in self.app.screen_stack if isinstance(screen, Workbench))

    @property
    def sheet(self) -> Sheet:
        return self.bench.query_one(Sheet)

    @property
    def changes(self) -> ChangeList:
        return self.bench.query_one(ChangeList)

    @property
    def lines(self) -> list[str]:
        """What the screen shows, line by line."""
        strips = self.app.screen._compositor.render_strips()
        return ["".join(segment.text for segment in strip) for strip in strips]

    @property
    def text(self) -> str:
        return "\n".join(self.lines)

    async def press(self, *keys: str) -> None:
        await self.pilot.press(*keys)

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


@asynccontextmanager
async def driven(
    path: Path, size: tuple[int, int] = WIDE, actions: Sequence[Action] = ()
) -> AsyncIterator[Driver]:
    """Open the interface on a database and wait until its tables are shown."""
    app = JondelApp(str(path), actions)
    async with app.run_test(size=size) as pilot:
        driver = Driver(app, pilot)
        await driver.until(lambda: driver.sheet.table is not None or bool(driver.sheet.problem))
        yield driver
