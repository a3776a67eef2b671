"""The words of the ``jondel`` command, and which function each of its commands runs."""

from __future__ import annotations

import argparse
import os
from collections.abc import Callable
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, Any, NoReturn

from jondel.cli.arguments import (
    Add,
    as_json,
    changes_form,
    count,
    label,
    lock,
    repeated,
    seconds,
    showing,
    target,
    with_linked,
    yes,
)
from jondel.cli.data_arguments import add_data_commands
from jondel.cli.problems import UsageProblem

if TYPE_CHECKING:
    from jondel.cli.showing import Showing

_USUAL_COLUMNS = 80
_TRAIL_VERBS = ("label", "note", "pin", "unpin", "delete", "export", "adopt", "transactions")
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


_FILES = frozenset(
    {"target", "one", "other", "folder", "word", "words", "command", "file", "output"}
)
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


def _add_opening(command: Add) -> None:
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
    as_json(added)


def _add_snapshots(command: Add) -> None:
    added = command(
        "snapshot", "snapshotting:take_snapshot", "take a snapshot; prints its label or id"
    )
    target(added)
    lock(added)
    label(added)
    as_json(added)
    added = command(
        "trail",
        "trail_commands:trail",
        "show what is recorded, or tend it: `trail TARGET label STEP TEXT`, `note STEP TEXT`, "
        "`pin STEP`, `unpin STEP`, `delete STEP...`, `export STEP FILE`; `adopt PATH` has "
        "the trail of a database that was at PATH be this one's; `transactions STEP` shows what "
        "came in which transaction",
    )
    target(added)
    added.add_argument("verb", nargs="?", choices=_TRAIL_VERBS, help="what to do; else show")
    added.add_argument("words", nargs="*", metavar="STEP", help="a label or an id, then a text")
    added.add_argument(
        "--labelled", action="store_true", help="delete also what has a label or is pinned"
    )
    as_json(added)
    added = command(
        "record",
        "record:record_command",
        "snapshot, run a command, snapshot, show the changes; exits as the command did",
    )
    target(added)
    lock(added)
    added.add_argument("command", nargs="*", metavar="-- COMMAND...")
    label(added)
    added.add_argument(
        "--expect",
        metavar="NAME",
        help="hold it against this expectation of jondel.toml, and exit with 3 where it is not "
        "met; where there is none yet, one is made of what was seen",
    )
    added.add_argument(
        "--accept", action="store_true", help="with --expect: from now on expect what is seen"
    )
    changes_form(added)
    added = command(
        "watch",
        "watching:watch_database",
        "take a snapshot after every app action until stopped",
    )
    target(added)
    lock(added)
    added.add_argument(
        "--settle",
        type=seconds,
        metavar="SECONDS",
        help="an action is over after this time without a commit (0.4)",
    )
    added.add_argument(
        "--longest",
        type=seconds,
        metavar="SECONDS",
        help="an action is over after this time all the same (2)",
    )
    added.add_argument("--steps", type=count, default=0, metavar="N", help="stop after N steps")
    added.add_argument(
        "--exit-code", action="store_true", help="exit with 4 where a step changed anything"
    )
    added.add_argument(
        "--json", dest="as_json", action="store_true", help="print one line of JSON a step"
    )


def _add_comparing(command: Add) -> None:
    added = command(
        "diff", "comparing:show_changes", "show what changed between two snapshots, or since one"
    )
    target(added)
    lock(added)
    added.add_argument("start", metavar="FROM", help='a label, an id, "last", or "now"')
    added.add_argument(
        "end", metavar="TO", nargs="?", default="now", help="likewise; now if not given"
    )
    showing(added)
    added = command(
        "compare", "comparing:compare_files", "show how one database differs from another"
    )
    added.add_argument("one", metavar="A", help="path of a database")
    added.add_argument("other", metavar="B", help="path of another; what it has more is added")
    lock(added)
    showing(added)


def _add_restoring(command: Add) -> None:
    added = command("restore", "restoring:restore_database", "put the database back to a snapshot")
    target(added)
    lock(added)
    added.add_argument("name", metavar="SNAPSHOT", help='a label, an id, or "last"')
    repeated(added, "--table", "TABLE", "only this table; may be repeated", "tables")
    with_linked(added)
    yes(added)
    as_json(added)
    added = command(
        "take-back", "restoring:take_back", "undo what one step changed, or one record of it"
    )
    target(added)
    lock(added)
    added.add_argument("name", metavar="STEP", help="the label or id of the snapshot that ends it")
    added.add_argument("--table", metavar="TABLE", help="with --key: only one record")
    added.add_argument("--key", metavar="VALUE", action="append", default=[])
    with_linked(added)
    yes(added)
    as_json(added)


