"""The commands that try a connection out, and make a database; and asking for a password."""

from __future__ import annotations

import sys

from jondel.cli.output import confirmed, say, tell
from jondel.core.errors import PasswordNeeded
from jondel.core.files.json_values import dumped
from jondel.core.find.connections import target_named
from jondel.core.model.sizes import size_text


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
    tell(f"{report.tables} tables, {size_text(report.size)}")
    tell(f"databases: {', '.join(report.databases)}")


def create_database(target: str, yes: bool) -> None:
    """Make a database that is not there yet."""
    from jondel.core.engines.registry import create_database as create
    from jondel.core.engines.registry import location_of

    location = location_of(target)
    if confirmed(f"make {location}?", yes):
        create(target)
        say(f"{location} is made")


def ask_for_password(needed: PasswordNeeded) -> None:
    """Ask for the password of a database; raises what says that it is needed where nobody can
    answer."""
    if not (sys.stdin.isatty() and sys.stderr.isatty()):
        raise needed
    import getpass  # seldom needed

    from jondel.core.engines.passwords import tell_password

    say(str(needed).partition(";")[0])
    tell_password(needed.location, getpass.getpass("password (not shown): "))
