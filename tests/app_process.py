"""An app in a process of its own, with a connection of its own, that does what a test tells it."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path
from types import TracebackType
from typing import Any

_PROGRAM = """
import base64, json, sqlite3, sys
connection = sqlite3.connect(sys.argv[1], timeout=float(sys.argv[2]), isolation_level=None)
for line in sys.stdin:
    sql, parameters = json.loads(line)
    parameters = [base64.b64decode(p["b"]) if isinstance(p, dict) else p for p in parameters]
    try:
        rows = connection.execute(sql, parameters).fetchall()
        answer = {"rows": [[v.hex() if isinstance(v, bytes) else v for v in row] for row in rows]}
    except sqlite3.Error as error:
        answer = {"error": str(error)}
    print(json.dumps(answer), flush=True)
connection.close()
"""


class AppFailed(Exception):
    """SQLite refused what the app wanted."""


class AppProcess:
    """The app; leaving the block ends it, which closes its connection."""

    def __init__(self, path: Path, timeout: float = 5.0) -> None:
        self._process = subprocess.Popen(
            [sys.executable, "-c", _PROGRAM, str(path), str(timeout)],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
        )

    @property
    def pid(self) -> int:
        return self._process.pid

    def run(self, sql: str, *parameters: Any) -> list[list[Any]]:
        """Run one statement and return its rows; without BEGIN it is committed at once."""
        import base64

        assert self._process.stdin is not None
        assert self._process.stdout is not None
        sendable = [
            {"b": base64.b64encode(p).decode()} if isinstance(p, bytes) else p for p in parameters
        ]
        self._process.stdin.write(json.dumps([sql, sendable]) + "\n")
        self._process.stdin.flush()
        answer = json.loads(self._process.stdout.readline())
        if "error" in answer:
            raise AppFailed(answer["error"])
        rows: list[list[Any]] = answer["rows"]
        return rows

    def kill(self) -> None:
        """End it like a crash does: nothing is closed or rolled back."""
        self._process.kill()
        self._finish()

    def close(self) -> None:
        if self._process.poll() is None:
            assert self._process.stdin is not None
            self._process.stdin.close()
        self._finish()

    def _finish(self) -> None:
        self._process.wait(10)
        for stream in (self._process.stdin, self._process.stdout):
            if stream is not None and not stream.closed:
                stream.close()

    def __enter__(self) -> AppProcess:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()
