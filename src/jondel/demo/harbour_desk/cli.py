"""Harbour Desk's command line: ``harbour-desk book-berth`` and the like."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable
from contextlib import closing
from datetime import datetime
from pathlib import Path
from typing import NoReturn

from jondel.demo.harbour_desk import seed
from jondel.demo.harbour_desk.desk import Desk, Refused
from jondel.demo.harbour_desk.harbour import open_harbour
from jondel.demo.harbour_desk.server import make_server, stop_at_end_of
from jondel.demo.place import demo_database

_ACTIONS = {
    "book-berth": "book a berth",
    "check-in": "check a boat in",
    "sell-fuel": "sell fuel",
    "settle-invoice": "settle an invoice",
    "cancel-booking": "cancel a booking",
    "import-tides": "import tide readings",
}


def main() -> None:
    """Run the command line."""
    given = _parser().parse_args()
    if given.command == "init":
        _init(given.database)
    elif given.command == "serve":
        _serve(given.database, given.clock, given.port, given.tied, given.mended)
    else:
        _act(given.command, given.database, given.clock, given.mended)


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(
        "harbour-desk",
        description="The harbour office's app. It writes the database that `jondel demo` shows.",
    )
    commands = parser.add_subparsers(dest="command", metavar="COMMAND", required=True)

    def command(name: str, about: str) -> argparse.ArgumentParser:
        added: argparse.ArgumentParser = commands.add_parser(name, help=about, description=about)
        added.add_argument("--database", help="path or URL; the demo's by default")
        return added

    command("init", "make the database with its made-up data")
    serving = command(
        "serve", "offer the actions over HTTP on the loopback address; prints the port"
    )
    serving.add_argument("--port", type=int, default=0)
    serving.add_argument("--tied", action="store_true", help="stop when standard input ends")
    for added in (serving, *(command(name, about) for name, about in _ACTIONS.items())):
        added.add_argument(
            "--clock", type=datetime.fromisoformat, help="stop the clock at this time (ISO)"
        )
        added.add_argument(
            "--mended", action="store_true", help="without the faults that are there to be found"
        )
    return parser


def _init(database: str | None) -> None:
    where = database or str(demo_database())
    try:
        if "://" in where:
            seed.create_on_server(where)
        else:
            seed.create(Path(where))
    except FileExistsError:
        _stop(f"{where} is there already")
    except Exception as error:
        _stop(f"{where} cannot be made: {error}")


def _serve(
    database: str | None, clock: datetime | None, port: int, tied: bool, mended: bool
) -> None:
    with closing(open_harbour(_existing(database))) as harbour:
        server = make_server(Desk(harbour, _clock(clock), mended=mended), port)
        print(server.server_port, flush=True)  # noqa: T201 (whoever started it reads this)
        if tied:
            stop_at_end_of(sys.stdin.buffer, server)
        try:
            server.serve_forever(poll_interval=0.1)
        except KeyboardInterrupt:
            pass
        finally:
            server.server_close()


def _act(name: str, database: str | None, clock: datetime | None, mended: bool) -> None:
    where = _existing(database)
    try:
        with closing(open_harbour(where)) as harbour:
            sys.stdout.write(f"{Desk(harbour, _clock(clock), mended=mended).run(name)}\n")
    except Refused as refusal:
        _stop(str(refusal))
    except Exception as error:
        _stop(f"{where}: {error}")


def _clock(fixed: datetime | None) -> Callable[[], datetime]:
    return datetime.now if fixed is None else lambda: fixed


def _existing(database: str | None) -> str:
    where = database or str(demo_database())
    if "://" not in where and not Path(where).is_file():
        _stop(f"{where} is not there; make it with `harbour-desk init` or `jondel demo`")
    return where


def _stop(message: str) -> NoReturn:
    sys.stderr.write(f"harbour-desk: {message}\n")
    raise SystemExit(1)
