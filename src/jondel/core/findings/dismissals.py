"""Findings that a project does not want to hear of again, in its file.

[[dismissed]]
kind = "blanks"
where = "skippers.phone"          # a table and a column; * stands for any text
reason = "typed as on the card"
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from fnmatch import fnmatchcase
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from jondel.core.files.toml_entries import TomlFile
from jondel.core.findings.finding import FINDING_KINDS, Finding
from jondel.core.trail.project import Project

if TYPE_CHECKING:
    import tomlkit


class Dismissal(NamedTuple):
    """Which findings are dismissed, and why."""

    kind: str
    where: str
    reason: str

    def covers(self, finding: Finding) -> bool:
        """Whether a finding is one of these."""
        if finding.kind != self.kind:
            return False
        table = finding.table.name if finding.table is not None else ""
        short = f"{table}.{finding.column}" if finding.column else table
        where = self.where.casefold().replace("[", "[[]")
        return any(fnmatchcase(place.casefold(), where) for place in (finding.place, short))


def dismissals_in(file: TomlFile) -> list[Dismissal]:
    """The dismissals of a project's file.

    Raises:
        ProjectInvalid: one cannot be understood; the message says the line and the key.
    """
    found = []
    for entry in file.top().tables("dismissed"):
        kind = entry.choice("kind", FINDING_KINDS)
        where, reason = entry.text("where"), entry.text("reason")
        entry.finish()
        if kind is None or where is None:
            entry.refuse("lacks what is dismissed: kind = ... and where = ...")
        found.append(Dismissal(kind, where, reason or ""))
    return found


def dismiss(project: Project, dismissal: Dismissal) -> Path:
    """Write a dismissal into the project's file. Raises ``ProjectInvalid``, ``RuleInvalid``."""
    import tomlkit

    dismissals_in(TomlFile(project.file))  # says what is wrong with it

    def change(document: tomlkit.TOMLDocument) -> None:
        entries = document.get("dismissed")
        if not isinstance(entries, tomlkit.items.AoT):
            entries = tomlkit.aot()
        table = tomlkit.table()
        for name, value in dismissal._asdict().items():
            table[name] = value
        entries.append(table)
        document["dismissed"] = entries

    return project.rewrite(change)


def without_dismissed(
    findings: Iterable[Finding], dismissals: Iterable[Dismissal]
) -> Iterator[Finding]:
    """The findings that nobody has dismissed."""
    known = list(dismissals)
    for finding in findings:
        if not any(dismissal.covers(finding) for dismissal in known):
            yield finding
