"""What a project keeps about its database in a file of its own, to be shared like its code.

The file is ``jondel.toml``, in the database's folder or the nearest one above it that has one. It
is made where the project begins: the nearest folder above with a sign of version control, else the
database's own folder; and in Jondel's home where neither may be written to.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Literal, NotRequired, TypedDict

from jondel.core.browse.links import Link, LinkDecisions
from jondel.core.diff.noise import KINDS, NoiseRules, check_rule
from jondel.core.engines.registry import is_on_server
from jondel.core.errors import RuleInvalid
from jondel.core.files.claims import held
from jondel.core.files.home import jondel_home, private_folder
from jondel.core.files.replacement import replace_text
from jondel.core.files.toml_files import read_toml, section
from jondel.core.model.addresses import TableId
from jondel.core.trail.watch import MOST_SECONDS, WatchTimes

if TYPE_CHECKING:
    import tomlkit

FILE_NAME = "jondel.toml"
_SIGNS_OF_A_PROJECT = (".git", ".hg", ".svn")


class Project:
    """The project of the database at a location."""

    def __init__(
        self, location: str, home: Path | None = None, *, file: Path | None = None
    ) -> None:
        """``file`` is the project's file where somebody has said which that is."""
        self._given = file
        # A server's database belongs to the project that one is in.
        self._folder = Path.cwd() if is_on_server(location) else Path(location).parent
        digest = hashlib.sha256(location.encode("utf-8", "surrogateescape")).hexdigest()[:16]
        self._fallback = (home or jondel_home()) / "projects" / f"{digest}.toml"
        self._lock = self._fallback.with_name("lock")
        """Held while a project's file is rewritten, so that no Jondel drops what another wrote."""

    @property
    def file(self) -> Path:
        """The file that holds what is kept, or the one to be made for it."""
        if self._given is not None:
            return self._given
        for folder in self._folders():
            if (folder / FILE_NAME).is_file():
                return folder / FILE_NAME
        if self._fallback.is_file():
            return self._fallback
        for folder in (self._begin, self._folder):
            if os.access(folder, os.W_OK):
                return folder / FILE_NAME
        return self._fallback

    @property
    def root(self) -> Path:
        """The folder that the project is in, whether or not it has a file."""
        if self._given is not None:
            return self._given.parent
        with_file = (f for f in self._folders() if (f / FILE_NAME).is_file())
        return next(with_file, self._begin)

    @property
    def _begin(self) -> Path:
        signed = (f for f in self._folders() if any((f / s).exists() for s in _SIGNS_OF_A_PROJECT))
        return next(signed, self._folder)

    def noise_rules(self) -> NoiseRules:
        """The noise rules in force.

        Raises:
            RuleInvalid: the file cannot be read or understood.
        """
        path = self.file
        names = section(
            path, read_toml(path, RuleInvalid), "noise", dict[str, list[str]], RuleInvalid
        )
        return _rules(names or {}, path)

    def watch_times(self) -> WatchTimes:
        """When an action of the app is over, while it is watched.

        Raises:
            RuleInvalid: the file cannot be read or understood.
        """
        path = self.file
        table = section(path, read_toml(path, RuleInvalid), "watch", _Watch, RuleInvalid) or {}
        times = WatchTimes(**table)
        for name, seconds in times._asdict().items():
            if not 0 <= seconds <= MOST_SECONDS:
                raise RuleInvalid(
                    f"{path}: watch.{name}: expected a number of seconds up to "
                    f"{MOST_SECONDS:g}; fix the file"
                )
        return times

    def takes_when_left(self) -> bool:
        """Whether what is typed in a cell is accepted when the cell is left, else it is cancelled.

        Raises:
            RuleInvalid: the file cannot be read or understood.
        """
        path = self.file
        table = section(path, read_toml(path, RuleInvalid), "edit", _Edit, RuleInvalid) or {}
        return table.get("leaving", "accepts") == "accepts"

    def enforces_foreign_keys(self) -> bool:
        """Whether foreign keys are enforced for scripts that a person runs.

        Raises:
            RuleInvalid: the file cannot be read or understood.
        """
        path = self.file
        table = section(path, read_toml(path, RuleInvalid), "query", _Query, RuleInvalid) or {}
        return table.get("foreign_keys", "on") == "on"

    def enforce_foreign_keys(self, enforced: bool) -> Path:
        """Keep whether foreign keys are enforced for scripts; see ``change_noise_rules``."""
        import tomlkit

        def rewrite(document: tomlkit.TOMLDocument) -> None:
            self.enforces_foreign_keys()  # raises where the file is broken
            table = document.setdefault("query", tomlkit.table())
            table["foreign_keys"] = "on" if enforced else "off"

        return self.rewrite(rewrite)

    def change_noise_rules(self, change: Callable[[NoiseRules], NoiseRules]) -> Path:
        """Change the rules as they are in the file now, and leave everything else in it as it is.

        Returns the file.

        Raises:
            RuleInvalid: the file cannot be read or written.
        """
        import tomlkit  # slow to load, and needed only here

        def rewrite(document: tomlkit.TOMLDocument) -> None:
            # Raises where the file is broken, before anything is overwritten.
            rules = change(self.noise_rules())
            table = document.setdefault("noise", tomlkit.table())
            for kind in KINDS:
                names = list(getattr(rules, kind))
                if names:
                    table[kind] = names
                elif kind in table:
                    del table[kind]

        return self.rewrite(rewrite)

    def link_decisions(self) -> LinkDecisions:
        """What was decided of links between tables.

        Raises:
            RuleInvalid: the file cannot be read or understood.
        """
        path = self.file
        decided: dict[str, set[Link]] = {kind: set() for kind in LinkDecisions._fields}
        tables = read_toml(path, RuleInvalid)
        entries = section(path, tables, "links", list[_LinkEntry], RuleInvalid) or []
        for number, entry in enumerate(entries):
            decided[entry["standing"]].add(_link(path, number, entry))
        return LinkDecisions(**{kind: frozenset(links) for kind, links in decided.items()})

    def change_link_decisions(self, change: Callable[[LinkDecisions], LinkDecisions]) -> Path:
        """Change what was decided of links; see ``change_noise_rules``."""
        import tomlkit

        def rewrite(document: tomlkit.TOMLDocument) -> None:
            decisions = change(self.link_decisions())
            entries = tomlkit.aot()
            for kind in LinkDecisions._fields:
                for link in sorted(getattr(decisions, kind), key=repr):
                    entry = tomlkit.table()
                    entry["child"], entry["columns"] = link.child.spelled, list(link.columns)
                    entry["parent"], entry["keys"] = link.parent.spelled, list(link.parent_columns)
                    if link.when is not None:
                        entry["when"] = list(link.when)
                    entry["standing"] = kind
                    entries.append(entry)
            if entries:
                document["links"] = entries
            elif "links" in document:
                del document["links"]

        return self.rewrite(rewrite)

    def stamp(self) -> tuple[str, int, int]:
        """Differs once the file was changed, by whomever."""
        path = self.file
        try:
            info = path.stat()
        except OSError:
            return str(path), 0, 0
        return str(path), info.st_mtime_ns, info.st_size

    def rewrite(self, change: Callable[[tomlkit.TOMLDocument], None]) -> Path:
        """Change the file as it is now; whatever is not changed keeps its words and its order.

        Raises:
            RuleInvalid: it cannot be read or written.
        """
        import tomlkit

        path = self.file
        if path == self._fallback:
            private_folder(path.parent)
        with held(self._lock):
            read_toml(path, RuleInvalid)  # says what is wrong with it
            there = path.exists()
            document = tomlkit.parse(path.read_text("utf-8")) if there else tomlkit.document()
            change(document)
            try:
                replace_text(path, tomlkit.dumps(document), mode=0o666, durable=True)
            except OSError as error:
                raise RuleInvalid(f"{path}: cannot be written ({error.strerror})") from error
        return path

    def _folders(self) -> list[Path]:
        return [self._folder, *self._folder.parents]


