"""The card: values that need care, links to walk along and back, guesses to decide on."""

from __future__ import annotations

from pathlib import Path

from driving import SMALL, Driver, driven

from conftest import MakeDatabase, OpenApp

_HARBOUR = (
    "CREATE TABLE pontoons(id INTEGER PRIMARY KEY, name TEXT)",
    "INSERT INTO pontoons VALUES (1, 'North arm'), (2, 'South arm')",
    "CREATE TABLE berths(id INTEGER PRIMARY KEY, pontoon INTEGER REFERENCES pontoons, n INTEGER)",
    "INSERT INTO berths VALUES (1, 1, 11), (2, 1, 12), (3, 2, 21), (4, 9, 99)",
    "CREATE TABLE boats(id INTEGER PRIMARY KEY, berth_id INTEGER, name TEXT, follows INTEGER)",
    "INSERT INTO boats VALUES (1, 2, 'Gull', 2), (2, 2, 'Tern', 1), (3, NULL, 'Skua', NULL)",
    "CREATE TABLE visits(boat INTEGER, day INTEGER, paid_at INTEGER, note TEXT, "
    "PRIMARY KEY (boat, day))",
    'INSERT INTO visits VALUES (1, 5, 1780000000, \'{"crew": [1, {"age": 1.50}], "x": 1e3}\'), '
    "(1, 6, 1780086400, 'plain'), (2, 5, 1779913600, 'y')",
    "CREATE TABLE files(id INTEGER PRIMARY KEY, body BLOB, count INTEGER)",
    "INSERT INTO files VALUES (1, x'89504e470d0a1a0a00ff41', 'twelve')",
)


async def _open(driver: Driver, table: str) -> None:
    await driver.open_table(table)


async def _go_to_link(driver: Driver, label: str) -> None:
    """Put the card's cursor on a link of the record."""
    await driver.press("v", "end")
    card = driver.card
    while card.link is None or card.link.link is None or card.link.link.label != label:
        await driver.press("up")


def _link_line(driver: Driver, label: str) -> str:
    """The card's line of a link."""
    lines = _card(driver).split("\n")
    return next((line.rstrip() for line in lines if f"▸ {label}  " in line), "")


def _card(driver: Driver) -> str:
    return driver.card.text


async def test_what_a_record_points_to_and_what_points_at_it(make: MakeDatabase) -> None:
    async with driven(make(*_HARBOUR)) as driver:
        await _open(driver, "berths")
        await driver.press("down")
        await driver.sees("points to", "pontoons 1  North arm", "pointed at by")
        await driver.sees("boats.berth_id  2  guessed")
        await driver.press("down", "down")
        await driver.sees("no such record in pontoons")


async def test_links_unfold_in_place_to_any_depth_cycles_too(make: MakeDatabase) -> None:
    path = make(*_HARBOUR)
    async with driven(path) as driver:
        await _open(driver, "boats")
        await driver.sees("berths 2", "guessed")
        await driver.press("v", "end")
        card = driver.card
        while card.link is None or card.link.link is None or not card.link.link.outwards:
            await driver.press("up")
        await driver.press("right")
        await driver.until(lambda: "n  12" in _card(driver) and "boats.berth_id" in _card(driver))
        await driver.press("down")  # berths' own link, to the pontoon
        await driver.press("right")
        await driver.until(lambda: "North arm" in _card(driver))
        await driver.until(lambda: _card(driver).count("berths.pontoon  2") == 1)
        await driver.press("up", "left")
        await driver.until(lambda: "n  12" not in _card(driver))


async def test_enter_walks_to_the_record_and_backspace_returns_to_the_place(
    make: MakeDatabase,
) -> None:
    async with driven(make(*_HARBOUR)) as driver:
        await _open(driver, "berths")
        driver.sheet.go_to(2, "n")
        await driver.press("equals_sign")
        await driver.sees("where n is 21")
        await driver.sees("pontoons 2  South arm")
        await driver.press("v", "end", "up", "enter")
        await driver.sees("pontoons  2 rows", "row 2 of 2", "berths 3 › here", "Backspace")
        await driver.press("backspace")
        await driver.sees("where n is 21", "row 1 of 1")
        assert driver.sheet.column_name == "n"
        await driver.until(lambda: "› here" not in driver.text)


