"""Actions as the project's file has them.

[[actions]]
name = "book a berth"
command = ["harbour-desk", "book-berth"]     # or one text, parted at blanks as a shell does
environment = {HARBOUR_DB = "${database}"}
from = "start"                               # the snapshot that is restored first

[[actions]]
name = "sell fuel"
url = "http://127.0.0.1:8021/actions/sell-fuel"
method = "POST"                              # POST where a body is given, else GET
headers = {Authorization = "Bearer ${env:DESK_TOKEN}"}
json = {litres = 42.5}

[[actions]]
name = "sign in"
by_hand = "Sign in as the harbour master"
"""

from __future__ import annotations

import shlex
from collections.abc import Iterator
from typing import Any

from jondel.core.files.toml_entries import TomlEntry, TomlFile, kind_words
from jondel.core.model.addresses import TableId
from jondel.core.verify.actions import (
    LONGEST_TIMEOUT_SECONDS,
    USUAL_TIMEOUT_SECONDS,
    Action,
    ByHand,
    Command,
    RecordAddress,
    Request,
    Way,
)
from jondel.core.verify.fill_ins import fill_in_problem

METHODS = ("GET", "POST", "PUT", "PATCH", "DELETE", "HEAD", "OPTIONS")
_MOST_REPEATED = 1000
_LONGEST_SETTLE = 60.0
_WAYS = ("command", "url", "by_hand")
_OF_COMMANDS = ("folder", "environment")
_OF_REQUESTS = ("method", "headers", "body", "json")


def actions_in(file: TomlFile) -> list[Action]:
    """The actions of a project, in their order.

    Raises:
        ProjectInvalid: one cannot be understood; the message says the line and the key.
    """
    actions: list[Action] = []
    for entry in file.top().tables("actions"):
        action = _action(entry)
        if any(other.name == action.name for other in actions):
            entry.refuse(f"there is another action {action.name!r} above", "name")
        actions.append(action)
    return actions


def _action(entry: TomlEntry) -> Action:
    name = entry.filled_text("name")
    if name is None:
        entry.refuse("has no name")
    if not name.isprintable():
        entry.refuse("holds line breaks or control characters", "name")
    action = Action(
        name,
        _way(entry),
        entry.text("from") or "",
        entry.whole("repeat", 1, _MOST_REPEATED) or 1,
        entry.seconds("timeout", LONGEST_TIMEOUT_SECONDS) or USUAL_TIMEOUT_SECONDS,
        entry.seconds("settle", _LONGEST_SETTLE),
        entry.whole("status", 0, 999),
        entry.flag("copy"),
        tuple(_texts_by_name(entry, "environment")),
        _record(entry),
        entry.text("expect") or "",
    )
    entry.finish()
    return action


def _way(entry: TomlEntry) -> Way:
    ways = [way for way in _WAYS if way in entry]
    if len(ways) != 1:
        found = f"found {' and '.join(ways)}" if ways else "found none of them"
        if not ways:
            # Not a way but a slip of one, perhaps: that is told first.
            for key in (*_WAYS, *_OF_COMMANDS, *_OF_REQUESTS, *_OTHERS):
                entry.value(key)
            entry.finish()
        entry.refuse(f"expected one of command, url, by_hand; {found}")
    way = ways[0]
    for key in (*_OF_COMMANDS, *_OF_REQUESTS):
        fits = (way == "command" and key in _OF_COMMANDS) or (way == "url" and key in _OF_REQUESTS)
        if key in entry and not fits:
            entry.refuse(f"does not go with {way}", key)
    if way == "command":
        return Command(_words(entry), entry.text("folder") or "")
    if way == "by_hand":
        return ByHand(_template(entry, "by_hand") or "")
    return _request(entry)


_OTHERS = ("name", "from", "repeat", "timeout", "settle", "status", "copy", "record", "expect")


