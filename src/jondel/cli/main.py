"""The ``jondel`` command."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import Annotated, Any

import typer

from jondel import __version__
from jondel.core.errors import JondelError

app = typer.Typer(
    add_completion=False,
    no_args_is_help=False,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"]},
    help=(
        "See exactly what your app wrote to its database. "
        "`jondel TARGET` opens the interface on a database; without TARGET, on one found here. "
        "Give --version for the version."
    ),
)

_UsageError = typer.BadParameter.__bases__[0]
"""What is raised for wrong words in a command, wherever this Typer keeps that class."""

TargetArgument = Annotated[str, typer.Argument(metavar="TARGET", help="Path of the database.")]
JsonOption = Annotated[bool, typer.Option("--json", help="Print JSON and nothing else.")]
LabelOption = Annotated[str | None, typer.Option("--label", help="What to call the snapshot.")]


@app.command("open")
def open_interface(
    target: Annotated[str | None, typer.Argument(metavar="[TARGET]")] = None,
) -> None:
    """Open the interface (the same as giving TARGET alone)."""
    from jondel.cli.interface import open_target

    open_target(target)


@app.command()
def demo(
    fresh: Annotated[
        bool, typer.Option("--fresh", help="Throw the demo's database and trail away first.")
    ] = False,
    clock: Annotated[
        str | None, typer.Option("--clock", help="Stop Harbour Desk's clock at this time (ISO).")
    ] = None,
) -> None:
    """Open the demo: a harbour's database, and the app that writes it running beside."""
    from jondel.cli.interface import open_demo

    open_demo(fresh=fresh, clock=clock)


@app.command()
def find(
    folder: Annotated[Path, typer.Argument(metavar="[DIR]")] = Path("."),
    as_json: JsonOption = False,
) -> None:
    """List the databases in a project."""
    from jondel.cli.commands import find_databases

    find_databases(folder, as_json)


@app.command()
def snapshot(
    target: TargetArgument, label: LabelOption = None, as_json: JsonOption = False
) -> None:
    """Take a snapshot; prints its label or id."""
    from jondel.cli.commands import take_snapshot

    take_snapshot(target, label, as_json)


@app.command()
def trail(target: TargetArgument, as_json: JsonOption = False) -> None:
    """Show what is recorded."""
    from jondel.cli.commands import show_trail

    show_trail(target, as_json)


@app.command()
def diff(
    target: TargetArgument,
    start: Annotated[str, typer.Argument(metavar="FROM", help='A label, an id, or "last".')],
    end: Annotated[
        str, typer.Argument(metavar="[TO]", help='A label, an id, "last", or "now".')
    ] = "now",
    table: Annotated[
        list[str] | None, typer.Option("--table", help="Only this table; may be repeated.")
    ] = None,
    internal: Annotated[
        bool, typer.Option("--internal", help="Engine-internal tables too.")
    ] = False,
    limit: Annotated[
        int, typer.Option(min=0, help="Records to list for each table; 0 for all. Not with --json.")
    ] = 100,
    as_json: JsonOption = False,
) -> None:
    """Show what changed between two snapshots, or since one."""
    from jondel.cli.commands import show_changes

    show_changes(target, start, end, table or [], internal, limit, as_json)


@app.command()
def record(
    target: TargetArgument,
    command: Annotated[list[str], typer.Argument(metavar="-- COMMAND…")],
    label: LabelOption = None,
    as_json: JsonOption = False,
) -> None:
    """Snapshot, run a command, snapshot, show the changes; exits as the command did."""
    from jondel.cli.commands import record_command

    raise typer.Exit(record_command(target, command, label, as_json))


@app.command()
def query(
    target: TargetArgument,
    sql: Annotated[str, typer.Argument(metavar="SQL", help="One statement that reads.")],
    form: Annotated[
        str, typer.Option("--format", metavar="table|json|csv", help="How to print the rows.")
    ] = "table",
    at: Annotated[
        str | None, typer.Option("--at", metavar="SNAPSHOT", help="Ask a snapshot instead.")
    ] = None,
    as_json: JsonOption = False,
) -> None:
    """Run one statement that reads, and print its rows."""
    from jondel.cli.commands import run_query

    if form not in ("table", "json", "csv"):
        raise typer.BadParameter(f"{form!r} is none of table, json, csv", param_hint="--format")
    run_query(target, sql, "json" if as_json else form, at)


def main() -> None:
    """Run the command line; every error a person can cause is one line on stderr."""
    arguments = sys.argv[1:]
    if arguments == ["--version"]:
        typer.echo(f"jondel {__version__}")
        return
    try:
        status = app(_with_command(arguments), prog_name="jondel", standalone_mode=False)
    except JondelError as error:
        _stop(str(error), 1)
    except _UsageError as error:
        _stop(_usage_problem(error), 2)
    except BrokenPipeError:
        # Whoever read the output has enough of it; keep Python from complaining at exit.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        raise SystemExit(1) from None
    except (KeyboardInterrupt, typer.Abort):
        _stop("stopped", 130)
    except Exception as error:
        from jondel.cli.crash import describe

        _stop(describe(error), 1)
    raise SystemExit(status or 0)


def _usage_problem(error: Any) -> str:
    """What is wrong with the words given, in one line, and where to read how they go."""
    message = " ".join(error.format_message().split()).rstrip(".")
    command = error.ctx.command_path if error.ctx else "jondel"
    return f"{message}; see `{command} --help`"


def _with_command(arguments: list[str]) -> list[str]:
    """Put ``open`` before a target given alone. A file named like a command goes by ``./name``."""
    commands = {command.name or command.callback.__name__ for command in app.registered_commands}
    first = arguments[0] if arguments else None
    if first in commands or first in ("-h", "--help"):
        return arguments
    return ["open", *arguments]


def _stop(message: str, status: int) -> None:
    from jondel.core.browse.display import line

    # The message may quote names from a database or a path: data, so made safe to print.
    typer.echo(f"jondel: {line(message, 2000)}", err=True)
    raise SystemExit(status)
