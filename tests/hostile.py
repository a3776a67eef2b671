"""A database whose names and contents try to break whatever shows them."""

from __future__ import annotations

import json
import sqlite3
from pathlib import Path

ESCAPES = "\x1b[31mred\x1b[0m \x1b]0;title\x07\x1b[2J\x9b1m"
MARKUP = "[/x] [bold]b[/bold] [@click=app.quit]q[/] \\[x]"
NUL = "before\x00after"
WIDE = "名前 ⚓️ 👩‍👩‍👧 e\u0301 \u0301 \u202edrawkcab\u202c \u200b|"
LONG = "tide " * 60_000
NAMES = {
    "quotes": 'a "quoted" table',
    "keyword": "select",
    "emoji": "⚓ berths [/x]",
    "escape": "esc\x1b[31mape",
}


def create(path: Path) -> None:
    """Make the database at a path where nothing is."""
    connection = sqlite3.connect(path)
    connection.text_factory = bytes
    run = connection.execute
    run("CREATE TABLE texts(id INTEGER PRIMARY KEY, kind TEXT, value)")
    values: list[tuple[str, object]] = [
        ("escapes", ESCAPES),
        ("markup", MARKUP),
        ("nul", NUL),
        ("wide", WIDE),
        ("long", LONG),
        ("empty", ""),
        ("null", None),
        ("zero-length blob", b""),
        ("blob", bytes(range(256)) * 4),
        ("blanks", "  both ends  "),
        ("lines", "one\ntwo\r\nthree\tfour"),
        ("json", json.dumps({"note": MARKUP, "deep": [1, [2, {"x": None}]]})),
        ("whole as real", 1.0),
        ("infinite", float("inf")),
        ("largest", 2**63 - 1),
        ("smallest", -(2**63)),
        ("not json", "{"),
    ]
    connection.executemany("INSERT INTO texts(kind, value) VALUES (?, ?)", values)
    run("INSERT INTO texts(kind, value) VALUES ('not UTF-8', CAST(X'66ff6f80' AS TEXT))")
    for name in NAMES.values():
        quoted = name.replace('"', '""')
        run(f'CREATE TABLE "{quoted}"("order" TEXT, "{quoted}" BLOB, "a b" INTEGER)')
        run(f'INSERT INTO "{quoted}" VALUES (?, ?, 1)', (MARKUP, b"\x89PNG\r\n\x1a\n"))
    columns = ", ".join(f"c{i} INTEGER" for i in range(1999))
    run(f"CREATE TABLE many_columns(id INTEGER PRIMARY KEY, {columns})")
    run("INSERT INTO many_columns(id, c7) VALUES (1, 7)")
    run("CREATE TABLE no_rows(id INTEGER PRIMARY KEY)")
    run("CREATE TABLE large(id INTEGER PRIMARY KEY, body BLOB, text TEXT)")
    run("INSERT INTO large VALUES (1, zeroblob(20000000), ?)", ("x" * 5_000_000,))
    run("CREATE VIEW broken AS SELECT * FROM gone")
    run("CREATE VIEW fine AS SELECT kind FROM texts")
    connection.commit()
    connection.close()
