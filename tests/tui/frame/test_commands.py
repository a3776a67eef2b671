"""Commands: declared once, and read by keys, footer, help and palette alike."""

from __future__ import annotations

import pytest
from driving import SMALL, Driver, driven
from textual.binding import Binding

from conftest import MakeDatabase
from jondel.tui.frame.commands import CHANGES, EDITING, RECORDS, Command, CommandTable, Situation
from jondel.tui.frame.place import Place
from jondel.tui.views.changes.change_list import ChangeList
from jondel.tui.widgets.cell_editor import CellEditor
from jondel.tui.widgets.sheet.sheet import Sheet


def _command(id: str, key: str, contexts: frozenset[str] | None = None, rank: int = 0) -> Command:
    return Command(
        id,
        id,
        f"does {id}",
        "Group",
        lambda: None,
        (key,),
        contexts=contexts,
        footer_rank=lambda _: rank,
    )


def _table(*commands: Command) -> CommandTable:
    table = CommandTable()
    table.add(commands)
    return table


def test_a_key_stands_for_one_command_in_each_context() -> None:
    table = _table(_command("a", "x", RECORDS), _command("b", "x", CHANGES))
    table.add([_command("c", "x", EDITING)])
    assert [table.for_key("x", context) for context in ("records", "changes", "cell")] == list(
        table
    )
    assert table.for_key("x", "query") is None
    with pytest.raises(ValueError, match="x stands for"):
        table.add([_command("d", "x")])
    with pytest.raises(ValueError, match="two commands"):
        table.add([_command("a", "z")])


def test_the_footer_has_what_matters_and_can_run_the_most_needed_first() -> None:
    impossible = _command("c", "c", rank=9)._replace(refusal=lambda _: "not here")
    table = _table(
        _command("a", "a", rank=1),
        _command("b", "b", rank=2),
        impossible,
        _command("d", "d", CHANGES, rank=3),
        _command("e", "e"),
    )
    situation = Situation("records", Place())
    assert [command.id for command in table.footer(situation)] == ["b", "a"]


def test_the_help_begins_with_the_current_view() -> None:
    table = _table(_command("a", "a")._replace(group="Everywhere"))
    table.add([_command("b", "b", CHANGES)._replace(group="Changes")])
    table.add([_command("c", "c", RECORDS)._replace(group="Sheet")])
    order = [group for group, _ in table.groups(Situation("records", Place()))]
    assert order == ["Sheet", "Everywhere", "Changes"]


# Those there are


async def test_every_command_is_explained_and_its_group_named(make: MakeDatabase) -> None:
    async with driven(make("CREATE TABLE t(id INTEGER PRIMARY KEY)")) as driver:
        commands = list(driver.desk.commands)
        assert len(commands) > 60
        for command in commands:
            assert command.help, command.id
            assert command.label, command.id
            assert command.key_text or not command.listed, f"{command.id} has no key"


async def test_no_widget_takes_a_key_of_a_command(make: MakeDatabase) -> None:
    async with driven(make("CREATE TABLE t(id INTEGER PRIMARY KEY)")) as driver:
        taken = {
            "records": _widget_keys(Sheet),
            "changes": _widget_keys(ChangeList),
            "cell": _widget_keys(CellEditor),
        }
        for context, keys in taken.items():
            for key in keys:
                command = driver.desk.commands.for_key(key, context)
                assert command is None, f"{key} in {context} never reaches {command}"


def _widget_keys(widget: type[Sheet | ChangeList | CellEditor]) -> set[str]:
    bindings: list[Binding] = []
    for kind in widget.__mro__:
        bindings += [b for b in vars(kind).get("BINDINGS", ()) if isinstance(b, Binding)]
    return {key.strip() for binding in bindings for key in binding.key.split(",")} - {"enter"}


async def test_a_key_that_cannot_work_here_says_why(make: MakeDatabase) -> None:
    async with driven(make("CREATE TABLE t(id INTEGER PRIMARY KEY)")) as driver:
        for key, why in (
            ("g", "no snapshots yet"),
            ("e", "no record is selected"),
            ("backspace", "nowhere to go back"),
            ("a", "no actions are known"),
            ("W", "nothing to write"),
            ("u", "is a key of Changes: c goes there"),
        ):
            await driver.press(key)
            await driver.sees(why)
        await driver.press("c")
        await driver.sees("There are no snapshots yet")
        await driver.press("f")
        await driver.sees("f (filter) is a key of Records: r goes there")


async def test_the_right_button_opens_a_menu_of_what_can_be_done(make: MakeDatabase) -> None:
    path = make("CREATE TABLE t(id INTEGER PRIMARY KEY, v)", "INSERT INTO t(v) VALUES (2), (1)")
    async with driven(path, SMALL) as driver:
        await driver.sees("2 rows")
        await driver.click(Sheet, (12, 3), button=3)
        await driver.sees("What can be done here", "sort by this column")
        assert "take back the change" not in driver.text
        await _choose(driver, "sort by this column: ascending, descending, off")
        await driver.sees("sorted by v ↑")


async def _choose(driver: Driver, words: str) -> None:
    while not any(words in line for line in driver.lines):
        await driver.press("down")
    await driver.click_on(words)
