"""Records: tables, the sheet, the card, at both sizes."""

from __future__ import annotations

from pathlib import Path

import pytest
from driving import SMALL, WIDE, driven
from rich.cells import cell_len
from textual import events

import hostile
from conftest import MakeDatabase, OpenApp

_PEOPLE = (
    "CREATE TABLE berths(id INTEGER PRIMARY KEY, name TEXT NOT NULL)",
    "CREATE TABLE boats(id INTEGER PRIMARY KEY, berth_id REFERENCES berths(id), note)",
    "INSERT INTO berths VALUES (1, 'north'), (2, '')",
    "INSERT INTO boats VALUES (1, 1, NULL), (2, 2, 'leaks')",
    "CREATE VIEW taken AS SELECT berth_id FROM boats",
)
_MANY = (
    "CREATE TABLE readings(id INTEGER PRIMARY KEY, height INT)",
    "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 50000) "
    "INSERT INTO readings SELECT i * 2, i % 97 FROM n",
)


async def test_tables_are_listed_with_their_counts_views_too_and_internal_ones_on_demand(
    make: MakeDatabase,
) -> None:
    path = make(*_PEOPLE, "CREATE TABLE log(id INTEGER PRIMARY KEY AUTOINCREMENT)")
    async with driven(path) as driver:
        await driver.sees("view 2", "tables 4")
        assert "sqlite_sequence" not in driver.text
        await driver.press("i")
        await driver.sees("sqlite_sequence", "with internal")
        await driver.press("i")
        await driver.until(lambda: "sqlite_sequence" not in driver.text)


async def test_the_sheet_shows_keys_links_nulls_and_empty_texts(make: MakeDatabase) -> None:
    async with driven(make(*_PEOPLE)) as driver:
        await driver.sees("◆ id", '""')
        await driver.press("t", "home", "down", "enter")
        await driver.sees("→ berth_id", "∅", "leaks", "boats", "row 1 of 2")


async def test_the_card_shows_the_current_record(make: MakeDatabase) -> None:
    async with driven(make(*_PEOPLE)) as driver:
        await driver.press("t", "home", "down", "enter", "down")
        await driver.sees("boats 2", "→ berths.id", "  leaks")


@pytest.mark.parametrize("size", [WIDE, SMALL], ids=["160x47", "80x24"])
async def test_a_large_table_is_walked_by_keys_to_both_ends(
    make: MakeDatabase, size: tuple[int, int]
) -> None:
    async with driven(make(*_MANY), size) as driver:
        await driver.sees("50 000 rows")
        await driver.press("end")
        await driver.sees("row 50 000 of 50 000", "100000")
        await driver.press("pageup", "up")
        await driver.until(lambda: driver.sheet.record_at(driver.sheet.cursor_row) is not None)
        assert driver.sheet.record_at(driver.sheet.cursor_row) == (
            (2 * (driver.sheet.cursor_row + 1),),
            (2 * (driver.sheet.cursor_row + 1), (driver.sheet.cursor_row + 1) % 97),
        )
        await driver.press("home")
        await driver.sees("row 1 of 50 000")
        await driver.press("pagedown")
        await driver.until(lambda: driver.sheet.cursor_row == driver.sheet.size.height - 2)


async def test_the_sheet_never_holds_the_whole_table(make: MakeDatabase) -> None:
    async with driven(make(*_MANY)) as driver:
        await driver.sees("50 000 rows")
        await driver.press(*["pagedown"] * 80)
        await driver.until(lambda: driver.sheet.record_at(driver.sheet.cursor_row) is not None)
        held = sum(driver.sheet.record_at(n) is not None for n in range(50_000))
        assert 0 < held < 10_000


async def test_what_the_app_writes_appears_without_losing_the_place(
    make: MakeDatabase, app: OpenApp
) -> None:
    path = make(*_MANY, journal="WAL")
    async with driven(path) as driver:
        await driver.sees("50 000 rows")
        await driver.press("end", "up", "right")
        writer = app(path)
        writer.run("INSERT INTO readings VALUES (100001, 5)")
        await driver.sees("50 001 rows")
        assert (driver.sheet.cursor_row, driver.sheet.cursor_column) == (49_998, 1)
        writer.run("DELETE FROM readings WHERE id > 20")
        await driver.sees("row 10 of 10")


async def test_a_table_the_app_drops_or_adds_is_noticed(make: MakeDatabase, app: OpenApp) -> None:
    path = make(*_PEOPLE, journal="WAL")
    async with driven(path) as driver:
        await driver.sees("berths")
        writer = app(path)
        writer.run("DROP VIEW taken")
        writer.run("DROP TABLE boats")
        writer.run("CREATE TABLE cranes(id)")
        await driver.sees("cranes", "tables 2")
        assert "boats" not in driver.text


