"""The words of the ``jondel`` command, and which function each of its commands runs."""

from __future__ import annotations

import argparse
import os
from collections.abc import Callable
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, Any, NoReturn

from jondel.cli.problems import UsageProblem

if TYPE_CHECKING:
    from jondel.cli.showing import Showing

_USUAL_COLUMNS = 80
_TRAIL_VERBS = ("label", "note", "pin", "unpin", "delete", "export", "adopt")
_NOISE_VERBS = ("add", "remove")
_STORE_VERBS = ("budget", "largest-table", "move", "empty", "check", "mend")
_DESCRIPTION = (
    "See exactly what your app wrote to its database. `jondel TARGET` opens the interface on a "
    "database; without TARGET, it lists those found here. --version tells the version, "
    "--install-completion has your shell complete commands, databases, labels and tables."
)


class _Formatter(argparse.HelpFormatter):
    """Finds out how wide the terminal is itself; the base class loads much more for that."""

    def __init__(self, prog: str) -> None:
        super().__init__(prog, width=_columns() - 2)


def _columns() -> int:
    try:
        return int(os.environ["COLUMNS"]) or _USUAL_COLUMNS
    except (KeyError, ValueError):
        pass
    try:
        return os.get_terminal_size(1).columns or _USUAL_COLUMNS
    except OSError:
        return _USUAL_COLUMNS


class _Parser(argparse.ArgumentParser):
    def __init__(self, *arguments: Any, **options: Any) -> None:
        super().__init__(*arguments, **{"formatter_class": _Formatter, **options})

    def error(self, message: str) -> NoReturn:
        raise UsageProblem(f"{message}; see `{self.prog} --help`")


def run(arguments: list[str]) -> int:
    """Run a command with its arguments; returns the exit status.

    Raises:
        UsageProblem: the words are wrong.
    """
    words, command = _split(arguments)
    try:
        given = vars(_parser(words[0]).parse_args(words))
    except SystemExit as stop:  # after printing a help text
        return int(stop.code or 0)
    _check_texts(given)
    if command:
        given["command"] = [*given.get("command", ()), *command]
    module, _, name = given.pop("run").partition(":")
    # Only what the command needs is loaded: its whole run takes no longer than that does.
    run_it: Callable[..., int | None] = getattr(import_module(f"jondel.cli.{module}"), name)
    given.pop("command_name")
    if given.pop("shows_changes", False):
        given["showing"] = _showing_of(given)
    return run_it(**given) or 0


def _showing_of(given: dict[str, Any]) -> Showing:
    """How changes are to be shown; takes that out of the arguments."""
    from jondel.cli.showing import Showing

    names = [name for name in Showing._fields if name in given]
    showing = Showing(**{name: given.pop(name) for name in names})
    return showing._replace(form="json") if showing.as_json else showing


_FILES = frozenset({"target", "one", "other", "folder", "word", "words", "command"})
"""Arguments that may be any bytes, as the names of files are."""


def _check_texts(given: dict[str, object]) -> None:
    """Raise ``UsageProblem`` for a text that is not valid in the terminal's encoding."""
    for name, value in given.items():
        for text in value if isinstance(value, list) else [value]:
            if name not in _FILES and isinstance(text, str):
                try:
                    text.encode()
                except UnicodeEncodeError:
                    shown = text.encode("utf-8", "backslashreplace").decode()
                    raise UsageProblem(f"{shown}: is not valid UTF-8; give it as text") from None


def _split(arguments: list[str]) -> tuple[list[str], list[str]]:
    """Part the words of ``record`` from those of the command that it is to run."""
    if arguments[:1] == ["record"] and "--" in arguments:
        at = arguments.index("--")
        return arguments[:at], arguments[at + 1 :]
    return arguments, []


def full_parser() -> argparse.ArgumentParser:
    """The parser for all commands."""
    return _parser("")