def _words(entry: TomlEntry) -> tuple[str, ...]:
    value = entry.value("command")
    if isinstance(value, str):
        try:
            words = tuple(shlex.split(value))
        except ValueError as error:
            entry.refuse(f"cannot be parted into words ({error}); write a list of them", "command")
    else:
        words = entry.texts("command") or ()
    if not words or not words[0].strip():
        entry.refuse("is empty", "command")
    for word in words:
        problem = fill_in_problem(word)
        if problem:
            entry.refuse(problem, "command")
    return words


def _request(entry: TomlEntry) -> Request:
    url = _template(entry, "url") or ""
    if not url.startswith(("http://", "https://", "${")):
        entry.refuse(f"{url!r} is no HTTP address; it begins with http:// or https://", "url")
    if "body" in entry and "json" in entry:
        entry.refuse("a request has a body or json, not both", "body")
    has_body = "body" in entry or "json" in entry
    method = entry.choice("method", METHODS) or ("POST" if has_body else "GET")
    document = entry.value("json")
    _check_inside(entry, document, ("json",))
    return Request(
        method,
        url,
        tuple(_texts_by_name(entry, "headers")),
        _template(entry, "body") or "",
        document,
    )


def _check_inside(entry: TomlEntry, part: Any, place: tuple[str | int, ...]) -> None:
    """Every fill-in of a JSON body is one, and every value is one that JSON has."""
    if isinstance(part, dict):
        for name, each in part.items():
            _check_inside(entry, each, (*place, name))
    elif isinstance(part, list):
        for at, each in enumerate(part):
            _check_inside(entry, each, (*place, at))
    elif isinstance(part, str):
        problem = fill_in_problem(part)
        if problem:
            entry.file.refuse((*entry.place, *place), problem)
    elif part is not None and not isinstance(part, bool | int | float):
        entry.file.refuse((*entry.place, *place), f"JSON has no such value: {kind_words(part)}")


def _template(entry: TomlEntry, key: str) -> str | None:
    text = entry.filled_text(key) if key != "body" else entry.text(key)
    problem = fill_in_problem(text or "")
    if problem:
        entry.refuse(problem, key)
    return text


def _texts_by_name(entry: TomlEntry, key: str) -> Iterator[tuple[str, str]]:
    table = entry.table(key)
    for name, value in table.pairs() if table is not None else ():
        if not isinstance(value, str):
            entry.file.refuse(
                (*entry.place, key, name), f"expected a text, found {kind_words(value)}"
            )
        problem = fill_in_problem(value)
        if problem:
            entry.file.refuse((*entry.place, key, name), problem)
        yield name, value


def _record(entry: TomlEntry) -> RecordAddress | None:
    table = entry.table("record")
    if table is None:
        return None
    name, key = table.filled_text("table"), table.value("key")
    if name is None:
        table.refuse("lacks the name of the table: table = ...")
    values = key if isinstance(key, list) else [key]
    if not values or not all(
        isinstance(value, str | int | float) and not isinstance(value, bool) for value in values
    ):
        table.refuse("expected the values of the record's key, as in key = [412]", "key")
    table.finish()
    return RecordAddress(TableId.parsed(name), tuple(values))


def action_form(action: Action) -> dict[str, Any]:
    """An action as it is written."""
    form: dict[str, Any] = {"name": action.name}
    match action.way:
        case Command(words, folder):
            form["command"] = list(words)
            form |= {"folder": folder} if folder else {}
        case Request(method, url, headers, body, document):
            form |= {"url": url, "method": method}
            form |= {"headers": dict(headers)} if headers else {}
            form |= {"body": body} if body else {}
            form |= {"json": document} if document is not None else {}
        case ByHand(instruction):
            form["by_hand"] = instruction
    usual = Action("", action.way)
    for key, value, default in (
        ("environment", dict(action.environment), {}),
        ("from", action.start, usual.start),
        ("repeat", action.repeat, usual.repeat),
        ("timeout", action.timeout, usual.timeout),
        ("settle", action.settle, usual.settle),
        ("status", action.status, usual.status),
        ("copy", action.copy, usual.copy),
        ("expect", action.expects, usual.expects),
    ):
        if value != default:
            form[key] = value
    if action.record is not None:
        key_values = list(action.record.key)
        form["record"] = {"table": action.record.table.spelled, "key": key_values}
    return form
