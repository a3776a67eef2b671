"""The words of the ``jondel`` command, and which function each of its commands runs."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from jondel.cli.problems import UsageProblem

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


def run(arguments: list[str]) -> int:
    """Run a command with its arguments; returns the exit status.

    Raises:
        UsageProblem: the words are wrong.
    """
    try:
        return app(arguments, prog_name="jondel", standalone_mode=False) or 0
    except _UsageError as error:
        message = " ".join(error.format_message().split()).rstrip(".")
        command = error.ctx.command_path if error.ctx else "jondel"
        raise UsageProblem(f"{message}; see `{command} --help`") from None
    except typer.Abort:
        raise KeyboardInterrupt from None
