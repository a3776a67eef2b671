"""What a project says about verifying: its database, its actions, what they should write, and the
findings that were dismissed. All of it is in ``jondel.toml``, see ``trail.project``."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from jondel.core.errors import ProjectInvalid
from jondel.core.files.toml_entries import TomlFile
from jondel.core.trail.project import Project
from jondel.core.verify.action_file import action_form, actions_in
from jondel.core.verify.actions import Action
from jondel.core.verify.expectation import Expectation
from jondel.core.verify.expectation_file import expectation_form, expectations_in

if TYPE_CHECKING:
    import tomlkit

_FEW = 3
"""So many cells are written on one line."""


class PlanFile:
    """The actions and expectations of a project's file, read when they are asked for."""

    def __init__(self, project: Project) -> None:
        self._project = project

    @property
    def path(self) -> Path:
        return self._project.file

    def read(self) -> Plan:
        """What the file says now.

        Raises:
            ProjectInvalid: it cannot be understood; the message says the line and the key.
        """
        return plan_in(self._project.file)

    def keep_expectation(self, expectation: Expectation) -> Path:
        """Write an expectation in place of the one of its name, or behind all others."""
        return self._keep("expectations", expectation.name, expectation_form(expectation))

    def keep_action(self, action: Action, instead_of: str = "") -> Path:
        """Write an action in place of the one of a name (its own), or behind all others."""
        return self._keep("actions", instead_of or action.name, action_form(action))

    def remove_action(self, name: str) -> Path:
        """Take an action out of the file; its expectation stays."""
        return self._remove("actions", name)

    def remove_expectation(self, name: str) -> Path:
        """Take an expectation out of the file."""
        return self._remove("expectations", name)

    def _keep(self, section: str, name: str, form: dict[str, Any]) -> Path:
        import tomlkit

        def change(document: tomlkit.TOMLDocument) -> None:
            entries = _entries(document, section)
            for entry in entries:
                if entry.get("name") == name:
                    _put(entry, form)
                    return
            table = tomlkit.table()
            _put(table, form)
            entries.append(table)
            document[section] = entries

        return self._changed(change)

    def _remove(self, section: str, name: str) -> Path:

        def change(document: tomlkit.TOMLDocument) -> None:
            entries = _entries(document, section)
            for place, entry in enumerate(entries):
                if entry.get("name") == name:
                    del entries[place]
                    break
            if section in document and not entries:
                del document[section]

        return self._changed(change)

    def _changed(self, change: Callable[[tomlkit.TOMLDocument], None]) -> Path:
        """Change the file; nothing is written where it, or what it would be, cannot be read."""
        self.read()
        path = self._project.rewrite(change)
        self.read()
        return path


class Plan:
    """What a project's file says about verifying."""

    def __init__(
        self, path: Path, database: str, actions: list[Action], expectations: dict[str, Expectation]
    ) -> None:
        self.path = path
        self.database = database
        """The path or URL of the database, empty where the file does not say it."""
        self.actions = actions
        self.expectations = expectations

    def action(self, name: str) -> Action | None:
        return next((action for action in self.actions if action.name == name), None)

    def expectation_of(self, action: Action) -> Expectation | None:
        """What an action is to write; None where nothing is said."""
        return self.expectations.get(action.expectation)


def plan_in(path: Path) -> Plan:
    """What a file says. Raises ``ProjectInvalid``."""
    file = TomlFile(path)
    settings = file.top().table("verify")
    database = ""
    if settings is not None:
        database = settings.filled_text("database") or ""
        settings.finish()
    actions, expectations = actions_in(file), expectations_in(file)
    for place, action in enumerate(actions):
        if action.expects and action.expects not in expectations:
            known = ", ".join(expectations) or "none"
            file.refuse(
                ("actions", place, "expect"),
                f"there is no expectation {action.expects!r}; there are: {known}",
            )
    return Plan(path, database, actions, expectations)


def _entries(document: tomlkit.TOMLDocument, section: str) -> Any:
    import tomlkit

    entries = document.get(section)
    if entries is None:
        return tomlkit.aot()
    if not isinstance(entries, tomlkit.items.AoT):
        raise ProjectInvalid(
            f"{section}: is written as a list in one place; write each under [[{section}]], "
            "so that it can be changed here"
        )
    return entries


def _put(table: Any, form: dict[str, Any]) -> None:
    """Have a table say what a form says; what it said before in the same words stays as it is."""
    for key in [key for key in table if key not in form]:
        del table[key]
    for key, value in form.items():
        if key not in table or table[key] != value:
            table[key] = _item(value)


def _item(value: Any) -> Any:
    """A value as people would write it: what is long in a table of its own."""
    import tomlkit

    if isinstance(value, list) and value and all(isinstance(part, dict) for part in value):
        entries = tomlkit.aot()
        for part in value:
            table = tomlkit.table()
            for key, each in part.items():
                table[key] = _item(each)
            entries.append(table)
        return entries
    if isinstance(value, dict):
        small = len(value) <= _FEW
        cells: Any = tomlkit.inline_table() if small else tomlkit.table()
        for key, each in value.items():
            cells[key] = _inline(each)
        return cells
    return _inline(value)


def _inline(value: Any) -> Any:
    import tomlkit

    if isinstance(value, dict):
        table = tomlkit.inline_table()
        for key, each in value.items():
            table[key] = _inline(each)
        return table
    if isinstance(value, list):
        array = tomlkit.array()
        for each in value:
            array.append(_inline(each))
        return array
    return value
