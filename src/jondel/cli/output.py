"""What the commands have in common: opening a target with its trail, and speaking."""

from __future__ import annotations

import logging
import os
import sys
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager

from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_database
from jondel.core.errors import JondelError
from jondel.core.keeping.home import jondel_home
from jondel.core.model.changes import Unread
from jondel.core.trail.trail import Trail

_LARGEST_LOG_BYTES = 1_000_000


@contextmanager
def opened(target: str) -> Iterator[tuple[Database, Trail]]:
    """Open a database and its trail, and say what should be known about it."""
    with closing(open_database(target)) as database:
        for notice in database.notices:
            say(f"{database.name}: {notice}")
        with closing(Trail(database.location)) as trail:
            start_log()
            yield database, trail


def say(message: str) -> None:
    """Say something to the person, on stderr; the message may quote data."""
    from jondel.core.browse.display import line

    sys.stderr.write(f"jondel: {line(message, 2000)}\n")


def tell(text: str) -> None:
    """Print a line of the result."""
    sys.stdout.write(text + "\n")


def counted(number: int, what: str) -> str:
    """A number of things, as in ``1 record`` or ``3 records``."""
    return f"{number} {what}" if number == 1 else f"{number} {what}s"


def warn_unread(unread: Sequence[Unread]) -> None:
    for entry in unread:
        say(f"not compared: {entry.reason}")


def confirmed(question: str, yes: bool) -> bool:
    """Ask, unless the answer was given with the command.

    Raises:
        JondelError: there is nobody to ask.
    """
    if yes:
        return True
    if not sys.stdin.isatty():
        raise JondelError(f"{question} give --yes to do it")
    sys.stderr.write(f"{question} [y/N] ")
    sys.stderr.flush()
    return sys.stdin.readline().strip().lower() in ("y", "yes")


def start_log() -> None:
    """Have Jondel's log written to a file in its home, if that is possible."""
    path = jondel_home() / "jondel.log"
    try:
        if path.exists() and path.stat().st_size > _LARGEST_LOG_BYTES:
            path.replace(path.with_suffix(".log.old"))
        descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600)
    except OSError:
        return
    handler = logging.StreamHandler(os.fdopen(descriptor, "a", encoding="utf-8"))
    handler.setFormatter(logging.Formatter("%(asctime)s %(name)s %(message)s"))
    logger = logging.getLogger("jondel")
    logger.handlers = [handler]
    logger.setLevel(logging.INFO)
    logger.propagate = False