def _parser(only: str) -> argparse.ArgumentParser:
    """The parser for a command; for all of them where it is another word."""
    parser = _Parser("jondel", description=_DESCRIPTION)
    commands = parser.add_subparsers(dest="command_name", metavar="COMMAND", required=True)
    groups = [adds for adds, names in _GROUPS.items() if only in names] or list(_GROUPS)

    def command(name: str, run_it: str, about: str) -> argparse.ArgumentParser:
        added: argparse.ArgumentParser = commands.add_parser(name, help=about, description=about)
        added.set_defaults(run=run_it)
        return added

    for adds in groups:
        adds(command)
    return parser


_Add = Callable[[str, str, str], argparse.ArgumentParser]
"""Adds a command: its name, the module and the function that do it, and what it is for."""


def _target(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("target", metavar="TARGET", help="path or URL of the database")


def _lock(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--lock",
        action="store_true",
        help="read under a lock where the app writes without a pause; the app waits meanwhile",
    )


def _json(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--json", dest="as_json", action="store_true", help="print JSON and nothing else"
    )


def _label(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--label", metavar="TEXT", help="what to call the snapshot")


def _yes(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--yes", action="store_true", help="do it without asking")


def _showing(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--table",
        dest="tables",
        metavar="TABLE",
        action="append",
        default=[],
        help="only this table; may be repeated",
    )
    parser.add_argument("--internal", action="store_true", help="engine-internal tables too")
    parser.add_argument("--noise", action="store_true", help="also what noise rules hide")
    parser.add_argument(
        "--limit",
        type=_count,
        default=100,
        metavar="N",
        help="records to list for each table, 0 for all (100); not with --json",
    )
    _form(parser)


def _form(parser: argparse.ArgumentParser) -> None:
    """How changes are printed."""
    parser.set_defaults(shows_changes=True)
    parser.add_argument(
        "--format", dest="form", choices=("text", "markdown", "json"), default="text"
    )
    parser.add_argument(
        "--exit-code", action="store_true", help="exit with 4 where there are changes"
    )
    _inside(parser)
    _json(parser)


def _inside(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--inside",
        action="store_true",
        help="with --json: also what differs inside long texts, JSON, blobs and times",
    )


def _count(text: str) -> int:
    if not text.isdecimal():
        raise argparse.ArgumentTypeError(f"{text!r} is not a number from 0")
    return int(text)


def _seconds(text: str) -> float:
    from jondel.core.trail.watch import MOST_SECONDS

    try:
        seconds = float(text)
    except ValueError:
        seconds = -1.0
    if not 0 <= seconds <= MOST_SECONDS:
        most = f"{MOST_SECONDS:g}"
        raise argparse.ArgumentTypeError(f"{text!r} is not a number of seconds up to {most}")
    return seconds


def _add_opening(command: _Add) -> None:
    added = command(
        "open", "opening:open_target", "open the interface (the same as giving TARGET alone)"
    )
    added.add_argument("target", metavar="TARGET", nargs="?", help="path or URL of the database")
    added.add_argument(
        "--read-only", action="store_true", help="write nothing to the database, whatever is done"
    )
    added = command(
        "demo",
        "opening:open_demo",
        "open the demo: a harbour's database, and the app that writes it running beside",
    )
    added.add_argument(
        "--fresh", action="store_true", help="throw the demo's database and trail away first"
    )
    added.add_argument(
        "--engine",
        choices=("sqlite", "postgresql"),
        default="sqlite",
        help="what keeps the database; for postgresql, a server of the demo's own is started",
    )
    added.add_argument(
        "--clock", metavar="TIME", help="stop Harbour Desk's clock at this time (ISO)"
    )
    added = command("find", "opening:find_databases", "list the databases in a project")
    added.add_argument("folder", metavar="DIR", nargs="?", type=Path, default=Path("."))
    _json(added)


def _add_snapshots(command: _Add) -> None:
    added = command(
        "snapshot", "snapshotting:take_snapshot", "take a snapshot; prints its label or id"
    )
    _target(added)
    _lock(added)
    _label(added)
    _json(added)
    added = command(
        "trail",
        "trail_commands:trail",
        "show what is recorded, or tend it: `trail TARGET label STEP TEXT`, `note STEP TEXT`, "
        "`pin STEP`, `unpin STEP`, `delete STEP...`, `export STEP FILE`; `adopt PATH` has "
        "the trail of a database that was at PATH be this one's",
    )
    _target(added)
    added.add_argument("verb", nargs="?", choices=_TRAIL_VERBS, help="what to do; else show")
    added.add_argument("words", nargs="*", metavar="STEP", help="a label or an id, then a text")
    added.add_argument(
        "--labelled", action="store_true", help="delete also what has a label or is pinned"
    )
    _json(added)
    added = command(
        "record",
        "record:record_command",
        "snapshot, run a command, snapshot, show the changes; exits as the command did",
    )
    _target(added)
    _lock(added)
    added.add_argument("command", nargs="*", metavar="-- COMMAND...")
    _label(added)
    _form(added)
    added = command(
        "watch",
        "watching:watch_database",
        "take a snapshot after every app action until stopped",
    )
    _target(added)
    _lock(added)
    added.add_argument(
        "--settle",
        type=_seconds,
        metavar="SECONDS",
        help="an action is over after this time without a commit (0.4)",
    )
    added.add_argument(
        "--longest",
        type=_seconds,
        metavar="SECONDS",
        help="an action is over after this time all the same (2)",
    )
    added.add_argument("--steps", type=_count, default=0, metavar="N", help="stop after N steps")
    added.add_argument(
        "--exit-code", action="store_true", help="exit with 4 where a step changed anything"
    )
    added.add_argument(
        "--json", dest="as_json", action="store_true", help="print one line of JSON a step"
    )


def _add_comparing(command: _Add) -> None:
    added = command(
        "diff", "comparing:show_changes", "show what changed between two snapshots, or since one"
    )
    _target(added)
    _lock(added)
    added.add_argument("start", metavar="FROM", help='a label, an id, "last", or "now"')
    added.add_argument(
        "end", metavar="TO", nargs="?", default="now", help="likewise; now if not given"
    )
    _showing(added)
    added = command(
        "compare", "comparing:compare_files", "show how one database differs from another"
    )
    added.add_argument("one", metavar="A", help="path of a database")
    added.add_argument("other", metavar="B", help="path of another; what it has more is added")
    _lock(added)
    _showing(added)


def _add_restoring(command: _Add) -> None:
    added = command("restore", "restoring:restore_database", "put the database back to a snapshot")
    _target(added)
    _lock(added)
    added.add_argument("name", metavar="SNAPSHOT", help='a label, an id, or "last"')
    added.add_argument(
        "--table",
        dest="tables",
        metavar="TABLE",
        action="append",
        default=[],
        help="only this table; may be repeated",
    )
    _yes(added)
    _json(added)
    added = command(
        "take-back", "restoring:take_back", "undo what one step changed, or one record of it"
    )
    _target(added)
    _lock(added)
    added.add_argument("name", metavar="STEP", help="the label or id of the snapshot that ends it")
    added.add_argument("--table", metavar="TABLE", help="with --key: only one record")
    added.add_argument("--key", metavar="VALUE", action="append", default=[])
    _yes(added)
    _json(added)


def _add_asking(command: _Add) -> None:
    added = command(
        "query",
        "querying:run_query",
        "run statements and print their rows; nothing is written unless that is asked for; the "
        "tables of snapshots go by their ids and labels, as in s3.bookings",
    )
    _target(added)
    _lock(added)
    added.add_argument("sql", metavar="SQL", nargs="?", default="")
    added.add_argument("-f", "--file", metavar="FILE", help="read the statements from it; - stdin")
    added.add_argument(
        "--param",
        metavar="NAME=VALUE",
        dest="parameters",
        action="append",
        default=[],
        help="the value of a parameter; those without a name are 1, 2 and so on",
    )
    added.add_argument("--at", metavar="SNAPSHOT", help="ask a snapshot instead of the database")
    added.add_argument(
        "--rehearse",
        action="store_true",
        help="show what statements that write would change, and write nothing",
    )
    added.add_argument(
        "--write", action="store_true", help="run statements that write for real, as a step"
    )
    added.add_argument(
        "--foreign-keys",
        dest="foreign_keys",
        choices=("on", "off"),
        help="whether they are enforced for what writes; kept with the project",
    )
    added.add_argument(
        "--format",
        dest="form",
        choices=("text", "table", "csv", "json", "jsonl", "markdown", "html", "xlsx", "sql"),
        help="by default that of FILE's ending, else a table",
    )
    added.add_argument("-o", "--output", metavar="FILE", help="write the rows to a file")
    added.add_argument("--into", metavar="TABLE", help="the table that --format sql inserts into")
    added.add_argument(
        "--with-table", action="store_true", help="--format sql makes the table as well"
    )
    _json(added)
    _add_import(command)
    _add_export(command)
    added = command(
        "check-sql",
        "checking:check_sql",
        "find the SQL in an app's source and check it against the schema; nothing is run. Exits "
        "with 4 where something is wrong",
    )
    _target(added)
    _lock(added)
    added.add_argument("--at", metavar="SNAPSHOT", help="check against a snapshot's schema")
    added.add_argument("words", metavar="PATH", nargs="+", help="source files, and folders of them")
    _json(added)
    added = command(
        "history", "history:show_history", "show the versions of one record over the trail"
    )
    _target(added)
    _lock(added)
    added.add_argument("table", metavar="TABLE")
    added.add_argument("key", metavar="KEY", nargs="+", help="the values of the record's key")
    _json(added)


def _add_import(command: _Add) -> None:
    added = command(
        "import",
        "importing:import_file",
        "show what a file of rows would be imported as; --rehearse tries it out, --write does it, "
        "in one transaction",
    )
    _target(added)
    _lock(added)
    added.add_argument("file", metavar="FILE", help="CSV, JSON, JSON lines or XLSX")
    added.add_argument(
        "--into", metavar="TABLE", help="by default the one that FILE is named after"
    )
    added.add_argument("--new", action="store_true", help="make the table; its types are guessed")
    added.add_argument(
        "--match",
        dest="matches",
        metavar="COLUMN=NAME",
        action="append",
        default=[],
        help="which column of the table one of the file goes into; with no NAME it is left out",
    )
    added.add_argument(
        "--type",
        dest="types",
        metavar="COLUMN=TYPE",
        action="append",
        default=[],
        help="a type of a new table's column; or how values are read: as-it-is, comma-decimals, "
        "day-first, month-first, seconds, base64",
    )
    added.add_argument("--key", metavar="COLUMN", help="the primary key of a new table")
    added.add_argument(
        "--from", dest="from_format", choices=("csv", "json", "jsonl", "xlsx"),
        help="what FILE is, where its name does not say that",
    )  # fmt: skip
    added.add_argument("--encoding", metavar="NAME", help="that of a CSV file; by default UTF-8")
    added.add_argument("--delimiter", metavar="CHARACTER", help="what separates fields")
    added.add_argument(
        "--no-heading", dest="heading", action="store_false", help="the first row is a row"
    )
    added.add_argument("--null", metavar="TEXT", help="a text that stands for NULL")
    added.add_argument("--sheet", metavar="NAME", help="the sheet of a workbook")
    added.add_argument("--rehearse", action="store_true", help="show what it would change")
    added.add_argument("--write", action="store_true", help="import it for real, as a step")
    added.add_argument("--strict", action="store_true", help="import nothing if a row is rejected")
    added.add_argument(
        "--rejects", metavar="FILE", help="where rejected rows go; by default beside FILE"
    )
    added.add_argument("--foreign-keys", dest="foreign_keys", choices=("on", "off"))
    _json(added)


def _add_export(command: _Add) -> None:
    added = command(
        "export",
        "exporting:export",
        "write tables to a file, or to a folder of files; or the changes of a step",
    )
    _target(added)
    _lock(added)
    added.add_argument(
        "--table",
        dest="tables",
        metavar="TABLE",
        action="append",
        default=[],
        help="only this table; may be repeated; by default all",
    )
    added.add_argument(
        "-o", "--output", metavar="FILE", required=True, help="a folder for several in one format"
    )
    added.add_argument(
        "--format",
        dest="form",
        choices=("table", "csv", "json", "jsonl", "markdown", "html", "xlsx", "sql"),
        help="by default that of FILE's ending, else csv",
    )
    added.add_argument("--at", metavar="SNAPSHOT", help="as of a snapshot")
    added.add_argument("--changes", metavar="STEP", help="what a step changed")
    added.add_argument(
        "--record",
        dest="records",
        metavar="TABLE=KEY",
        action="append",
        default=[],
        help="a record with all that it points at, as sql or json; may be repeated",
    )
    added.add_argument(
        "--children",
        metavar="TABLE.COLUMN",
        action="append",
        default=[],
        help="with --record: also what points at it by this link; `all` for all links",
    )
    added.add_argument(
        "--renumber",
        metavar="FIRST",
        type=int,
        nargs="?",
        const=1,
        help="with --record: other numbers for keys and what points at them, from FIRST on",
    )
    added.add_argument(
        "--mask",
        dest="masks",
        metavar="TABLE.COLUMN",
        action="append",
        default=[],
        help="with --record: values of no meaning in a column, as in skippers.email",
    )
    added.add_argument(
        "--with-table", action="store_true", help="sql makes the tables and their indexes as well"
    )


def _add_connecting(command: _Add) -> None:
    added = command(
        "test",
        "connecting:test_connection",
        "try a connection to a server out: what it is, and what the user may do there",
    )
    _target(added)
    _json(added)
    added = command(
        "create",
        "connecting:create_database",
        "make a database: an empty SQLite file, or one on a server",
    )
    _target(added)
    _yes(added)


def _add_keeping(command: _Add) -> None:
    added = command(
        "noise",
        "settings_commands:noise",
        "show the noise rules of a database's project, or change them: "
        "`noise TARGET add tables|columns|only NAME`",
    )
    _target(added)
    added.add_argument("verb", nargs="?", choices=_NOISE_VERBS)
    added.add_argument("kind", nargs="?", choices=("tables", "columns", "only"))
    added.add_argument("rule", nargs="?", metavar="NAME", help="as in *.updated_at")
    _json(added)
    added = command(
        "store",
        "settings_commands:store",
        "show what the store holds, or tend it: `store budget 5GB`, "
        "`store largest-table 10GB` (of a server's; larger ones are left out), `store move DIR`, "
        "`store empty [TARGET]`, `store check`, `store mend [TARGET]`",
    )
    added.add_argument("verb", nargs="?", choices=_STORE_VERBS)
    added.add_argument("word", nargs="?", metavar="SIZE|DIR|TARGET")
    _yes(added)
    _json(added)


_GROUPS: dict[Callable[[_Add], None], tuple[str, ...]] = {
    _add_opening: ("open", "demo", "find"),
    _add_snapshots: ("snapshot", "trail", "record", "watch"),
    _add_comparing: ("diff", "compare"),
    _add_restoring: ("restore", "take-back"),
    _add_asking: ("query", "import", "export", "check-sql", "history"),
    _add_connecting: ("test", "create"),
    _add_keeping: ("noise", "store"),
}
"""What adds commands, and which."""
