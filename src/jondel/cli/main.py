"""Where the ``jondel`` command starts, and where all its errors end.

Parsing libraries take a good part of the time until the first rows are on the screen, so a target
given alone is opened without them.
"""

from __future__ import annotations

import os
import sys

from jondel import __version__
from jondel.cli.problems import UsageProblem
from jondel.core.errors import JondelError

COMMANDS = frozenset(
    (
        *("open", "demo", "find", "snapshot", "trail", "record", "watch", "diff", "compare"),
        *("restore", "take-back", "query", "history", "noise", "store"),
    )
)
"""What is a command; any other first word is a target. A file of such a name goes by ``./name``."""


def main() -> None:
    """Run the command line; every error a person can cause is one line on stderr."""
    try:
        status = _run(sys.argv[1:])
        sys.stdout.flush()
    except UsageProblem as error:
        _stop(str(error), 2)
    except JondelError as error:
        _stop(str(error), 1)
    except BrokenPipeError:
        # Whoever read the output has enough of it; keep Python from complaining at exit.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        raise SystemExit(1) from None
    except KeyboardInterrupt:
        _stop("stopped", 130)
    except Exception as error:
        from jondel.cli.crash import describe

        _stop(describe(error), 1)
    raise SystemExit(status)


def _run(arguments: list[str]) -> int:
    if arguments == ["--version"]:
        sys.stdout.write(f"jondel {__version__}\n")
        return 0
    first = arguments[0] if arguments else None
    if len(arguments) < 2 and first not in COMMANDS and not (first or "").startswith("-"):
        from jondel.cli.interface import open_target

        open_target(first)
        return 0
    from jondel.cli import parser

    known = first in COMMANDS or first in ("-h", "--help")
    return parser.run(arguments if known else ["open", *arguments])


def _stop(message: str, status: int) -> None:
    from jondel.core.browse.display import line

    # The message may quote names from a database or a path: data, so made safe to print.
    sys.stderr.write(f"jondel: {line(message, 2000)}\n")
    raise SystemExit(status)
