"""Keys typed while something is on its way."""

from __future__ import annotations

import asyncio

import pytest
from textual import events
from textual.app import App, ComposeResult
from textual.containers import Vertical
from textual.widgets import Input, Static

from jondel.tui.frame import key_route
from jondel.tui.frame.typed_ahead import TypedAhead


class _Keys:
    """What is dispatched; ``held`` says whether keys are held back."""

    def __init__(self) -> None:
        self.held = False
        self.dispatched: list[str] = []
        self.released = 0
        self.typed = TypedAhead(
            lambda: self.held,
            lambda key, others_wait: key.key == "escape" or (key.key == "t" and not others_wait),
            self._dispatch,
            self._release,
        )

    async def _dispatch(self, key: events.Key) -> None:
        self.dispatched.append(key.key)
        if key.key == "g":  # goes somewhere
            self.held = True

    def _release(self) -> None:
        self.released += 1

    def type(self, *keys: str) -> list[bool]:
        return [self.typed.takes(events.Key(key, None)) for key in keys]


async def test_keys_wait_in_their_order_and_take_their_effect_later() -> None:
    keys = _Keys()
    assert keys.type("a") == [False]
    keys.held = True
    assert keys.type("b", "escape", "c") == [True, False, True]
    await keys.typed.drain()
    assert keys.dispatched == []
    keys.held = False
    assert keys.type("d") == [True], "behind those that wait already"
    await keys.typed.drain()
    assert keys.dispatched == ["b", "c", "d"]


async def test_a_key_that_goes_on_holds_the_others_back_again() -> None:
    keys = _Keys()
    keys.held = True
    keys.type("g", "x")
    keys.held = False
    await keys.typed.drain()
    assert keys.dispatched == ["g"]
    keys.held = False
    await keys.typed.drain()
    assert keys.dispatched == ["g", "x"]


async def test_a_key_that_was_overtaken_comes_before_those_typed_later() -> None:
    keys = _Keys()
    keys.held = True
    keys.type("b")
    assert keys.typed.takes_back(events.Key("a", None))
    keys.held = False
    await keys.typed.drain()
    assert keys.dispatched == ["a", "b"]


async def test_a_key_that_steers_passes_unless_others_wait_before_it() -> None:
    keys = _Keys()
    keys.held = True
    assert keys.type("t", "a", "t") == [False, True, True]


async def test_what_is_stopped_before_it_began_holds_nothing_back() -> None:
    class _Work:
        is_cancelled = False

    keys, work = _Keys(), _Work()
    keys.typed.hold().wait_for(work)
    assert keys.type("a") == [True]
    work.is_cancelled = True
    assert keys.type("b") == [True], "behind the one that waits"
    assert keys.released == 1
    await keys.typed.drain()
    assert keys.dispatched == ["a", "b"]


async def test_what_is_forgotten_takes_no_effect() -> None:
    keys, called = _Keys(), []
    keys.held = True
    keys.type("a")
    keys.typed.wait(lambda: called.append(1))
    keys.typed.forget()
    keys.held = False
    await keys.typed.drain()
    assert (keys.dispatched, called) == ([], [])


async def test_a_block_holds_keys_back_and_hands_them_to_what_it_opened() -> None:
    keys = _Keys()
    hold = keys.typed.hold()
    assert keys.type("t") == [True], "it may be for what opens"
    keys.typed.forget()
    assert keys.type("a") == [True]
    with keys.typed.handed_over(lambda: True):
        await keys.typed.drain()
        assert keys.dispatched == ["a"]
    assert keys.type("b") == [True]
    assert keys.released == 0
    hold.release()
    assert keys.released == 1
    await keys.typed.drain()
    assert keys.dispatched == ["a", "b"]


class _Field(Input):
    """Enter takes what it holds, by a message, and opens the next field."""


class _Busy(Static, can_focus=True):
    """Comes to no end with a key until it is let go."""

    def __init__(self, id: str) -> None:
        super().__init__(id=id)
        self.let_go = asyncio.Event()

    async def on_key(self) -> None:
        await self.let_go.wait()


class _TwoFields(App[None]):
    """As the interface does, it gives a key away once the one before has had its effect."""

    def __init__(self) -> None:
        super().__init__()
        self.typed = TypedAhead(
            lambda: False,
            lambda key, others_wait: False,
            self._take_effect,
            lambda: self.call_next(self.typed.drain),
        )

    def compose(self) -> ComposeResult:
        with Vertical(), Vertical():
            yield _Field(id="first")
        yield _Field(id="second")
        yield _Busy(id="busy")

    def on_input_submitted(self, event: Input.Submitted) -> None:
        self.query_one("#second").focus(scroll_visible=False)

    async def on_event(self, event: events.Event) -> None:
        if not isinstance(event, events.Key) or event.is_forwarded:
            await super().on_event(event)
        elif not self.typed.takes(event):
            await self._take_effect(event)

    async def _take_effect(self, key: events.Key) -> None:
        await super().on_event(key)
        self.typed.follow(key, self)


async def test_keys_of_one_breath_go_to_what_those_before_them_opened() -> None:
    app = _TwoFields()
    async with app.run_test() as pilot:
        app.query_one("#first").focus()
        await pilot.pause()
        for key in (*"ab", "enter", *"cd"):
            app.post_message(events.Key(key, key if len(key) == 1 else None))
        await pilot.pause(0.2)
        values = [field.value for field in app.query(_Field)]
        assert values == ["ab", "cd"]


async def test_a_widget_that_is_busy_for_long_keeps_no_keys_from_others(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    app = _TwoFields()
    async with app.run_test() as pilot:
        app.query_one("#busy").focus()
        await pilot.pause()
        app.post_message(events.Key("f5", None))
        await asyncio.sleep(0.05)
        app.query_one("#second").focus()
        await asyncio.sleep(0.05)
        app.post_message(events.Key("a", "a"))
        await asyncio.sleep(0.05)
        assert app.query_one("#second", _Field).value == ""
        monkeypatch.setattr(key_route, "LONGEST_SECONDS", 0.0)
        app.post_message(events.Key("b", "b"))
        await asyncio.sleep(0.2)
        assert app.query_one("#second", _Field).value == "ab"
        app.query_one(_Busy).let_go.set()


async def test_a_key_for_a_field_that_has_only_just_opened_is_followed_too() -> None:
    """Its messages wait until it runs, which takes a while on a busy machine."""
    app = _TwoFields()
    async with app.run_test() as pilot:
        field = Input()
        app.mount(field)
        field.focus(scroll_visible=False)
        app.screen.set_focus(field)
        assert not field.is_running
        ended: list[bool] = []
        route = key_route.KeyRoute(app, lambda: ended.append(True))
        assert not route.is_over
        while not ended:
            await pilot.pause(0.01)
        assert route.is_over


async def test_a_key_for_a_field_that_is_closed_meanwhile_holds_no_others_up() -> None:
    app = _TwoFields()
    async with app.run_test() as pilot:
        field = app.query_one("#first")
        field.focus()
        await pilot.pause()
        route = key_route.KeyRoute(app, lambda: None)
        await field.remove()
        await pilot.pause()
        assert route.is_over