async def test_a_small_terminal_folds_the_card_away_and_opens_it_on_demand(
    make: MakeDatabase,
) -> None:
    async with driven(make(*_PEOPLE), SMALL) as driver:
        await driver.press("t", "home", "down", "enter", "down")
        await driver.sees("row 2 of 2")
        assert "→ berths.id" not in driver.text
        await driver.press("enter")
        await driver.sees("→ berths.id", "leaks")
        await driver.press("escape")
        await driver.until(lambda: "→ berths.id" not in driver.text)
        assert driver.sheet.has_focus


async def test_an_empty_database_says_so_and_stays_usable(tmp_path: Path, app: OpenApp) -> None:
    path = tmp_path / "new.db"
    path.touch()
    async with driven(path) as driver:
        await driver.sees("no tables in this database")
        await driver.press("s", "c", "r", "end", "t", "v")
        app(path).run("CREATE TABLE first(id INTEGER PRIMARY KEY)")
        await driver.sees("first", "0 rows")


async def test_a_view_that_cannot_be_read_says_why_and_the_next_table_can(
    make: MakeDatabase,
) -> None:
    async with driven(make(*_PEOPLE, "CREATE VIEW astray AS SELECT * FROM gone")) as driver:
        await driver.sees("astray")
        await driver.press("t", "home", "down", "down")
        await driver.sees("not readable", "gone")
        await driver.press("up")
        await driver.sees("leaks")


async def test_a_database_that_vanishes_and_returns_is_followed(
    make: MakeDatabase, tmp_path: Path
) -> None:
    path = make(*_PEOPLE)
    async with driven(path) as driver:
        await driver.sees("north")
        path.rename(tmp_path / "away.db")
        await driver.sees("cannot be read now")
        await driver.until(lambda: "put it back or open another" in driver.sheet.problem)
        assert "north" not in driver.text
        (tmp_path / "away.db").rename(path)
        await driver.sees("north", "live")
        assert "cannot be read" not in driver.text


async def test_a_locked_database_is_waited_for(make: MakeDatabase, app: OpenApp) -> None:
    path = make(*_PEOPLE)
    holder = app(path)
    holder.run("BEGIN EXCLUSIVE")
    async with driven(path) as driver:
        await driver.sees("cannot be read now", f"(pid {holder.pid})")
        holder.run("COMMIT")
        await driver.sees("north", "live")


async def test_a_home_that_cannot_be_used_leaves_looking_possible(
    make: MakeDatabase, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "file").touch()
    monkeypatch.setenv("JONDEL_HOME", str(tmp_path / "file"))
    async with driven(make(*_PEOPLE)) as driver:
        await driver.sees("JONDEL_HOME", "north")
        await driver.press("escape", "s")
        await driver.sees("JONDEL_HOME")
        await driver.press("t", "home", "down", "enter")
        await driver.sees("leaks")


@pytest.mark.parametrize("size", [WIDE, SMALL], ids=["160x47", "80x24"])
async def test_hostile_names_and_contents_are_shown_safely_and_aligned(
    hostile_database: Path, size: tuple[int, int]
) -> None:
    async with driven(hostile_database, size) as driver:
        await driver.sees("tables 10")
        for _ in range(10):
            await driver.press("down") if driver.sheet.has_focus else None
            await driver.press("t", "home", "down", "enter", "end", "ctrl+end", "enter", "escape")
            await driver.until(lambda: not driver.app.workers or driver.table is not None)
            for line in driver.lines:
                assert not {"\x1b", "\x07", "\x00", "\x9b", "\n", "\t"} & set(line)
                assert cell_len(line) == size[0]
        assert hostile.NAMES["emoji"][:1] in driver.text


async def test_every_hostile_value_is_shown_in_the_card(hostile_database: Path) -> None:
    async with driven(hostile_database) as driver:
        names = driver.tables
        await driver.press("t", "home", *["down"] * names.index("texts"), "enter")
        await driver.sees("18 rows")
        seen = []
        for _ in range(18):
            seen.append(driver.card.text)
            await driver.press("down")
        everything = "\n".join(seen)
        for part in ("^[[31mred", "[bold]b[/bold]", "before^@after", "··both ends··", "not UTF-8"):
            assert part in everything
        assert '"note": "[/x]' in everything


async def test_2000_columns_can_be_walked(hostile_database: Path) -> None:
    async with driven(hostile_database) as driver:
        names = driver.tables
        await driver.press("t", "home", *["down"] * names.index("many_columns"), "enter")
        await driver.sees("many_columns", "c7")
        await driver.press("ctrl+end")
        await driver.sees("c1998")
        await driver.press("left", "ctrl+home")
        await driver.sees("◆ id")


