"""Keys typed while something is still on its way: they wait, and then go where they were meant."""

from __future__ import annotations

from collections import deque
from collections.abc import Awaitable, Callable, Iterator
from contextlib import contextmanager
from typing import Protocol, TypeAlias

from textual import events
from textual.app import App

from jondel.tui.frame.key_route import KeyRoute

_KEYS_OF_THE_APP = ("ctrl+q", "ctrl+c")
"""They wait for nothing, whatever becomes of the others."""
_KEYS_THAT_MOVE = frozenset({"up", "down", "left", "right", "pageup", "pagedown", "home", "end"})

Waiting: TypeAlias = events.Key | Callable[[], None]


class Stoppable(Protocol):
    """What keys may be held back for."""

    @property
    def is_cancelled(self) -> bool:
        """Whether it was stopped, perhaps before it began."""


class Hold:
    """A reason to hold keys back, from now until it is released or what it is for was stopped."""

    def __init__(self, on_release: Callable[[], None]) -> None:
        self._on_release = on_release
        self._for: Stoppable | None = None
        self._released = False

    def wait_for(self, work: Stoppable) -> None:
        """Hold keys back no longer than this is not stopped."""
        self._for = work

    @property
    def is_active(self) -> bool:
        return not self._released and not (self._for is not None and self._for.is_cancelled)

    def release(self) -> None:
        """What keys waited for is there, or does not come."""
        self._released = True
        self._on_release()


class TypedAhead:
    """Holds keys back, and what was asked for by the mouse, while there is a reason to."""

    def __init__(
        self,
        is_held: Callable[[], bool],
        passes: Callable[[events.Key, bool], bool],
        dispatch: Callable[[events.Key], Awaitable[None]],
        on_release: Callable[[], None],
    ) -> None:
        """``is_held`` is the standing reason; holds are others. ``passes`` says whether a key need
        not wait; it is told whether it would come before others, or miss what opens. ``dispatch``
        has a key take its effect; ``on_release`` sees to it that ``drain`` is called."""
        self._is_held = is_held
        self._passes = passes
        self._dispatch = dispatch
        self._on_release = on_release
        self._holds: list[Hold] = []
        self._handed_over: list[Callable[[], bool]] = []
        self._route: KeyRoute | None = None
        self._returned: deque[Waiting] = deque()
        """Keys that were on their way already, older than all of the others."""
        self._typed: deque[Waiting] = deque()

    def hold(self) -> Hold:
        """Hold keys back from now on."""
        self._holds = [hold for hold in self._holds if hold.is_active]
        self._holds.append(Hold(self._on_release))
        return self._holds[-1]

    @contextmanager
    def handed_over(self, is_open: Callable[[], bool]) -> Iterator[None]:
        """No hold counts within the block while what keys waited for is open."""
        self._handed_over.append(is_open)
        try:
            yield
        finally:
            self._handed_over.remove(is_open)

    def follow(self, key: events.Key, app: App[None]) -> None:
        """A key was just given to the widget that has the focus. The next one waits until all that
        it causes has happened, for it may be meant for another widget then; but not behind keys
        that are typed into a field, or only move within a widget, which are repeated quickly. In a
        field those that move take the longer way, which what is typed next must not overtake."""
        widget = app.focused
        typed = widget is not None and widget.check_consume_key(key.key, key.character)
        in_field = widget is not None and widget.check_consume_key("a", "a")
        if not typed and (in_field or key.key not in _KEYS_THAT_MOVE):
            self._route = KeyRoute(app, self._on_release)

    @property
    def holding(self) -> bool:
        return self._is_held() or self._is_opening

    @property
    def is_busy(self) -> bool:
        """Whether keys are just taking their effect; those that are held back are not."""
        return self._is_underway or (self.are_waiting and not self.holding)

    @property
    def are_waiting(self) -> bool:
        """Whether there is anything that has not begun to take effect."""
        return bool(self._returned or self._typed)

    @property
    def _is_opening(self) -> bool:
        """Whether something is about to open that keys may be for."""
        held = any(hold.is_active for hold in self._holds)
        return held and not any(is_open() for is_open in self._handed_over)

    @property
    def _is_underway(self) -> bool:
        """Whether a key is on its way to what takes it."""
        return self._route is not None and not self._route.is_over

    def takes(self, key: events.Key) -> bool:
        """Whether a key that was just typed has to wait."""
        waiting = self.are_waiting
        if self.holding:
            if self._passes(key, waiting or self._is_opening):
                return False
        elif key.key in _KEYS_OF_THE_APP or not (waiting or self._is_underway):
            return False
        self._typed.append(key)
        if not (self.holding or self._is_underway):
            self._on_release()  # nothing is in the way of those that wait
        return True

    def takes_back(self, key: events.Key) -> bool:
        """Whether a key that was on its way when holding began has to wait."""
        waiting = bool(self._returned) or self._is_opening
        if not self.holding or self._passes(key, waiting):
            return False
        self._returned.append(events.Key(key.key, key.character))
        return True

    def wait(self, call: Callable[[], None]) -> None:
        """Have something done once keys are no longer held back."""
        self._typed.append(call)

    def forget(self) -> None:
        """What was typed ahead is no longer meant."""
        self._returned.clear()
        self._typed.clear()

    async def drain(self) -> None:
        """Let what has waited take effect, as long as nothing is held back again."""
        while not (self.holding or self._is_underway) and self.are_waiting:
            waiting = (self._returned or self._typed).popleft()
            if isinstance(waiting, events.Key):
                await self._dispatch(waiting)
            else:
                waiting()
