"""The dialog in which an action is written: what makes the app do something."""

from __future__ import annotations

import shlex
import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import tomlkit
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import VerticalScroll
from textual.widgets import Static

from jondel.core.browse.display import line
from jondel.core.errors import ProjectInvalid
from jondel.core.files.toml_entries import TomlFile
from jondel.core.verify.action_file import action_form, actions_in
from jondel.core.verify.actions import Action
from jondel.tui.frame.dialog import Dialog, field_heading, foot, heading, problem_line
from jondel.tui.widgets.text_fields import TextField

_FIELDS = (
    ("name", "Name", "book a berth"),
    ("command", "Command: a program and its words", "./manage.py book --berth 7"),
    ("url", "or an HTTP request to", "http://127.0.0.1:8000/bookings"),
    ("method", "its method", "GET, or POST where there is a body"),
    ("headers", "its headers, as in Authorization: Bearer ${env:TOKEN}; Accept: text/plain", ""),
    ("body", "its body; what begins with { is JSON", '{"berth": 7, "boat": "${record:id}"}'),
    ("by_hand", "or what you do in the app yourself", "Book berth 7 for the boat Curlew"),
    ("from", "Restored first: a snapshot's label or id", "nothing is restored"),
    ("timeout", "Seconds until it is stopped", "30"),
    ("status", "Exit or HTTP status that is success", "0, or below 400"),
    ("environment", "Environment, as in DB=${database} MODE=test", ""),
)
_WHOLE = ("timeout", "status")


class ActionEntryDialog(Dialog[Action | None]):
    """Asks for all of an action; returns it, or None. Says at once what is wrong with it."""

    BINDINGS = [
        Binding("escape", "dismiss(None)", "close"),
        Binding("ctrl+s", "take", "keep"),
        Binding("down", "app.focus_next", "next field", show=False),
        Binding("up", "app.focus_previous", "field before", show=False),
    ]

    def __init__(self, action: Action | None, others: Sequence[str]) -> None:
        """``others`` are the names that other actions have."""
        super().__init__()
        self._action = action
        self._others = frozenset(others)
        self._form: dict[str, Any] = action_form(action) if action is not None else {}

    def compose(self) -> ComposeResult:
        with VerticalScroll(classes="dialog full"):
            yield heading("A new action" if self._action is None else "Change the action")
            for key, words, example in _FIELDS:
                yield field_heading(words)
                yield TextField(self._shown(key), placeholder=example, id=f"action-{key}")
            yield Static(
                "Values are filled in for ${env:NAME}, ${fresh:uuid}, ${record:COLUMN}, "
                "${answer:ACTION:/path}, ${database}.",
                markup=False,
            )
            yield problem_line("action-problem")
            yield foot("Enter keeps it · ↑ ↓ goes between the fields · Escape closes")

    def opened(self) -> None:
        self.query_one("#action-name", TextField).focus()

    def _shown(self, key: str) -> str:
        value = self._form.get(key)
        if key == "body" and "json" in self._form:
            import json

            return json.dumps(self._form["json"])
        if value is None:
            return ""
        if key == "command":
            return shlex.join(value)
        if key == "headers":
            return "; ".join(f"{name}: {text}" for name, text in value.items())
        if key == "environment":
            return shlex.join(f"{name}={text}" for name, text in value.items())
        return f"{value:g}" if isinstance(value, float) else str(value)

    def on_input_submitted(self, event: TextField.Submitted) -> None:
        event.stop()
        self.action_take()

    def action_take(self) -> None:
        """Return the action, or say what is wrong with it."""
        try:
            action = self._entered()
        except ValueError as error:
            self.query_one("#action-problem", Static).update(line(str(error), 400))
            self.fit_height()
            return
        self.dismiss(action)

    def _entered(self) -> Action:
        """The action that the fields say. Raises ``ValueError``."""
        form = {k: v for k, v in self._form.items() if k not in {key for key, _, _ in _FIELDS}}
        form.pop("json", None)
        for key, _, _ in _FIELDS:
            text = self.query_one(f"#action-{key}", TextField).entered.strip()
            if text:
                form |= _entry(key, text)
        if form.get("name") in self._others:
            raise ValueError(f"name: there is another action {form['name']!r}")
        document = tomlkit.document()
        entries = tomlkit.aot()
        entries.append(tomlkit.item(form))
        document["actions"] = entries
        with tempfile.TemporaryDirectory(prefix="jondel-") as folder:
            path = Path(folder) / "action"
            path.write_text(tomlkit.dumps(document), "utf-8")
            try:
                (action,) = actions_in(TomlFile(path))
            except ProjectInvalid as error:
                raise ValueError(str(error).partition("actions[0]")[2].lstrip(".: ")) from error
        return action


def _entry(key: str, text: str) -> dict[str, Any]:
    """What a field says, as the file has it. Raises ``ValueError``."""
    if key in _WHOLE:
        if not text.isdecimal():
            raise ValueError(f"{key}: expected a whole number")
        return {key: int(text)}
    if key == "command":
        return {key: shlex.split(text)}
    if key == "headers":
        pairs = [part.partition(":") for part in text.split(";") if part.strip()]
        if not all(colon for _, colon, _ in pairs):
            raise ValueError("headers: expected Name: value; Name: value")
        return {key: {name.strip(): value.strip() for name, _, value in pairs}}
    if key == "environment":
        pairs = [part.partition("=") for part in shlex.split(text)]
        if not all(name and sign for name, sign, _ in pairs):
            raise ValueError("environment: expected NAME=value NAME=value")
        return {key: {name: value for name, _, value in pairs}}
    if key == "body" and text[:1] in ("{", "["):
        import json

        try:
            return {"json": json.loads(text)}
        except ValueError as error:
            raise ValueError(f"body: begins as JSON and is none ({error})") from error
    return {key: text}
