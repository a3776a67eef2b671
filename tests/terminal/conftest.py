"""A real terminal, through tmux."""

from __future__ import annotations

import os
import secrets
import shlex
import shutil
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import libtmux
import pytest

_LONGEST_WAIT = 30.0
_AFTER_ESCAPE = 0.3
Start = Callable[..., "Terminal"]


class Terminal:
    """One program in a tmux window of a fixed size."""

    def __init__(self, server: libtmux.Server, command: list[str], size: tuple[int, int]) -> None:
        columns, lines = size
        # What libtmux puts into the environment would overrule the terminal's own size.
        shell = f"unset COLUMNS LINES; {shlex.join(command)}; echo [ended with $?]; sleep 1000"
        name = secrets.token_hex(4)
        place = ("-s", name, "-x", str(columns), "-y", str(lines))
        made = server.cmd("new-session", "-d", *place, shell)
        assert not made.stderr, made.stderr
        session = server.sessions.get(session_name=name)
        assert session is not None
        session.set_option("status", "off")
        self.pane = session.active_pane

    @property
    def lines(self) -> list[str]:
        assert self.pane is not None
        return list(self.pane.capture_pane())

    @property
    def text(self) -> str:
        return "\n".join(self.lines)

    @property
    def title(self) -> str:
        assert self.pane is not None
        found = self.pane.cmd("display-message", "-p", "#{pane_title}").stdout
        return "".join(found)

    def press(self, *keys: str) -> None:
        """Send keys by tmux's names for them, one by one."""
        assert self.pane is not None
        for key in keys:
            self.pane.send_keys(key, enter=False, literal=False)
            if key == "Escape":
                time.sleep(_AFTER_ESCAPE)  # else it and the next key are one, with Alt

    def sees(self, *words: str) -> None:
        """Wait until the screen shows all the words."""
        self._until(lambda text: all(word in text for word in words), f"{words} to be shown")

    def sees_no_more(self, words: str) -> None:
        self._until(lambda text: words not in text, f"{words!r} to be gone")

    def _until(self, holds: Callable[[str], bool], what: str) -> None:
        started = time.monotonic()
        while not holds(self.text):
            if time.monotonic() - started > _LONGEST_WAIT:
                raise AssertionError(f"waited for {what}; the terminal shows:\n{self.text}")
            time.sleep(0.05)


@pytest.fixture
def terminal(home: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Start]:
    """Starts `jondel` (or another program) in a terminal; gives the terminal."""
    if shutil.which("tmux") is None:
        pytest.fail("tmux is not installed; `make test` installs it where it may")
    monkeypatch.setenv("COLORTERM", "truecolor")
    server = libtmux.Server(socket_name=f"jondel-{os.getpid()}-{secrets.token_hex(4)}")

    def start(*arguments: str | Path, size: tuple[int, int] = (160, 47)) -> Terminal:
        command = [sys.executable, "-m", "jondel", *map(str, arguments)]
        return Terminal(server, command, size)

    yield start
    server.kill()
