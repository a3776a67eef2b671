"""Harbour Desk's command line: ``harbour-desk book-berth`` and the like."""

from __future__ import annotations

import sqlite3
import sys
from collections.abc import Callable
from contextlib import closing
from datetime import datetime
from pathlib import Path
from typing import Annotated

import typer

from jondel.demo.harbour_desk import seed
from jondel.demo.harbour_desk.database import connect
from jondel.demo.harbour_desk.desk import Desk, Refused
from jondel.demo.harbour_desk.server import make_server, stop_at_end_of
from jondel.demo.place import demo_database

app = typer.Typer(
    add_completion=False,
    no_args_is_help=True,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    help="The harbour office's app. It writes the database that `jondel demo` shows.",
)

DatabaseOption = Annotated[
    Path | None, typer.Option("--database", help="The database; the demo's by default.")
]
ClockOption = Annotated[
    str | None, typer.Option("--clock", help="Stop the clock at this time (ISO).")
]


@app.command()
def init(database: DatabaseOption = None) -> None:
    """Make the database with its made-up data."""
    path = database or demo_database()
    try:
        seed.create(path)
    except FileExistsError:
        _stop(f"{path} is there already")
    except (OSError, sqlite3.Error) as error:
        _stop(f"{path} cannot be made: {error}")


@app.command()
def serve(
    database: DatabaseOption = None, clock: ClockOption = None, port: int = 0, tied: bool = False
) -> None:
    """Offer the actions over HTTP on the loopback address; prints the port.

    With --tied it stops when its standard input ends.
    """
    with closing(connect(_existing(database))) as connection:
        server = make_server(Desk(connection, _clock(clock)), port)
        print(server.server_port, flush=True)  # noqa: T201 (whoever started it reads this)
        if tied:
            stop_at_end_of(sys.stdin.buffer, server)
        try:
            server.serve_forever(poll_interval=0.1)
        except KeyboardInterrupt:
            pass
        finally:
            server.server_close()


def _add_action(name: str, method: str) -> None:
    def command(database: DatabaseOption = None, clock: ClockOption = None) -> None:
        path = _existing(database)
        try:
            with closing(connect(path)) as connection:
                typer.echo(Desk(connection, _clock(clock)).run(name))
        except Refused as refusal:
            _stop(str(refusal))
        except sqlite3.Error as error:
            _stop(f"{path}: {error}")

    command.__doc__ = f"{method.replace('_', ' ').capitalize()}."
    app.command(name)(command)


for _name, _method in {
    "book-berth": "book a berth",
    "check-in": "check a boat in",
    "sell-fuel": "sell fuel",
    "settle-invoice": "settle an invoice",
    "cancel-booking": "cancel a booking",
    "import-tides": "import tide readings",
}.items():
    _add_action(_name, _method)


def _clock(fixed: str | None) -> Callable[[], datetime]:
    if fixed is None:
        return datetime.now
    when = datetime.fromisoformat(fixed)
    return lambda: when


def _existing(database: Path | None) -> Path:
    path = database or demo_database()
    if not path.is_file():
        _stop(f"{path} is not there; make it with `harbour-desk init` or `jondel demo`")
    return path


def _stop(message: str) -> None:
    typer.echo(f"harbour-desk: {message}", err=True)
    raise typer.Exit(1)


def main() -> None:
    """Run the command line."""
    app()