async def test_enter_walks_to_the_filtered_children_and_on(make: MakeDatabase) -> None:
    async with driven(make(*_HARBOUR)) as driver:
        await _open(driver, "berths")
        await driver.press("down")
        await driver.sees("boats.berth_id  2")
        await driver.press("v", "end", "enter")
        await driver.sees("where berth_id is 2", "2 of 3 rows", "Tern", "berths 2 › here")
        await driver.press("backspace")
        await driver.sees("berths  4 rows", "row 2 of 4")
        await _open(driver, "boats")
        await driver.until(lambda: "where berth_id" not in driver.text)


async def test_the_way_is_forgotten_once_another_table_is_chosen(make: MakeDatabase) -> None:
    async with driven(make(*_HARBOUR)) as driver:
        await _open(driver, "berths")
        await driver.press("down")
        await driver.sees("boats.berth_id  2")
        await driver.press("v", "end", "enter")
        await driver.sees("berths 2 › here")
        await _open(driver, "files")
        await driver.until(lambda: "› here" not in driver.text)
        await driver.press("backspace")
        await driver.pilot.pause(0.2)
        assert driver.table is not None
        assert driver.table.name == "files"


async def test_a_guess_is_confirmed_refused_and_a_link_added_for_the_project(
    make: MakeDatabase,
) -> None:
    path = make(*_HARBOUR)
    async with driven(path) as driver:
        await _open(driver, "boats")
        await driver.sees("berths 2", "visits.boat  2  guessed")
        await _go_to_link(driver, "berth_id")
        await driver.press("plus")
        file = path.parent / "jondel.toml"
        await driver.until(lambda: file.exists() and "confirmed" in file.read_text())
        await driver.until(lambda: _link_line(driver, "berth_id").endswith("berths 2"))
        driver.card.go_to_field("follows")
        await driver.press("L", "enter")
        await driver.sees("follows → ")
    kept = (path.parent / "jondel.toml").read_text()
    assert 'standing = "confirmed"' in kept
    assert 'standing = "added"' in kept
    async with driven(path) as driver:
        await _open(driver, "boats")
        await driver.until(lambda: "follows  " in _card(driver))
        await driver.until(lambda: "berth_id  berths 2" in _card(driver))
        await _go_to_link(driver, "berth_id")
        await driver.press("minus")
        await driver.until(lambda: "▸ berth_id" not in _card(driver))
    assert 'standing = "refused"' in (path.parent / "jondel.toml").read_text()


async def test_times_read_beside_the_stored_value_and_can_be_changed(make: MakeDatabase) -> None:
    path = make(*_HARBOUR)
    async with driven(path) as driver:
        await _open(driver, "visits")
        await driver.sees("1780000000  2026-05-28 20:26:40 UTC")
        driver.sheet.go_to(0, "paid_at")
        await driver.press("at")
        await driver.sees("paid_at: unix milliseconds")
        await driver.sees("1780000000  1970-01-21")
        driver.sheet.go_to(0, "day")
        await driver.press("at")
        await driver.sees("day: unix seconds")
    async with driven(path) as driver:
        await _open(driver, "visits")
        await driver.sees("1780000000  1970-01-21", "5  1970-01-01 00:00:05 UTC")


async def test_json_is_laid_out_as_written_and_folds(make: MakeDatabase) -> None:
    async with driven(make(*_HARBOUR)) as driver:
        await _open(driver, "visits")
        await driver.until(lambda: '"age": 1.50' in _card(driver) and '"x": 1e3' in _card(driver))
        await driver.press("v", "end")
        card = driver.card
        while '"crew": [' not in _current(driver):
            await driver.press("up")
        await driver.press("enter")
        await driver.until(lambda: '"crew": [ 2 … ],' in card.text)
        await driver.press("right")
        await driver.until(lambda: '"age": 1.50' in card.text)


