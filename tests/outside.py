"""Looks at databases from another process.

Two SQLite libraries in one process would drop each other's locks on a file, so what a test wants
to know of a database that Jondel has open is asked from outside.
"""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path
from typing import Any

_PROGRAM = """
import json, sqlite3, sys
connection = sqlite3.connect(sys.argv[1], timeout=10)
connection.text_factory = bytes
def plain(value):
    if isinstance(value, bytes):
        try:
            return value.decode()
        except UnicodeDecodeError:
            return {"bytes": value.hex()}
    return value
if sys.argv[2] == "rows":
    found = [[plain(value) for value in row] for row in connection.execute(sys.argv[3])]
else:
    assert connection.execute("PRAGMA integrity_check").fetchall() == [(b"ok",)]
    listed = connection.execute(
        "SELECT s.type, s.name, s.sql, t.type FROM sqlite_schema s "
        "LEFT JOIN pragma_table_list t ON t.name = s.name ORDER BY s.name").fetchall()
    found = {}
    for kind, raw, sql, table_kind in listed:
        name = raw.decode()
        found[f"{plain(kind)} {name}"] = plain(sql)
        if table_kind is not None:
            rows = connection.execute('SELECT * FROM "' + name + '"').fetchall()
            found[name] = sorted(([type(v).__name__, plain(v)] for r in rows for v in r), key=repr)
print(json.dumps(found))
"""


def _ask(path: Path, *arguments: str) -> Any:
    told = subprocess.run(
        [sys.executable, "-c", _PROGRAM, str(path), *arguments],
        capture_output=True,
        text=True,
        check=False,
    )
    assert told.returncode == 0, told.stderr
    return json.loads(told.stdout)


def rows(path: Path, sql: str) -> list[Any]:
    """The rows of a statement."""
    found: list[Any] = _ask(path, "rows", sql)
    return found


def content(path: Path) -> dict[str, Any]:
    """The whole schema and every value, after making sure that the database is intact."""
    found: dict[str, Any] = _ask(path, "content")
    return found


def harbour_desk(action: str, database: Path, clock: str) -> str:
    """Have the demo's app do something, as from another terminal; returns what it says."""
    command = [sys.executable, "-m", "jondel.demo.harbour_desk", action, "--clock", clock]
    return subprocess.run(
        [*command, "--database", str(database)], check=True, capture_output=True, text=True
    ).stdout
