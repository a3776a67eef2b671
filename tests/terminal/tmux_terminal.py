"""One program in a tmux window: press keys, read the screen, keep what it writes."""

from __future__ import annotations

import os
import secrets
import shlex
import signal
import subprocess
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import libtmux

_LONGEST_WAIT = 120.0
_AFTER_ESCAPE = 0.5
_AFTER_A_KEY = 0.02


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
            # An Escape and the next key would be one, with Alt; else as fast as anybody types.
            time.sleep(_AFTER_ESCAPE if key == "Escape" else _AFTER_A_KEY)

    def type(self, text: str) -> None:
        """Type a text as it is."""
        assert self.pane is not None
        self.pane.send_keys(text, enter=False, literal=True)

    def kill(self) -> None:
        """Kill the program itself, and wait until its shell has seen it go.

        By its process id: the command line of tmux holds the program's as well.
        """
        assert self.pane is not None
        assert self.pane.pane_pid is not None
        listed = subprocess.run(
            ["ps", "-o", "pid=", "--ppid", self.pane.pane_pid],
            capture_output=True,
            text=True,
            check=True,
        )
        for number in listed.stdout.split():
            os.kill(int(number), signal.SIGKILL)
        self.sees("[ended with 137]")

    def record_output(self) -> None:
        """Keep the bytes that the program writes from now on."""
        assert self.pane is not None
        self._output = tempfile.NamedTemporaryFile(prefix="output-")  # noqa: SIM115
        self.pane.cmd("pipe-pane", f"cat > {shlex.quote(self._output.name)}")

    def output(self) -> bytes:
        """What the program has written since ``record_output``."""
        self.settles()
        return Path(self._output.name).read_bytes()

    def settles(self) -> None:
        """Wait until the screen does not change any more."""
        before: list[str] = []
        while before != self.lines:
            before = self.lines
            time.sleep(0.15)

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
