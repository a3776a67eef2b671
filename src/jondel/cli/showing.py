"""How commands show changes."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING, NamedTuple

from jondel.cli.output import counted, say, tell, warn_unread
from jondel.core.diff.compare import Scope
from jondel.core.diff.noise import NoiseRules
from jondel.core.model.addresses import TableId
from jondel.core.trail.project import Project

if TYPE_CHECKING:
    from jondel.core.model.changes import Changes

LISTED_RECORDS = 100
CHANGED = 4
"""The exit status where there are changes and that was asked for."""


class Showing(NamedTuple):
    """How changes are shown: which, in what form, and whether the exit status says so."""

    tables: Sequence[str] = ()
    internal: bool = False
    noise: bool = False
    limit: int = LISTED_RECORDS
    inside: bool = False
    form: str = "text"
    as_json: bool = False
    exit_code: bool = False

    def scope(self, rules: NoiseRules, only: frozenset[TableId] | None = None) -> Scope:
        """What to compare; ``only`` are the tables that ``tables`` calls by name."""
        inside = self.inside or self.form != "json"
        return Scope(self.internal, only, self.limit or None, noise=rules, inside=inside)

    def status(self, changed: bool) -> int:
        """The exit status."""
        return CHANGED if changed and self.exit_code else 0


def rules_of(location: str, noise: bool = False) -> NoiseRules:
    """The noise rules of a database's project; none where noise is wanted."""
    return NoiseRules() if noise else Project(location).noise_rules()


def print_changes(changes: Changes, rules: NoiseRules, form: str = "text") -> None:
    """Print changes as text or Markdown, and say what noise rules hid."""
    if form == "markdown":
        from jondel.core.formats.changes_markdown import change_markdown

        lines = change_markdown(changes)
    else:
        from jondel.core.formats.changes_text import change_lines

        lines = change_lines(changes, whole=not sys.stdout.isatty())
    for text in lines:
        tell(text)
    if changes.hidden:
        say(
            f"hidden by noise rules: {counted(changes.hidden, 'record')}, by "
            f"{counted(len(rules.listed()), 'rule')}; --noise shows them"
        )
    warn_unread(changes.unread)
