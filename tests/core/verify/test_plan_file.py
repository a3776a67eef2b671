"""What is wrong in a project's file is told with its line, its key, and what was meant."""

from __future__ import annotations

from pathlib import Path

import pytest
import tomlkit
from hypothesis import given
from hypothesis import strategies as st

from jondel.core.errors import JondelError
from jondel.core.files.toml_lines import TomlPath, toml_line
from jondel.core.trail.project import Project
from jondel.core.verify.actions import Action, ByHand, Command, Request
from jondel.core.verify.plan_file import PlanFile, plan_in

_ACTION = "[[actions]]\nname = 'book'\n"
_TABLE = "[[expectations]]\nname = 'book'\n[[expectations.tables]]\ntable = 'berths'\n"
_RECORD = _TABLE + "[[expectations.tables.records]]\nis = 'added'\n"


@pytest.fixture
def plan(tmp_path: Path) -> PlanFile:
    return PlanFile(Project(str(tmp_path / "app.db"), file=tmp_path / "jondel.toml"))


@pytest.mark.parametrize(
    ("text", "line", "message"),
    [
        pytest.param("[[actions]\n", 0, "not valid TOML", id="no-toml"),
        pytest.param("[[actions]]\ncommand = 'x'\n", 1, "actions[0]: has no name", id="no-name"),
        pytest.param(_ACTION, 1, "one of command, url, by_hand; found none", id="no-way"),
        pytest.param(
            _ACTION + "comand = 'x'",
            3,
            "actions[0].comand: no such key here; did you mean command?",
            id="slip-of-a-way",
        ),
        pytest.param(
            _ACTION + "command = 'x'\nurl = 'http://a'", 1, "found command and url", id="two-ways"
        ),
        pytest.param(_ACTION + "command = 5", 3, "expected a list, found a whole", id="type"),
        pytest.param(_ACTION + "command = ['a', 5]", 3, "command[1]: expected a text", id="word"),
        pytest.param(_ACTION + "command = '\"a'", 3, "cannot be parted into words", id="quote"),
        pytest.param(
            _ACTION + "command = 'x'\ntimout = 3", 4, "did you mean timeout?", id="slip-of-a-key"
        ),
        pytest.param(_ACTION + "command = 'x'\ntimeout = -3", 4, "number of seconds", id="range"),
        pytest.param(_ACTION + "command = 'x'\nrepeat = 0", 4, "from 1 to 1000", id="repeat"),
        pytest.param(_ACTION + "command = 'x'\ncopy = 'yes'", 4, "true or false", id="flag"),
        pytest.param(
            _ACTION + "command = 'x'\n\n# again\n" + _ACTION + "command = 'y'",
            7,
            "there is another action 'book' above",
            id="twice",
        ),
        pytest.param(_ACTION + "url = 'a.example'", 3, "is no HTTP address", id="address"),
        pytest.param(
            _ACTION + "url = 'http://a'\nmethod = 'PSOT'", 4, "did you mean 'POST'?", id="method"
        ),
        pytest.param(
            _ACTION + "url = 'http://a'\njson = {a = [1, 1979-05-27]}",
            4,
            "json.a[1]: JSON has no such value",
            id="json-date",
        ),
        pytest.param(
            _ACTION + "command = 'x ${evn:A}'", 3, "${evn:A} is none of env", id="fill-in"
        ),
        pytest.param(
            _ACTION + "command = 'x'\nheaders = {a = 'b'}",
            4,
            "does not go with command",
            id="goes-not",
        ),
        pytest.param(
            _ACTION + "command = 'x'\nexpect = 'sell'",
            4,
            "no expectation 'sell'",
            id="expects-what",
        ),
        pytest.param("[actions]\nname = 'x'", 1, "each under [[actions]]", id="single-brackets"),
        pytest.param("actions = [5]", 1, "actions[0]: expected a table", id="no-table"),
        pytest.param("[verify]\ndatabse = 'a'", 2, "did you mean database?", id="settings"),
        pytest.param(_RECORD + "is = 'x'", 0, "not valid TOML", id="key-twice"),
        pytest.param(
            _TABLE + "[[expectations.tables.records]]\nis = 'aded'",
            6,
            "did you mean 'added'?",
            id="kind",
        ),
        pytest.param(_TABLE + "added = 'many'", 5, "expected a whole number or", id="count"),
        pytest.param(
            _TABLE + "added = {at_least = 3, at_most = 2}",
            5,
            "nothing is in this range",
            id="range-of-counts",
        ),
        pytest.param(
            _RECORD + "cells = {\n  id = 1,\n  note = {patern = 'a'} }".replace("\n", " "),
            7,
            "cells.note.patern: 'patern' is no matcher; did you mean pattern?",
            id="matcher",
        ),
        pytest.param(
            _RECORD + "[expectations.tables.records.cells]\nid = 1\nnote = {pattern = '('}",
            9,
            "note.pattern: is no regular expression",
            id="pattern",
        ),
        pytest.param(
            _RECORD + "cells = {at = 1979-05-27}", 7, "a date or time; put it in quotes", id="date"
        ),
        pytest.param(_RECORD + "cells = {a = [1]}", 7, "write {one_of = [...]}", id="list"),
        pytest.param(_RECORD + "cells = {a = {one_of = []}}", 7, "is empty", id="none-of"),
        pytest.param(
            _RECORD + "cells = {a = {at_least = 5, at_most = 'x'}}", 7, "is no range", id="bounds"
        ),
        pytest.param(
            _RECORD + "cells = {a = {same_as = 'boats.id'}}",
            5,
            "no record has the name 'boats'",
            id="same-as-nothing",
        ),
        pytest.param(
            _RECORD + "cells = {a = {from = 1, to = 2}}",
            5,
            "are for cells of changed",
            id="from-to",
        ),
        pytest.param(
            _RECORD + "cells = {a = {json = {'total' = 5}}}", 7, "is no JSON pointer", id="pointer"
        ),
        pytest.param(
            _RECORD + "cells = {a = {near_now = 'soon'}}",
            7,
            "near_now: cannot be a text",
            id="near-now",
        ),
        pytest.param(
            _RECORD + "cells = {a = {any = true, of = 'text'}}",
            7,
            "does not go with any",
            id="more",
        ),
        pytest.param(
            _TABLE + "[[expectations.tables]]\ntable = 'berths'",
            5,
            "berths is there twice",
            id="table-twice",
        ),
    ],
)
def test_what_is_wrong_is_told(plan: PlanFile, text: str, line: int, message: str) -> None:
    plan.path.write_text(text)
    with pytest.raises(JondelError) as caught:
        plan.read()
    said = str(caught.value)
    assert message in said
    if line:
        assert said.startswith(f"{plan.path}, line {line}: ")
    with pytest.raises(JondelError):
        plan.keep_action(Action("other", Command(("true",))))
    assert plan.path.read_text() == text, "nothing is overwritten"


