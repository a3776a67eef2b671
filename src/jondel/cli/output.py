"""What the commands have in common: opening a target with its trail, and speaking."""

from __future__ import annotations

import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, TextIO, cast

from jondel.core.errors import JondelError

if TYPE_CHECKING:
    from jondel.core.model.changes import Unread

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


def visible_lines(text: str) -> str:
    """Text of several lines, such as a traceback, safe to be shown in a terminal."""
    from jondel.core.browse.display import visible

    return "\n".join(map(visible, text.split("\n")))