@pytest.mark.parametrize("table", ["keyed", "seen"])
async def test_one_goes_to_a_row_of_an_order_that_only_one_connection_has(
    make: MakeDatabase, table: str
) -> None:
    path = make(
        "CREATE TABLE keyed(k TEXT PRIMARY KEY, v INTEGER) WITHOUT ROWID",
        "WITH RECURSIVE n(i) AS (SELECT 0 UNION ALL SELECT i + 1 FROM n WHERE i < 4999) "
        "INSERT INTO keyed SELECT printf('k%04d', i), (i * 7919) % 5000 FROM n",
        "CREATE VIEW seen AS SELECT k, v FROM keyed",
    )
    async with driven(path) as driver:
        await driver.open_table(table, "v")
        await driver.press("o")
        await driver.sees("sorted by v ↑")
        await driver.press("j", "number_sign", *"1234", "enter")
        await driver.sees("row 1 234 of 5 000", "1233")
        if table == "keyed":
            await driver.press("j", *"k0777", "enter")
            place = 777 * 7919 % 5000 + 1
            await driver.sees(f"row {place:,} of 5 000".replace(",", " "))


async def test_a_table_of_no_visible_columns_or_rows_is_no_problem(make: MakeDatabase) -> None:
    async with driven(make("CREATE TABLE empty(id INTEGER PRIMARY KEY)")) as driver:
        await driver.sees("0 rows", "No records.")
        await driver.press("end", "down", "pageup", "enter", "escape", "right")
        assert driver.sheet.cursor_row == 0


async def test_keys_typed_ahead_go_where_they_were_meant(harbour: Path) -> None:
    async with driven(harbour) as driver:
        names = driver.tables
        for key in ("t", "home", *["down"] * names.index("tide_readings"), "enter", "end"):
            driver.app.post_message(events.Key(key, None))
        await driver.sees("row 200 000 of 200 000")
        assert driver.sheet.has_focus


async def test_the_mouse_goes_where_the_keys_go(make: MakeDatabase) -> None:
    async with driven(make(*_MANY, *_PEOPLE)) as driver:
        await driver.sees("tables 4")
        names = driver.tables
        await driver.click("TableList", (3, names.index("readings")))
        await driver.sees("50 000 rows")
        await driver.until(lambda: driver.sheet.record_at(5) is not None)
        await driver.until(lambda: driver.desk.navigator.journey is None)
        await driver.sees("    12       6")
        await driver.comes_to_rest()
        await driver.click("Sheet", (4, 7))
        await driver.sees("row 6 of 50 000", "readings 12")
        driver.sheet.scroll_to(0, 30_000, animate=False)
        await driver.until(lambda: driver.sheet.record_at(30_010) is not None)
        await driver.sees("60004")
        await driver.click_on("c changes")
        await driver.sees("There are no snapshots yet")


@pytest.mark.parametrize(
    ("moves", "becomes"), [(["end"], "heldz"), (["home"], "zheld"), (["end", "left"], "helzd")]
)
async def test_one_moves_in_a_value_and_types_in_one_breath(
    make: MakeDatabase, moves: list[str], becomes: str
) -> None:
    path = make(
        "CREATE TABLE t(id INTEGER PRIMARY KEY, v TEXT)", "INSERT INTO t VALUES (1, 'held')"
    )
    async with driven(path) as driver:
        await driver.open_table("t", "v")
        for key in ("e", *moves, "z", "enter"):
            driver.app.post_message(events.Key(key, key if len(key) == 1 else None))
        await driver.sees("* 1 not written")
        (edit,) = driver.workspace.drafts.entries()
        assert dict(edit.values) == {"v": becomes}


async def test_a_cell_is_edited_with_keys_typed_in_one_breath(harbour: Path) -> None:
    async with driven(harbour) as driver:
        await driver.until(lambda: bool(driver.tables))
        for key in (
            "t",
            "home",
            "down",
            "down",
            "enter",
            *["right"] * 4,
            "e",
            *"taken",
            "enter",
            "down",
        ):
            driver.app.post_message(events.Key(key, key if len(key) == 1 else None))
        await driver.sees("* 1 not written", "row 2 of 412")
        assert driver.sheet.column_name == "status"
        (edit,) = driver.workspace.drafts.entries()
        assert dict(edit.values) == {"status": "taken"}
        for key in ("up", "e", *"held", "enter", "W"):
            driver.app.post_message(events.Key(key, key if len(key) == 1 else None))
        await driver.sees("Write 1 record")
        (edit,) = driver.workspace.drafts.entries()
        assert dict(edit.values) == {"status": "held"}, "W was no letter of the value"
