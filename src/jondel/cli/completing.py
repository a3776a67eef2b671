"""What a shell offers when the Tab key is pressed: commands, databases, labels, tables.

Completion itself is argcomplete's; here is what it is to complete.
"""

from __future__ import annotations

import argparse
import os
from collections.abc import Iterable, Iterator
from contextlib import closing, suppress
from pathlib import Path

from jondel.cli.main import COMMANDS
from jondel.cli.problems import UsageProblem
from jondel.core.errors import JondelError

SHELLS = ("bash", "zsh", "fish")
_DATABASES, _STEPS, _TABLES = ("TARGET", "A", "B"), ("FROM", "TO", "SNAPSHOT", "STEP"), ("TABLE",)
"""How arguments are called in the help, by what can stand there."""


def complete() -> None:
    """Answer a shell that asks what could stand here; it said so in the environment."""
    import argcomplete

    from jondel.cli.parser import full_parser

    parser = full_parser()
    for action in _actions(parser):
        if action.dest == "command_name":
            action.completer = _first_words  # type: ignore[attr-defined]
        elif action.metavar in _DATABASES:
            action.completer = _databases  # type: ignore[attr-defined]
        elif action.metavar in _STEPS:
            action.completer = _steps  # type: ignore[attr-defined]
        elif action.metavar in _TABLES:
            action.completer = _tables  # type: ignore[attr-defined]
    argcomplete.autocomplete(parser)


def _actions(parser: argparse.ArgumentParser) -> Iterator[argparse.Action]:
    for action in parser._actions:
        yield action
        if isinstance(action, argparse._SubParsersAction):
            for added in action.choices.values():
                yield from _actions(added)


def _first_words(prefix: str, **_: object) -> Iterable[str]:
    """Commands, and databases: one alone opens the interface."""
    return [*(name for name in COMMANDS if name.startswith(prefix)), *_databases(prefix)]


def _databases(prefix: str, **_: object) -> Iterable[str]:
    """Files that are databases, and folders, that begin so."""
    from jondel.core.engines.registry import is_database

    folder, slash, start = prefix.rpartition("/")
    before = f"{folder}{slash}"
    place = Path(before or ".").expanduser()
    found = []
    with suppress(OSError):
        for path in place.iterdir():
            if not path.name.startswith(start) or (path.name.startswith(".") and not start):
                continue
            shown = f"{before}{path.name}"
            if path.is_dir():
                found.append(f"{shown}/")
            elif is_database(path):
                found.append(shown)
    return sorted(found)


def _steps(prefix: str, parsed_args: argparse.Namespace, **_: object) -> Iterable[str]:
    """The labels of the target's snapshots, and their ids."""
    from jondel.core.engines.registry import location_of
    from jondel.core.trail.trail import Trail

    target = getattr(parsed_args, "target", None)
    names = ["last", "now"]
    with suppress(JondelError, OSError), closing(Trail(location_of(target or ""))) as trail:
        for snapshot in trail.snapshots() if target and not trail.empty else ():
            names += [snapshot.label, snapshot.id] if snapshot.label else [snapshot.id]
    return [name for name in names if name.startswith(prefix)]


def _tables(prefix: str, parsed_args: argparse.Namespace, **_: object) -> Iterable[str]:
    """The target's tables."""
    from jondel.core.engines.registry import open_database

    target = getattr(parsed_args, "target", None)
    with suppress(JondelError, OSError):
        if target:
            with closing(open_database(target)) as database:
                tables = [table.title for table in database.schema().tables if not table.internal]
                return [name for name in tables if name.startswith(prefix)]
    return []


def install(shell: str | None) -> str:
    """Write what a shell needs to ask us where that shell looks for it; returns what to tell.

    Raises:
        UsageProblem: it is not known which shell, or the file cannot be written.
    """
    from argcomplete.shell_integration import shellcode

    name = shell or Path(os.environ.get("SHELL", "")).name
    if name not in SHELLS:
        raise UsageProblem(
            f"{name or 'no shell is named in SHELL'}: completion is there for {', '.join(SHELLS)}; "
            "as in `jondel --install-completion bash`"
        )
    path = _file_for(name)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(shellcode(["jondel"], shell=name), "utf-8")
    except OSError as error:
        raise UsageProblem(f"{path}: cannot be written ({error.strerror})") from error
    further = {
        "bash": f"new shells with bash-completion read it by themselves, others by `. {path}`",
        "zsh": f"have `fpath+=({path.parent})` before `compinit` in your .zshrc",
        "fish": "new shells read it by themselves",
    }
    return f"{path}: written; {further[name]}"


def _file_for(shell: str) -> Path:
    data = Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share")
    settings = Path(os.environ.get("XDG_CONFIG_HOME") or Path.home() / ".config")
    return {
        "bash": data / "bash-completion" / "completions" / "jondel",
        "zsh": data / "zsh" / "site-functions" / "_jondel",
        "fish": settings / "fish" / "completions" / "jondel.fish",
    }[shell]
