"""A real terminal, through tmux."""

from __future__ import annotations

import os
import secrets
import shutil
import sys
from collections.abc import Callable, Iterator
from pathlib import Path

import libtmux
import pytest
from tmux_terminal import Terminal

Start = Callable[..., Terminal]


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
