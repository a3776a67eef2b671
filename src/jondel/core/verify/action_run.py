"""Runs actions, one after the other."""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Callable, Mapping
from pathlib import Path
from urllib.parse import quote

from jondel.core.errors import ActionFailed, Cancelled
from jondel.core.model.values import Value
from jondel.core.verify.actions import Action, ByHand, Command, Outcome, Request
from jondel.core.verify.command_run import run_command
from jondel.core.verify.fill_ins import FillIns
from jondel.core.verify.http_run import HttpClient

_SAID_CHARACTERS = 500
_OUTPUT_CHARACTERS = 128 << 10
_JSON = ("Content-Type", "application/json")

AskPerson = Callable[[str], None]
"""Has a person do something in the app, and returns when that is done. Raises ``Cancelled``."""


class ActionRunner:
    """Runs actions of a project: what one was answered, later ones can fill in."""

    def __init__(
        self,
        folder: Path,
        environment: Mapping[str, str],
        ask_person: AskPerson | None = None,
        cancelled: threading.Event | None = None,
    ) -> None:
        """``folder`` is the project's, where commands run; ``environment`` is what they see."""
        self._folder = folder
        self._environment = dict(environment)
        self._ask_person = ask_person
        self.cancelled = cancelled or threading.Event()
        self._answers: dict[str, object] = {}
        self._client = HttpClient()

    def close(self) -> None:
        self._client.close()

    def run(self, action: Action, database: str, record: Mapping[str, Value]) -> Outcome:
        """Run an action to its end; whatever goes wrong is told in the outcome.

        ``database`` is what ``${database}`` stands for, and ``record`` the current one's cells.
        """
        values = FillIns(self._environment, database, record, self._answers, self._client.cookie)
        began = time.monotonic()
        try:
            outcome = self._outcome(action, values)
        except (ActionFailed, Cancelled) as error:
            outcome = Outcome(None, "", "", 0, str(error))
        outcome = _as_wanted(outcome, action)
        if isinstance(outcome.answer, dict | list):
            self._answers[action.name] = outcome.answer
        return Outcome(
            outcome.status,
            values.masked(outcome.said),
            values.masked(outcome.output),
            time.monotonic() - began,
            values.masked(outcome.failure),
            outcome.answer,
        )

    def _outcome(self, action: Action, values: FillIns) -> Outcome:
        match action.way:
            case Command() as command:
                return self._command(action, command, values)
            case Request() as request:
                return self._request(action, request, values)
            case ByHand(instruction):
                if self._ask_person is None:
                    raise ActionFailed("is done by hand, and there is nobody to do it here")
                self._ask_person(values.text(instruction, action.name))
                return Outcome(None, "done by hand", "", 0)

    def _command(self, action: Action, command: Command, values: FillIns) -> Outcome:
        words = [values.text(word, "command") for word in command.words]
        environment = dict(self._environment)
        for name, template in action.environment:
            environment[name] = values.text(template, f"environment.{name}")
        folder = self._folder / values.text(command.folder, "folder")
        done = run_command(words, folder, environment, action.timeout, self.cancelled)
        said = next((line for line in reversed(done.output.splitlines()) if line.strip()), "")
        return Outcome(done.status, _one_line(said), done.output, 0, done.stopped)

    def _request(self, action: Action, request: Request, values: FillIns) -> Outcome:
        headers = [(name, values.text(text, f"headers.{name}")) for name, text in request.headers]
        for name, text in headers:
            if "\n" in text or "\r" in text:
                raise ActionFailed(f"headers.{name}: what is filled in has a line break")
        if request.json is not None:
            body = json.dumps(values.json(request.json, "json")).encode()
            if not any(name.lower() == "content-type" for name, _ in headers):
                headers.append(_JSON)
        else:
            body = values.text(request.body, "body").encode("utf-8", "surrogatepass")
        # The address's beginning may be filled in; what comes after it is data.
        url = values.text(request.url, "url", _escaped_after(request.url))
        answer = self._client.send(
            request.method, url, headers, body, action.timeout, self.cancelled
        )
        said = _message(answer.content, answer.text)
        text = answer.text[:_OUTPUT_CHARACTERS]
        return Outcome(answer.status, said, text, 0, answer=answer.content)


def _escaped_after(url: str) -> Callable[[str], str]:
    """How values are written into an address: as they are where it begins with one."""
    first = [url.startswith("${")]

    def escape(text: str) -> str:
        if first[0]:
            first[0] = False
            return text
        return quote(text, safe="")

    return escape


def _as_wanted(outcome: Outcome, action: Action) -> Outcome:
    """The outcome with a failure where its status is not the one that is wanted."""
    if outcome.failure or outcome.status is None:
        return outcome
    status, said = outcome.status, f": {outcome.said}" if outcome.said else ""
    if action.status is not None:
        failed = status != action.status
        wanted = f", expected {action.status}"
    else:
        failed = status >= 400 if isinstance(action.way, Request) else status != 0
        wanted = ""
    if not failed:
        return outcome
    what = "answered" if isinstance(action.way, Request) else "exited with"
    failure = f"the app {what} {status}{wanted}{said}"
    return Outcome(status, outcome.said, outcome.output, 0, failure, outcome.answer)


def _message(content: object, text: str) -> str:
    """What an answer says, in one line: its message, where it has one."""
    if isinstance(content, dict):
        for name in ("message", "detail", "error"):
            if isinstance(content.get(name), str):
                return _one_line(content[name])
    return _one_line(text)


def _one_line(text: str) -> str:
    return " ".join(text[: _SAID_CHARACTERS * 4].split())[:_SAID_CHARACTERS]
