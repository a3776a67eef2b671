"""Where the ``jondel`` command starts, and where all its errors end.

Parsing libraries take a good part of the time until the first rows are on the screen, so a target
given alone is opened without them.
"""

from __future__ import annotations

import errno
import io
import os
import sys
from contextlib import suppress
from typing import NoReturn

from jondel import __version__
from jondel.cli.problems import UsageProblem
from jondel.core.errors import JondelError, PasswordNeeded

_PASSWORDS_ASKED = 2
_OUTPUT_FAILS = (errno.ENOSPC, errno.EDQUOT, errno.EIO, errno.EBADF, errno.EFBIG)
COMMANDS = frozenset(
    (
        *(
            "open",
            "demo",
            "find",
            "snapshot",
            "trail",
            "record",
            "watch",
            "diff",
            "compare",
            "verify",
            "findings",
            "report",
            "chart",
        ),
        *(
            "restore",
            "take-back",
            "query",
            "import",
            "export",
            "check-sql",
            "history",
            "noise",
            "store",
            "test",
            "create",
        ),
    )
)
"""What is a command; any other first word is a target. A file of such a name goes by ``./name``."""


def main() -> None:
    """Run the command line; every error a person can cause is one line on stderr."""
    if "_ARGCOMPLETE" in os.environ:
        from jondel.cli.completing import complete

        complete()
    _open_standard_streams()
    forms = {argument.rpartition("=")[2] for argument in sys.argv[1:]}
    _prepare_output(for_programs=not forms.isdisjoint(("--json", "json", "csv", "jsonl", "sql")))
    try:
        status = _run_with_password(sys.argv[1:])
        sys.stdout.flush()
    except UsageProblem as error:
        _stop(str(error), 2)
    except JondelError as error:
        _stop(str(error), 1)
    except BrokenPipeError:
        _let_go_of_output()  # whoever read it has enough
        raise SystemExit(1) from None
    except KeyboardInterrupt:
        _stop("stopped", 130)
    except OSError as error:
        if error.filename is not None or error.errno not in _OUTPUT_FAILS:
            _stop_failed(error)
        _let_go_of_output()
        _stop(f"the output could not be written ({error.strerror})", 1)
    except Exception as error:
        _stop_failed(error)
    raise SystemExit(status)


def _open_standard_streams() -> None:
    """Have all three of them, leading nowhere where they were closed: else the next file that is
    opened, a database perhaps, would get the number of one, and be written to as such."""
    for number, name in enumerate(("stdin", "stdout", "stderr")):
        try:
            os.fstat(number)
        except OSError:
            opened = os.open(os.devnull, os.O_RDWR)
            if opened != number:
                os.dup2(opened, number)
                os.close(opened)
        if getattr(sys, name) is None:
            setattr(sys, name, open(number, "r" if number == 0 else "w", closefd=False))  # noqa: SIM115


def _let_go_of_output() -> None:
    """Keep Python from trying to write what is left when it exits, and complaining."""
    nowhere = os.open(os.devnull, os.O_WRONLY)
    os.dup2(nowhere, sys.stdout.fileno())


def _prepare_output(*, for_programs: bool) -> None:
    """Have anything that can be written: for programs in UTF-8, for people with marks for what the
    terminal's encoding does not have."""
    if isinstance(sys.stdout, io.TextIOWrapper):
        if for_programs:
            sys.stdout.reconfigure(encoding="utf-8", errors="surrogateescape")
        else:
            sys.stdout.reconfigure(errors="replace")


def _run_with_password(arguments: list[str]) -> int:
    """Run a command, again with a password that it turns out to need. Nothing is done by then:
    databases are opened first."""
    for _ in range(_PASSWORDS_ASKED):
        try:
            return _run(arguments)
        except PasswordNeeded as error:
            from jondel.cli.connecting import ask_for_password

            ask_for_password(error)
    return _run(arguments)


def _run(arguments: list[str]) -> int:
    if arguments == ["--version"]:
        sys.stdout.write(f"jondel {__version__}\n")
        return 0
    first = arguments[0] if arguments else None
    if first == "--install-completion" and len(arguments) < 3:
        from jondel.cli.completing import install

        sys.stdout.write(f"{install(arguments[1] if arguments[1:] else None)}\n")
        return 0
    if len(arguments) < 2 and first not in COMMANDS and not (first or "").startswith("-"):
        from jondel.cli.interface import open_target

        open_target(first)
        return 0
    from jondel.cli import parser

    known = first in COMMANDS or first in ("-h", "--help")
    return parser.run(arguments if known else ["open", *arguments])


def _stop_failed(error: Exception) -> NoReturn:
    from jondel.cli.crash import describe

    _stop(describe(error), 1)


def _stop(message: str, status: int) -> NoReturn:
    from jondel.core.browse.display import line

    # The message may quote names from a database or a path: data, so made safe to print.
    with suppress(OSError):  # nobody reads that either
        sys.stderr.write(f"jondel: {line(message, 2000)}\n")
        sys.stderr.flush()
    raise SystemExit(status)