def _current(driver: Driver) -> str:
    card = driver.card
    line = next((x for x in card._content if x.spot == card._cursor), None)
    return "".join(text for text, _ in line.runs) if line is not None else ""


async def test_a_blob_is_shown_in_hex_with_its_kind_and_saved(
    make: MakeDatabase, tmp_path: Path
) -> None:
    target = tmp_path / "body.png"
    async with driven(make(*_HARBOUR)) as driver:
        await _open(driver, "files")
        await driver.sees(
            "‹png 11 B›", "00000  89 50 4e 47 0d 0a 1a 0a  ·PNG····", "stored as text"
        )
        driver.sheet.go_to(0, "body")
        await driver.press("b", *str(target), "enter")
        await driver.sees("saved to")
        assert target.read_bytes() == bytes.fromhex("89504e470d0a1a0a00ff41")
        await driver.press("b", *str(target), "enter")
        await driver.sees("cannot be written")


async def test_a_long_text_is_read_on_when_wanted(make: MakeDatabase) -> None:
    path = make(
        "CREATE TABLE t(id INTEGER PRIMARY KEY, body TEXT)",
        "INSERT INTO t VALUES (1, replace(hex(zeroblob(100000)), '00', 'tide ') || 'the end')",
    )
    async with driven(path) as driver:
        await driver.sees("Enter reads more")
        await driver.press("v", "end", "enter")
        await driver.until(lambda: _card(driver).endswith("the end"))


async def test_the_card_of_a_small_terminal_has_the_links_too(
    make: MakeDatabase, app: OpenApp
) -> None:
    path = make(*_HARBOUR)
    async with driven(path, SMALL) as driver:
        await _open(driver, "berths")
        await driver.press("v", "end")
        await driver.sees("pontoons 1  North arm", "boats.berth_id")


async def test_the_card_of_a_change_has_times_and_links_too(
    make: MakeDatabase, app: OpenApp
) -> None:
    path = make(
        "CREATE TABLE berths(id INTEGER PRIMARY KEY, name TEXT)",
        "INSERT INTO berths VALUES (1, 'north'), (2, 'south')",
        "CREATE TABLE stays(id INTEGER PRIMARY KEY, berth INTEGER REFERENCES berths, "
        "paid_at INTEGER)",
        "INSERT INTO stays VALUES (1, 1, 1780000000)",
    )
    async with driven(path) as driver:
        await driver.open_table("berths")
        await driver.press("s")
        await driver.sees("s1 taken")
        app(path).run("INSERT INTO stays VALUES (2, 2, 1780086400)")
        await driver.press("c")
        await driver.sees("+ 2 ")
        await driver.until(
            lambda: (
                "berths 2  south" in _card(driver)
                and "2026-05-29" in _card(driver)
                and "paid_at  integer" in _card(driver)
            )
        )
        await driver.press("v", "end", "enter")
        await driver.sees("berths  2 rows", "row 2 of 2")
        await driver.press("backspace")
        await driver.sees("changes since s1")


async def test_links_are_always_of_the_record_that_the_card_shows(
    make: MakeDatabase, app: OpenApp
) -> None:
    """From a change to its record, on whose way the card shows the first one for a moment."""
    path = make(*_HARBOUR)
    async with driven(path) as driver:
        await driver.press("s")
        await driver.sees("s1 taken")
        app(path).run("UPDATE berths SET n = 22 WHERE id = 3")
        await driver.press("s")
        await driver.sees("changes of s2", "pontoons 2  South arm")
        await driver.press("end", "enter")
        await driver.until(lambda: driver.desk.navigator.view == "records")
        await driver.sees("berths 3", "row 3 of 4")
        for _ in range(12):
            await driver.pilot.pause(0.05)
            assert "North arm" not in _card(driver)
        await driver.sees("pontoons 2  South arm")