_ACTIONS = (
    Action(
        "a",
        Command(("true", "with blank"), "sub"),
        "start",
        3,
        5.5,
        0.1,
        2,
        True,
        (("DB", "${database}"),),
    ),
    Action(
        "b", Request("PUT", "http://x/${record:id}", (("A b", "${env:T}"),), "", {"n": [1, None]})
    ),
    Action("c", ByHand("press the button")),
)


def test_actions_are_written_as_they_are_read(plan: PlanFile) -> None:
    from dataclasses import replace

    plan.path.write_text("# ours\n")
    request = replace(_ACTIONS[1], way=replace(_ACTIONS[1].way, json={"n": [1, "x"]}))
    for action in (_ACTIONS[0], request, _ACTIONS[2]):
        plan.keep_action(action)
    assert plan.read().actions == [_ACTIONS[0], request, _ACTIONS[2]]
    plan.keep_action(replace(request, name="d"), instead_of="b")
    assert [action.name for action in plan.read().actions] == ["a", "d", "c"]
    plan.remove_action("a")
    assert [action.name for action in plan.read().actions] == ["d", "c"]
    assert plan.path.read_text().startswith("# ours\n")


def test_an_edited_action_keeps_its_comments(plan: PlanFile) -> None:
    text = "[[actions]]\n# why it is slow\nname = 'a'  # short\ncommand = ['true']\ntimeout = 60\n"
    plan.path.write_text(text)
    (action,) = plan.read().actions
    plan.keep_action(Action("a", Command(("false",)), timeout=action.timeout))
    assert plan.path.read_text() == text.replace("'true'", '"false"')


def test_a_file_that_is_not_there_says_nothing(tmp_path: Path) -> None:
    plan = plan_in(tmp_path / "jondel.toml")
    assert (plan.actions, plan.expectations, plan.database) == ([], {}, "")


_KEYS = st.sampled_from(("a", "b c", "'", "d.e", "ü"))
_VALUES = st.recursive(
    st.one_of(st.integers(-5, 5), st.text("ab\"'#=[]{}\n,", max_size=8), st.booleans()),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(_KEYS, inner, max_size=3),
    max_leaves=8,
)


@given(st.dictionaries(_KEYS, _VALUES, max_size=4), st.lists(_KEYS, max_size=3))
def test_the_line_of_every_value_is_found(tables: dict[str, object], comments: list[str]) -> None:
    """An oracle that knows: each key is followed by a number of its own, in the order written."""
    document = tomlkit.document()
    for comment in comments:
        document.add(tomlkit.comment(comment))
    for key, value in tables.items():
        document[key] = value
    text = tomlkit.dumps(document)
    for path, value in _leaves(tables, ()):
        line = text.splitlines()[toml_line(text, path) - 1] if value != "\n" else ""
        if isinstance(value, int) and not isinstance(value, bool) and isinstance(path[-1], str):
            assert str(value) in line, (text, path)


def _leaves(value: object, path: TomlPath) -> list[tuple[TomlPath, object]]:
    if isinstance(value, dict):
        return [leaf for key, part in value.items() for leaf in _leaves(part, (*path, key))]
    if isinstance(value, list):
        return [leaf for at, part in enumerate(value) for leaf in _leaves(part, (*path, at))]
    return [(path, value)]
