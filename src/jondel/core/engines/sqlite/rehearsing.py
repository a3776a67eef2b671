"""Tries a script out on a captured state: what it writes goes to an overlay of that alone."""

from __future__ import annotations

import threading
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

import apsw

from jondel.core.engines.sqlite import page_vfs
from jondel.core.engines.sqlite.error_translation import translated
from jondel.core.engines.sqlite.overlay import OverlayPages
from jondel.core.engines.sqlite.script_run import ScriptRun, SinkFor
from jondel.core.model.outcomes import ScriptOutcome, ScriptStatement

if TYPE_CHECKING:
    from jondel.core.engines.pages import PageSource

_STEPS_BETWEEN_LOOKS = 50_000
_OF_THE_FILE = frozenset(
    {"journal_mode", "locking_mode", "wal_checkpoint", "mmap_size", "temp_store_directory",
     "data_store_directory", "page_size"}
)  # fmt: skip
"""Pragmas about how a file is written; they mean nothing where no file is."""


def rehearse(
    below: PageSource,
    location: str,
    statements: Sequence[ScriptStatement],
    sink_for: SinkFor,
    stop: threading.Event,
    *,
    foreign_keys: bool,
) -> tuple[ScriptOutcome, OverlayPages]:
    """Run a script on a state; returns what it came to, and the state as it would be then.

    Raises:
        Cancelled: that was asked for.
    """
    overlay = OverlayPages(below)
    notes: dict[str, None] = {}
    try:
        with (
            translated(Path(location)),
            open_overlay(overlay) as name,
            closing(_opened(name, notes)) as connection,
        ):
            set_up(connection, foreign_keys=foreign_keys)
            connection.set_progress_handler(stop.is_set, _STEPS_BETWEEN_LOOKS)
            run = ScriptRun(connection, statements, sink_for, stop)

            def begin() -> None:
                connection.execute("BEGIN IMMEDIATE")

            outcome = run.run(begin)
    except BaseException:
        overlay.close()
        raise
    return outcome._replace(notes=(*outcome.notes, *notes)), overlay


@contextmanager
def open_overlay(overlay: OverlayPages) -> Iterator[str]:
    """What SQLite opens an overlay by, while the block runs."""
    name = page_vfs.serve(overlay)
    try:
        yield page_vfs.uri_of(name)
    finally:
        page_vfs.withdraw(name)


def set_up(connection: apsw.Connection, *, foreign_keys: bool) -> None:
    """Have a connection write as a script is to be run, tried out or for real."""
    connection.execute("PRAGMA trusted_schema=OFF")
    connection.execute(f"PRAGMA foreign_keys={'ON' if foreign_keys else 'OFF'}")


def _opened(name: str, notes: dict[str, None]) -> apsw.Connection:
    flags = apsw.SQLITE_OPEN_READWRITE | apsw.SQLITE_OPEN_URI
    connection = apsw.Connection(name, flags=flags)
    connection.execute("PRAGMA journal_mode=MEMORY")

    def allowed(
        action: int, one: str | None, other: str | None, _: str | None, __: str | None
    ) -> int:
        if action == apsw.SQLITE_ATTACH and one not in ("", ":memory:"):
            notes["other files are not tried out: nothing is attached, and none is written"] = None
            return int(apsw.SQLITE_DENY)
        if action == apsw.SQLITE_PRAGMA and str(one).lower() in _OF_THE_FILE and other is not None:
            notes[f"PRAGMA {one} is not tried out"] = None
            return int(apsw.SQLITE_IGNORE)
        return int(apsw.SQLITE_OK)

    connection.authorizer = allowed
    return connection
