"""Starts the app that does random work, and has it go on phase by phase."""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import workload


class Worker:
    """The app that does random work."""

    def __init__(self, path: Path, seed: int) -> None:
        self._process = subprocess.Popen(
            [sys.executable, workload.__file__, str(path), str(seed)],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
        )
        self._answer()

    def _answer(self) -> str:
        assert self._process.stdout is not None
        line = self._process.stdout.readline()
        assert line, "the app failed"
        return line

    def phase(self) -> Any:
        return self._ask("")

    def copy(self, to: Path) -> Path:
        self._ask(str(to))
        return to

    def _ask(self, line: str) -> Any:
        assert self._process.stdin is not None
        self._process.stdin.write(f"{line}\n")
        self._process.stdin.flush()
        return json.loads(self._answer())

    def close(self) -> None:
        self._process.communicate("")


@contextmanager
def working(path: Path, seed: int) -> Iterator[Worker]:
    app = Worker(path, seed)
    try:
        yield app
    finally:
        app.close()
