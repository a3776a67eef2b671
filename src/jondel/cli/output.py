"""What the commands have in common: opening a target with its trail, and speaking."""

from __future__ import annotations

import logging
import os
import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any, TextIO, cast

from jondel.core.errors import JondelError
from jondel.core.files.home import jondel_home
from jondel.core.model.changes import Unread

_LARGEST_LOG_BYTES = 1_000_000
_IN_MEMORY_BYTES = 4 << 20


@contextmanager
def whole_document() -> Iterator[TextIO]:
    """What is written in the block goes to stdout at its end, or not at all if it fails."""
    import shutil  # slow to load, both of them
    import tempfile

    with tempfile.SpooledTemporaryFile(
        _IN_MEMORY_BYTES, "w+", encoding="utf-8", errors="surrogatepass"
    ) as document:
        yield cast(TextIO, document)
        document.seek(0)
        shutil.copyfileobj(document, sys.stdout)


def say(message: str) -> None:
    """Say something to the person, on stderr; the message may quote data."""
    from jondel.core.browse.display import line

    sys.stderr.write(f"jondel: {line(message, 2000)}\n")


def tell(text: str) -> None:
    """Print a line of the result, with marks for what a terminal would act on."""
    if not text.isprintable():
        text = visible_lines(text)
    sys.stdout.write(text + "\n")


def tell_exactly(text: str) -> None:
    """Print a line of the result for a program to read; on a terminal as ``tell`` does."""
    if sys.stdout.isatty():
        tell(text)
    else:
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
    from jondel.core.browse.display import line

    sys.stderr.write(f"{line(question, 2000)} [y/N] ")
    sys.stderr.flush()
    return sys.stdin.readline().strip().lower() in ("y", "yes")


class _SafeFormatter(logging.Formatter):
    """Messages may quote data, and a log is looked at in a terminal."""

    def formatMessage(self, record: logging.LogRecord) -> str:
        from jondel.core.browse.display import visible

        return visible(super().formatMessage(record))

    def formatException(self, ei: Any) -> str:
        return visible_lines(super().formatException(ei))


def visible_lines(text: str) -> str:
    """Text of several lines, such as a traceback, safe to be shown in a terminal."""
    from jondel.core.browse.display import visible

    return "\n".join(map(visible, text.split("\n")))


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
    handler.setFormatter(_SafeFormatter("%(asctime)s %(name)s %(message)s"))
    logger = logging.getLogger("jondel")
    logger.handlers = [handler]
    logger.setLevel(logging.INFO)
    logger.propagate = False