class _LinkEntry(TypedDict):
    """A decision on a link as the file has it."""

    child: str
    columns: list[str]
    parent: str
    keys: list[str]
    standing: Literal["confirmed", "refused", "added"]
    when: NotRequired[tuple[str, str | int | float]]
    """A column and the value it must have for the link to hold."""


class _Edit(TypedDict):
    leaving: NotRequired[Literal["accepts", "cancels"]]


class _Query(TypedDict):
    foreign_keys: NotRequired[Literal["on", "off"]]


class _Watch(TypedDict):
    settle: NotRequired[float]
    longest: NotRequired[float]


def _link(path: Path, number: int, entry: _LinkEntry) -> Link:
    if not entry["columns"] or len(entry["columns"]) != len(entry["keys"]):
        raise RuleInvalid(
            f"{path}: links[{number}]: columns and keys must name as many columns; fix the file"
        )
    return Link(
        TableId.parsed(entry["child"]),
        tuple(entry["columns"]),
        TableId.parsed(entry["parent"]),
        tuple(entry["keys"]),
        entry.get("when"),
    )


def _rules(names: dict[str, list[str]], path: Path) -> NoiseRules:
    rules: dict[str, tuple[str, ...]] = {}
    for kind in KINDS:
        for name in names.get(kind, []):
            try:
                check_rule(kind, name)
            except RuleInvalid as error:
                raise RuleInvalid(f"{path}: {error}") from error
        rules[kind] = tuple(names.get(kind, []))
    return NoiseRules(**rules)
