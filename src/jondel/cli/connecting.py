"""The commands that try a connection out, and make a database; and asking for a password."""

from __future__ import annotations

import sys
from collections.abc import Callable

from jondel.cli.output import confirmed, say, tell
from jondel.core.errors import PasswordNeeded
from jondel.core.files.json_values import dumped
from jondel.core.find.connections import target_named

_TRIES = 3


def test_connection(target: str, as_json: bool) -> None:
    """Connect once, and print what the server and the user are like."""
    from jondel.core.engines.registry import examine

    report = examine(target_named(target))
    if as_json:
        tell(dumped(report._asdict()))
        return
    tell(report.location)
    tell(f"{report.server} · {report.encoding} · times in {report.time_zone}")
    tell(f"{report.user}: {report.rights}")
    tell(f"answers in {report.round_trip * 1000:.1f} ms")
    tell(f"databases: {', '.join(report.databases)}")


def create_database(target: str, yes: bool) -> None:
    """Make a database that is not there yet."""
    from jondel.core.engines.registry import create_database as create
    from jondel.core.engines.registry import location_of

    location = location_of(target)
    if confirmed(f"make {location}?", yes):
        create(target)
        say(f"{location} is made")


def with_password(run: Callable[[], int]) -> int:
    """Run a command, asking for the password that it turns out to need, where somebody can answer.

    Nothing is done by then: databases are opened first.
    """
    for tries in range(_TRIES):
        try:
            return run()
        except PasswordNeeded as error:
            if tries == _TRIES - 1 or not (sys.stdin.isatty() and sys.stderr.isatty()):
                raise
            import getpass  # seldom needed

            from jondel.core.engines.passwords import tell_password

            say(str(error).partition(";")[0])
            tell_password(error.location, getpass.getpass("password (not shown): "))
    raise AssertionError("the last try raises")