def _add_verifying(command: Add) -> None:
    added = command(
        "verify",
        "verifying:verify",
        "run the project's actions and check what each writes; exits with 3 where that is not "
        "what is expected",
    )
    added.add_argument(
        "file", metavar="jondel.toml", nargs="?", help="the project's file; found from here up"
    )
    added.add_argument("--database", metavar="TARGET", help="instead of the one the file says")
    repeated(added, "--only", "NAME", "only this action; may be repeated")
    added.add_argument("--junit", metavar="FILE", help="also write JUnit XML, for a CI server")
    added.add_argument("--report", metavar="FILE", help="also write a report: .html, .md or .json")
    repeated(
        added,
        "--mask",
        "TABLE.COLUMN",
        "tell that it changed, not what it is",
        "masked",
    )
    added.add_argument(
        "--accept", action="store_true", help="from now on expect what is seen this time"
    )
    as_json(added)


def _add_findings(command: Add) -> None:
    added = command(
        "findings",
        "finding_data:find",
        "look for suspicious data, in the whole database or in what one step wrote",
    )
    target(added)
    lock(added)
    added.add_argument("--step", metavar="STEP", help="only what this step wrote: a label or an id")
    repeated(added, "--table", "TABLE", "only this table; may be repeated", "tables")
    added.add_argument(
        "--dismiss",
        dest="dismissed",
        nargs=2,
        metavar=("KIND", "WHERE"),
        help="do not tell of such any more in this project, as in --dismiss blanks skippers.phone",
    )
    added.add_argument("--reason", metavar="TEXT", help="with --dismiss: why")
    added.add_argument("--exit-code", action="store_true", help="exit with 4 where there are any")
    as_json(added)


def _add_reports(command: Add) -> None:
    added = command(
        "report",
        "reporting:report",
        "write a step, or all steps from one to another, as a page (.html), .md or .json",
    )
    target(added)
    added.add_argument("start", metavar="FROM", help="a step: a label or an id")
    added.add_argument(
        "end", metavar="TO", nargs="?", help="the last step, where several are wanted"
    )
    added.add_argument("-o", "--output", metavar="FILE", required=True)
    repeated(added, "--mask", "TABLE.COLUMN", "tell that it changed, not what it is", "masks")
    added = command(
        "chart",
        "reporting:chart",
        "draw `changes` by step and table, a `column` before and after a step (with --step and "
        "--column), or `actions` over their runs",
    )
    target(added)
    added.add_argument("what", choices=("changes", "column", "actions"))
    added.add_argument("-o", "--output", metavar="FILE", help=".svg or .pdf; else in the terminal")
    added.add_argument("--step", metavar="STEP", help="for column: a label or an id")
    added.add_argument("--column", metavar="TABLE.COLUMN", help="for column")


def _add_connecting(command: Add) -> None:
    added = command(
        "test",
        "connecting:test_connection",
        "try a connection to a server out: what it is, and what the user may do there",
    )
    target(added)
    as_json(added)
    added = command(
        "create",
        "connecting:create_database",
        "make a database: an empty SQLite file, or one on a server",
    )
    target(added)
    yes(added)


def _add_keeping(command: Add) -> None:
    added = command(
        "noise",
        "settings_commands:noise",
        "show the noise rules of a database's project, or change them: "
        "`noise TARGET add tables|columns|only NAME`",
    )
    target(added)
    added.add_argument("verb", nargs="?", choices=_NOISE_VERBS)
    added.add_argument("kind", nargs="?", choices=("tables", "columns", "only"))
    added.add_argument("rule", nargs="?", metavar="NAME", help="as in *.updated_at")
    as_json(added)
    added = command(
        "store",
        "settings_commands:store",
        "show what the store holds, or tend it: `store budget 5GB`, "
        "`store largest-table 10GB` (of a server's; larger ones are left out), `store move DIR`, "
        "`store empty [TARGET]`, `store check`, `store mend [TARGET]`",
    )
    added.add_argument("verb", nargs="?", choices=_STORE_VERBS)
    added.add_argument("word", nargs="?", metavar="SIZE|DIR|TARGET")
    yes(added)
    as_json(added)


_GROUPS: dict[Callable[[Add], None], tuple[str, ...]] = {
    _add_opening: ("open", "demo", "find"),
    _add_snapshots: ("snapshot", "trail", "record", "watch"),
    _add_comparing: ("diff", "compare"),
    _add_restoring: ("restore", "take-back"),
    add_data_commands: ("query", "import", "export", "check-sql", "history"),
    _add_verifying: ("verify",),
    _add_findings: ("findings",),
    _add_reports: ("report", "chart"),
    _add_connecting: ("test", "create"),
    _add_keeping: ("noise", "store"),
}
"""What adds commands, and which."""
