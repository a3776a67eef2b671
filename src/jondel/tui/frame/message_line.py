"""The line above the trail that says what happened, and is gone again after a while."""

from __future__ import annotations

import time

from textual.widgets import Static

from jondel.core.browse.display import line

_SECONDS, _PROBLEM_SECONDS = 8.0, 30.0
_LONGEST = 1500


class MessageLine(Static):
    """A message, or nothing at all."""

    DEFAULT_CSS = """
    MessageLine {
        height: auto;
        max-height: 5;
        padding: 0 1;
        background: $panel;
        color: $sea;
        display: none;
        &.-shown { display: block; }
        &.-problem { color: $removed; }
    }
    """

    def __init__(self, *, id: str | None = None) -> None:
        super().__init__("", id=id, markup=False)
        self._until = 0.0

    @property
    def shown(self) -> bool:
        """Whether there is a message now."""
        return self._until > 0

    def say(self, message: str, *, problem: bool = False) -> None:
        """Show a message; a problem stays longer and looks like one."""
        self.update(line(message, _LONGEST))
        self.set_class(problem, "-problem")
        self.add_class("-shown")
        self._until = time.monotonic() + (_PROBLEM_SECONDS if problem else _SECONDS)

    def hush(self) -> None:
        """Take the message away."""
        self._until = 0.0
        self.remove_class("-shown")

    def tick(self) -> None:
        """Take the message away if its time is over; called regularly."""
        if self.shown and time.monotonic() > self._until:
            self.hush()
