"""Fills values into actions: ``${env:TOKEN}``, ``${fresh:uuid}``, ``${record:id}`` and others.

${env:NAME}              a variable of the environment; never shown or stored
${fresh:uuid}            a new one each time; also fresh:number and fresh:text
${record:COLUMN}         a cell of the current record
${answer:ACTION:/path}   a part of what an earlier HTTP action was answered (a JSON pointer)
${cookie:NAME}           a cookie that an earlier answer set
${database}              the path or URL of the database, of the copy where it runs on one
$${                      the characters ${
"""

from __future__ import annotations

import re
import secrets
import time
import uuid
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from jondel.core.errors import ActionFailed
from jondel.core.model.changes import NoValue
from jondel.core.model.values import Exact, Value
from jondel.core.verify.matchers import member_at

_FILL_IN = re.compile(r"\$\$\{|\$\{([^{}]*)\}")
_MASK = "***"
_SHORTEST_SECRET = 4
_KINDS = ("env", "fresh", "record", "answer", "cookie", "database")


@dataclass
class FillIns:
    """Where the values come from that are filled in, and which of them are secret."""

    environment: Mapping[str, str]
    database: str
    record: Mapping[str, Value] = field(default_factory=dict)
    answers: dict[str, object] = field(default_factory=dict)
    """What earlier actions were answered, as JSON has it, by the action's name."""
    cookie: Callable[[str], str | None] = lambda name: None
    _secrets: set[str] = field(default_factory=set)

    def text(self, template: str, where: str, escape: Callable[[str], str] = str) -> str:
        """A text with its values filled in, each escaped for where it goes.

        Raises:
            ActionFailed: a value is not known; the message says which, and ``where`` it is wanted.
        """

        def filled(match: re.Match[str]) -> str:
            if match[1] is None:
                return "${"
            return escape(_as_text(self._value(match[1], where)))

        return _FILL_IN.sub(filled, template)

    def json(self, template: object, where: str) -> object:
        """A JSON body with its values filled in: a text that is one value becomes that value."""
        if isinstance(template, dict):
            return {name: self.json(part, where) for name, part in template.items()}
        if isinstance(template, list):
            return [self.json(part, where) for part in template]
        if not isinstance(template, str):
            return template
        whole = _FILL_IN.fullmatch(template)
        if whole is None or whole[1] is None:
            return self.text(template, where)
        value = self._value(whole[1], where)
        return _as_text(value) if isinstance(value, Exact | bytes) else value

    def masked(self, text: str) -> str:
        """A text without the secrets that were filled in."""
        for secret in sorted(self._secrets, key=len, reverse=True):
            text = text.replace(secret, _MASK)
        return text

    def _value(self, words: str, where: str) -> object:
        kind, _, name = words.partition(":")
        match kind.strip():
            case "env":
                return self._secret(name, where)
            case "fresh":
                return _fresh(name, where)
            case "record":
                if name not in self.record:
                    known = ", ".join(self.record) or "none; go to a record first"
                    raise ActionFailed(f"{where}: there is no cell {name!r}; known are {known}")
                return self.record[name]
            case "answer":
                return self._answer(name, where)
            case "cookie":
                cookie = self.cookie(name)
                if cookie is None:
                    raise ActionFailed(f"{where}: no answer has set a cookie {name!r} yet")
                self._secrets.add(cookie)
                return cookie
            case "database" if not name:
                return self.database
        raise ActionFailed(f"{where}: ${{{words}}} is none of {', '.join(_KINDS)}")

    def _secret(self, name: str, where: str) -> str:
        value = self.environment.get(name)
        if value is None:
            raise ActionFailed(f"{where}: the environment has no {name}; set it and run this again")
        if len(value) >= _SHORTEST_SECRET:
            self._secrets.add(value)
        return value

    def _answer(self, name: str, where: str) -> object:
        action, _, pointer = name.partition(":")
        if action not in self.answers:
            known = ", ".join(self.answers) or "none yet"
            raise ActionFailed(
                f"{where}: there is no answer of {action!r}; answers there are of: {known}"
            )
        part = member_at(self.answers[action], pointer)
        if isinstance(part, NoValue | dict | list):
            what = "has nothing at" if isinstance(part, NoValue) else "has several values at"
            raise ActionFailed(f"{where}: the answer of {action!r} {what} {pointer or '/'}")
        return part


def fill_in_problem(template: str) -> str:
    """What is wrong with a template's fill-ins, as far as that is known beforehand; or nothing."""
    for match in _FILL_IN.finditer(template):
        if match[1] is not None:
            kind, _, name = match[1].partition(":")
            if kind not in _KINDS or (kind == "database") == bool(name):
                return f"${{{match[1]}}} is none of {', '.join(_KINDS)}, as in ${{env:TOKEN}}"
            if kind == "fresh" and name not in ("uuid", "number", "text"):
                return f"${{{match[1]}}}: fresh is a uuid, a number or a text"
    return ""


def _fresh(kind: str, where: str) -> object:
    match kind:
        case "uuid":
            return str(uuid.uuid4())
        case "number":
            return time.time_ns() // 1000
        case "text":
            return secrets.token_hex(6)
    raise ActionFailed(f"{where}: a fresh {kind!r} is none of uuid, number, text")


def _as_text(value: object) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, bytes):
        return value.hex()
    return str(value)
