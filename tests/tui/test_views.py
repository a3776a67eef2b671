"""A view that does not exist yet: a class, and an entry in the table."""

from __future__ import annotations

import sys
from dataclasses import dataclass
from types import ModuleType

import pytest
from driving import driven
from textual.app import ComposeResult
from textual.widgets import Static

from conftest import MakeDatabase
from jondel.core.browse.display import safe_name
from jondel.tui.frame.moment_state import MomentState
from jondel.tui.frame.place import Place
from jondel.tui.frame.view import Arrival, View
from jondel.tui.frame.view_set import ViewEntry
from jondel.tui.views.table import VIEWS


class Weather(View):
    """Says which table it is of."""

    NAME = "weather"

    def compose(self) -> ComposeResult:
        yield Static("", id="forecast", markup=False)

    async def prepare(self, place: Place, state: MomentState) -> Arrival:
        table = state.table(place.table)
        words = f"fair over {safe_name(table.name)}" if table is not None else "no wind"
        return Arrival(place, lambda: self.query_one(Static).update(words))


@dataclass
class _Loads:
    count: int = 0


@pytest.fixture
def weather(monkeypatch: pytest.MonkeyPatch) -> tuple[ViewEntry, _Loads]:
    """An entry for the view, in a module that notes when it is loaded."""
    loads = _Loads()

    class _Module(ModuleType):
        @property
        def Weather(self) -> type[Weather]:
            loads.count += 1
            return Weather

    monkeypatch.setitem(sys.modules, "weather_view", _Module("weather_view"))
    entry = ViewEntry("weather", "J", "Weather", "Weather: how it is", "weather_view:Weather")
    return entry, loads


async def test_a_new_view_needs_one_entry_and_is_loaded_when_it_is_gone_to(
    make: MakeDatabase, weather: tuple[ViewEntry, _Loads]
) -> None:
    entry, loads = weather
    path = make("CREATE TABLE berths(id INTEGER PRIMARY KEY)", "CREATE TABLE boats(id)")
    async with driven(path, views=(*VIEWS, entry)) as driver:
        await driver.sees("J weather")
        assert loads.count == 0
        await driver.press("J")
        await driver.sees("fair over berths")
        assert loads.count == 1
        await driver.press("f")
        await driver.sees("f (filter) is a key of Records: r goes there")
        await driver.press("question_mark")
        await driver.sees("What the keys do here")
        while "Weather: how it is" not in driver.text:
            await driver.press("down")
        await driver.press("escape", "c")
        await driver.sees("There are no snapshots yet")
        await driver.press("backspace")
        await driver.sees("fair over berths")
        await driver.press("backspace")
        await driver.sees("berths  0 rows")
        assert loads.count == 1
