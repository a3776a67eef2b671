"""How far a key has come that was given to a widget."""

from __future__ import annotations

import time
from collections.abc import Callable

from textual.app import App
from textual.dom import DOMNode
from textual.message_pump import MessagePump

LONGEST_SECONDS = 2.0
"""A widget that is busy for longer does not keep keys from the others."""


class KeyRoute:
    """Follows a key from the widget that has the focus outward to the app, in the same queues, so
    that it comes behind the key and behind the messages which that causes."""

    _ROUNDS = 2
    """A key may become a command in the app, which has a widget say what it was told: once more."""

    def __init__(self, app: App[None], on_end: Callable[[], None]) -> None:
        self._app = app
        self._on_end = on_end
        self._rounds_left = self._ROUNDS
        self._ended = False
        self._began = time.monotonic()
        self._at: MessagePump = app
        self._begin()

    @property
    def is_over(self) -> bool:
        """Whether all that the key causes at once has happened."""
        too_long = time.monotonic() - self._began > LONGEST_SECONDS
        # A field that has just opened has the key in its queue before it runs.
        gone = not (self._at.is_running or self._at.is_attached)
        return self._ended or too_long or gone

    def _begin(self) -> None:
        if not self._app.screen_stack:  # the interface is closing
            self._ended = True
            return
        self._wait_at(self._app.focused or self._app.screen)

    def _wait_at(self, place: MessagePump) -> None:
        self._at = place
        if not place.call_later(self._go_on):  # it is closing
            self._at = self._app
            self._app.call_later(self._go_on)

    def _go_on(self) -> None:
        if self._at is not self._app:
            parent = self._at.parent if isinstance(self._at, DOMNode) else None
            self._wait_at(parent or self._app)
            return
        self._rounds_left -= 1
        if self._rounds_left:
            self._begin()
        else:
            self._app.call_later(self._end)  # behind a focus that was asked for just now

    def _end(self) -> None:
        self._ended = True
        self._on_end()
