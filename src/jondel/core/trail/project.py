"""What a project keeps about its database in a file of its own, to be shared like its code.

The file is ``jondel.toml``, in the database's folder or the nearest one above it that has one. It
is made where the project begins: the nearest folder above with a sign of version control, else the
database's own folder; and in Jondel's home where neither may be written to.
"""

from __future__ import annotations

import hashlib
import os
import tomllib
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

from jondel.core.browse.links import Link, LinkDecisions
from jondel.core.diff.noise import KINDS, NoiseRules, check_rule
from jondel.core.errors import RuleInvalid
from jondel.core.keeping.home import jondel_home, private_folder
from jondel.core.trail.watch import DEFAULT_SETTLE_SECONDS, LONGEST_SETTLE_SECONDS

if TYPE_CHECKING:
    import tomlkit

FILE_NAME = "jondel.toml"
_SIGNS_OF_A_PROJECT = (".git", ".hg", ".svn")


class Project:
    """The project of the database at a location."""

    def __init__(self, location: str, home: Path | None = None) -> None:
        self._folder = Path(location).parent
        digest = hashlib.sha256(location.encode("utf-8", "surrogateescape")).hexdigest()[:16]
        self._fallback = (home or jondel_home()) / "projects" / f"{digest}.toml"

    @property
    def file(self) -> Path:
        """The file that holds what is kept, or the one to be made for it."""
        for folder in self._folders():
            if (folder / FILE_NAME).is_file():
                return folder / FILE_NAME
        if self._fallback.is_file():
            return self._fallback
        root = next(
            (f for f in self._folders() if any((f / s).exists() for s in _SIGNS_OF_A_PROJECT)),
            self._folder,
        )
        for folder in (root, self._folder):
            if os.access(folder, os.W_OK):
                return folder / FILE_NAME
        return self._fallback

    def noise_rules(self) -> NoiseRules:
        """The noise rules in force.

        Raises:
            RuleInvalid: the file cannot be read or understood.
        """
        path = self.file
        return _rules(_read(path).get("noise", {}), path)

    def settle_seconds(self) -> float:
        """How long an app must be quiet for an action to be over, while it is watched.

        Raises:
            RuleInvalid: the file cannot be read or understood.
        """
        path = self.file
        table = _read(path).get("watch", {})
        found = table.get("settle", DEFAULT_SETTLE_SECONDS) if isinstance(table, dict) else None
        if not isinstance(found, int | float) or not 0 <= found <= LONGEST_SETTLE_SECONDS:
            raise RuleInvalid(
                f"{path}: watch.settle is not a number of seconds up to "
                f"{LONGEST_SETTLE_SECONDS:g}; mend the file"
            )
        return float(found)

    def keep_noise_rules(self, rules: NoiseRules) -> Path:
        """Write the rules, leaving everything else in the file as it is; returns the file.

        Raises:
            RuleInvalid: the file cannot be read or written.
        """
        import tomlkit  # slow to load, and needed only here

        self.noise_rules()  # raises where the file is broken, before anything is overwritten

        def change(document: tomlkit.TOMLDocument) -> None:
            table = document.setdefault("noise", tomlkit.table())
            for kind in KINDS:
                names = list(getattr(rules, kind))
                if names:
                    table[kind] = names
                elif kind in table:
                    del table[kind]

        return self._rewrite(change)

    def link_decisions(self) -> LinkDecisions:
        """What was decided of links between tables.

        Raises:
            RuleInvalid: the file cannot be read or understood.
        """
        path = self.file
        found: dict[str, set[Link]] = {kind: set() for kind in LinkDecisions._fields}
        entries = _read(path).get("links", [])
        for entry in entries if isinstance(entries, list) else [None]:
            decided = _link(entry)
            if decided is None:
                raise RuleInvalid(f"{path}: a table of links is not complete; mend the file")
            found[decided[0]].add(decided[1])
        return LinkDecisions(**{kind: frozenset(links) for kind, links in found.items()})

    def keep_link_decisions(self, decisions: LinkDecisions) -> Path:
        """Write what was decided of links; see ``keep_noise_rules``."""
        import tomlkit

        self.link_decisions()

        def change(document: tomlkit.TOMLDocument) -> None:
            entries = tomlkit.aot()
            for kind in LinkDecisions._fields:
                for link in sorted(getattr(decisions, kind), key=repr):
                    entry = tomlkit.table()
                    entry["child"], entry["columns"] = link.child, list(link.columns)
                    entry["parent"], entry["keys"] = link.parent, list(link.parent_columns)
                    if link.when is not None:
                        entry["when"] = list(link.when)
                    entry["standing"] = kind
                    entries.append(entry)
            if entries:
                document["links"] = entries
            elif "links" in document:
                del document["links"]

        return self._rewrite(change)

    def _rewrite(self, change: Callable[[tomlkit.TOMLDocument], None]) -> Path:
        import tomlkit

        path = self.file
        if path == self._fallback:
            private_folder(path.parent)
        document = tomlkit.parse(path.read_text("utf-8")) if path.exists() else tomlkit.document()
        change(document)
        unfinished = path.with_name(f".{path.name}.unfinished")
        try:
            unfinished.write_text(tomlkit.dumps(document), "utf-8")
            if path.exists():
                unfinished.chmod(path.stat().st_mode & 0o777)
            unfinished.replace(path)
        except OSError as error:
            with suppress(OSError):
                unfinished.unlink()
            raise RuleInvalid(f"{path}: cannot be written ({error.strerror})") from error
        return path

    def _folders(self) -> list[Path]:
        return [self._folder, *self._folder.parents]


def _read(path: Path) -> dict[str, Any]:
    try:
        return tomllib.loads(path.read_text("utf-8"))
    except FileNotFoundError:
        return {}
    except (OSError, UnicodeDecodeError) as error:
        raise RuleInvalid(f"{path}: cannot be read ({error}); mend the file") from error
    except tomllib.TOMLDecodeError as error:
        raise RuleInvalid(f"{path}: not valid TOML ({error}); mend the file") from error


def _link(entry: Any) -> tuple[str, Link] | None:
    """A decision and the link it is about, of one entry of the file."""
    match entry:
        case {
            "child": str(child),
            "columns": [*columns],
            "parent": str(parent),
            "keys": [*keys],
            "standing": "confirmed" | "refused" | "added" as standing,
        } if columns and len(columns) == len(keys):
            named = all(isinstance(name, str) for name in (*columns, *keys))
            when = entry.get("when")
            if when is not None and not (
                isinstance(when, list) and len(when) == 2 and isinstance(when[0], str)
            ):
                return None
            condition = (when[0], when[1]) if when is not None else None
            link = Link(child, tuple(columns), parent, tuple(keys), condition)
            return (standing, link) if named else None
    return None


def _rules(table: Any, path: Path) -> NoiseRules:
    found: dict[str, tuple[str, ...]] = {}
    for kind in KINDS:
        names = table.get(kind, []) if isinstance(table, dict) else None
        if not isinstance(names, list) or not all(isinstance(name, str) for name in names):
            raise RuleInvalid(f"{path}: noise.{kind} is not a list of names; mend the file")
        for name in names:
            try:
                check_rule(kind, name)
            except RuleInvalid as error:
                raise RuleInvalid(f"{path}: {error}") from error
        found[kind] = tuple(names)
    return NoiseRules(**found)
