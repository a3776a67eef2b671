"""Links between records: declared, guessed from names and values, decided by a person."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import MakeDatabase
from jondel.core.browse.link_guesses import guessed_links
from jondel.core.browse.link_tree import LinkNode, lines_of_links
from jondel.core.browse.links import (
    Link,
    LinkDecisions,
    all_links,
    children_cells,
    declared_links,
    target_of,
)
from jondel.core.engines.protocol import Database
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Column, Schema, Table
from jondel.core.trail.project import Project

Opened = Callable[[Path], Database]


def _guessed(database: Database) -> list[str]:
    return [link.words() for link in guessed_links(database, database.schema())]


def test_declared_links_are_read_with_implied_and_composite_keys(
    make: MakeDatabase, opened: Opened
) -> None:
    database = opened(
        make(
            "CREATE TABLE berths(pontoon TEXT, number INTEGER, PRIMARY KEY (pontoon, number))",
            "CREATE TABLE boats(id INTEGER PRIMARY KEY, p TEXT, n INTEGER, "
            "owner INTEGER REFERENCES SKIPPERS, gone REFERENCES nosuch(id), "
            "FOREIGN KEY (p, n) REFERENCES berths)",
            "CREATE TABLE skippers(Id INTEGER PRIMARY KEY, boss REFERENCES skippers(id))",
        )
    )
    words = sorted(link.words() for link in declared_links(database.schema()))
    assert words == [
        "boats.owner → skippers.Id",
        "boats.p, n → berths.pontoon, number",
        "skippers.boss → skippers.Id",
    ]


def test_names_suggest_links_and_values_bear_them_out(make: MakeDatabase, opened: Opened) -> None:
    database = opened(
        make(
            "CREATE TABLE berths(id INTEGER PRIMARY KEY)",
            "INSERT INTO berths VALUES (1), (2), (3)",
            "CREATE TABLE ferries(code TEXT PRIMARY KEY)",
            "INSERT INTO ferries VALUES ('A'), ('B')",
            "CREATE TABLE boats(id INTEGER PRIMARY KEY, berth_id INTEGER, ferry TEXT, "
            "parentBoatId INTEGER, boat_id INTEGER, berth_no INTEGER, crew_id INTEGER)",
            "INSERT INTO boats VALUES (1, 2, 'A', 9, NULL, 77, 1), (2, 3, 'B', 9, 1, 78, 1)",
        )
    )
    assert _guessed(database) == [
        "boats.berth_id → berths.id",
        "boats.ferry → ferries.code",
        "boats.boat_id → boats.id",
    ]


_PEOPLE_AND_PLACES = (
    "CREATE TABLE harbour_berths(id INTEGER PRIMARY KEY)",
    "INSERT INTO harbour_berths VALUES (11), (12), (13)",
    "CREATE TABLE tide_stations(id INTEGER PRIMARY KEY)",
    "INSERT INTO tide_stations VALUES (31), (32)",
    "CREATE TABLE customers(id INTEGER PRIMARY KEY)",
    "INSERT INTO customers VALUES (41), (42)",
    "CREATE TABLE auth_user(id INTEGER PRIMARY KEY)",
    "INSERT INTO auth_user VALUES (51), (52)",
)


@pytest.mark.parametrize(
    ("column", "values", "parent"),
    [
        pytest.param("_berth_id", (11, 12), "harbour_berths", id="leading-underscore"),
        pytest.param("fkBerthId", (11, 12), "harbour_berths", id="prefix"),
        pytest.param("home_berth_id", (13, 13), "harbour_berths", id="role-before-the-name"),
        pytest.param("tsid", (31, 32), "tide_stations", id="initials"),
        pytest.param("ts_id", (31, 31), None, id="initials-with-one-value"),
        pytest.param("cust_id", (41, 42), "customers", id="abbreviation"),
        pytest.param("cu_id", (41, 42), None, id="too-short-an-abbreviation"),
        pytest.param("creator", (51, 52), "auth_user", id="role-of-a-person"),
        pytest.param("created_by", (51, 52), "auth_user", id="by-whom"),
        pytest.param("approved_by_id", (51, 52), "auth_user", id="by-whom-with-an-ending"),
        pytest.param("created", (51, 52), None, id="a-time-by-its-name"),
        pytest.param("parent", (1, 2), "notes", id="own-table"),
        pytest.param("creator", (51, 99), None, id="values-that-lead-nowhere"),
        pytest.param("valid", (0, 1), None, id="a-word-that-ends-like-a-key"),
    ],
)
def test_names_that_only_hint_at_a_table_are_followed_where_values_bear_them_out(
    make: MakeDatabase,
    opened: Opened,
    column: str,
    values: tuple[int, int],
    parent: str | None,
) -> None:
    database = opened(
        make(
            *_PEOPLE_AND_PLACES,
            f"CREATE TABLE notes(id INTEGER PRIMARY KEY, {column} INTEGER)",
            f"INSERT INTO notes VALUES (1, {values[0]}), (2, {values[1]})",
        )
    )
    assert _guessed(database) == ([f"notes.{column} → {parent}.id"] if parent else [])


def test_a_hint_at_two_tables_is_none(make: MakeDatabase, opened: Opened) -> None:
    database = opened(
        make(
            "CREATE TABLE boats(id INTEGER PRIMARY KEY)",
            "INSERT INTO boats VALUES (1), (2)",
            "CREATE TABLE berths(id INTEGER PRIMARY KEY)",
            "INSERT INTO berths VALUES (1), (2)",
            "CREATE TABLE notes(id INTEGER PRIMARY KEY, bid INTEGER)",
            "INSERT INTO notes VALUES (1, 1), (2, 2)",
        )
    )
    assert _guessed(database) == []


def test_a_column_beside_says_into_which_table_an_id_points(
    make: MakeDatabase, opened: Opened
) -> None:
    database = opened(
        make(
            "CREATE TABLE boats(id INTEGER PRIMARY KEY)",
            "INSERT INTO boats VALUES (1), (2)",
            "CREATE TABLE invoices(id INTEGER PRIMARY KEY)",
            "INSERT INTO invoices VALUES (501)",
            "CREATE TABLE notes(id INTEGER PRIMARY KEY, subject_type TEXT, subject_id INTEGER)",
            "INSERT INTO notes VALUES (1, 'Boat', 2), (2, 'Invoice', 501), (3, 'Moon', 4)",
        )
    )
    links = list(guessed_links(database, database.schema()))
    assert [link.words() for link in links] == [
        "notes.subject_id → boats.id where subject_type is Boat",
        "notes.subject_id → invoices.id where subject_type is Invoice",
    ]
    schema = database.schema()
    notes = schema.named("notes")
    assert notes is not None
    rows = database.rows.read_window(notes, 0, 3).rows
    found = [target_of(database, schema, link, notes, rows[1]) for link in links]
    assert found[0] is None
    assert found[1] is not None
    assert found[1].position == (501,)
    boats = schema.named("boats")
    assert boats is not None
    cells = children_cells(links[0], boats, (2,))
    assert cells == (("subject_id", 2), ("subject_type", "Boat"))
    assert database.rows.count_matching(notes, cells) == 1


@pytest.mark.parametrize("value", ["NULL", "99"])
def test_nothing_is_guessed_where_no_value_leads_anywhere(
    make: MakeDatabase, opened: Opened, value: str
) -> None:
    database = opened(
        make(
            "CREATE TABLE berths(id INTEGER PRIMARY KEY)",
            "INSERT INTO berths VALUES (1)",
            "CREATE TABLE boats(id INTEGER PRIMARY KEY, berth_id INTEGER)",
            f"INSERT INTO boats VALUES (1, {value})",
        )
    )
    assert _guessed(database) == []


def test_what_a_person_decides_goes_before_what_is_guessed() -> None:
    berth = Link(TableId("boats"), ("berth_id",), TableId("berths"), ("id",))
    crew = Link(TableId("boats"), ("crew_id",), TableId("crews"), ("id",))
    own = Link(TableId("boats"), ("tag",), TableId("tags"), ("name",))
    decisions = LinkDecisions().refuse(berth).confirm(crew).add(own)
    assert all_links([], [berth, crew], decisions) == {own: "added", crew: "confirmed"}
    decisions = decisions.confirm(berth).refuse(own)
    assert all_links([], [berth], decisions) == {berth: "confirmed", crew: "confirmed"}
    assert all_links([berth], [berth], LinkDecisions()) == {berth: "declared"}


def test_decisions_name_tables_by_as_much_of_an_address_as_it_takes(tmp_path: Path) -> None:
    (tmp_path / "jondel.toml").write_text(
        """
        [[links]]
        child = "odd.boats"
        columns = ["berth_id"]
        parent = "berths"
        keys = ["id"]
        standing = "confirmed"
        """
    )
    project = Project(str(tmp_path / "app.db"))
    one_level = Schema(tuple(Table(TableId(n), "table", ()) for n in ("odd.boats", "berths")))
    (link,) = project.link_decisions().resolved(one_level).confirmed
    assert (link.child, link.parent) == (TableId("odd.boats"), TableId("berths"))

    levels = (("odd", "boats"), ("public", "berths"), ("odd", "berth"))
    several = Schema(tuple(Table(TableId(*names), "table", ()) for names in levels))
    (link,) = project.link_decisions().resolved(several).confirmed
    assert (link.child, link.parent) == (TableId("odd", "boats"), TableId("public", "berths"))

    project.change_link_decisions(lambda known: known.resolved(one_level))
    (kept,) = project.link_decisions().confirmed
    assert kept.child == TableId("odd.boats")


def test_links_that_nothing_uses_are_one_line() -> None:
    berths = Table(TableId("berths"), "table", (Column("id", key_position=1),))
    nodes = []
    for child, count in (("boats", 0), ("bookings", 2), ("lamps", 0), ("crews", None)):
        link = Link(TableId(child), ("berth",), TableId("berths"), ("id",))
        node = LinkNode(berths, (1,), link, "declared", outwards=False)
        node.count = count
        nodes.append(node)
    lines = list(lines_of_links(nodes))
    assert [entry.link.label for entry in lines if entry.link] == ["bookings.berth", "crews.berth"]
    assert [node.label for node in lines[-1].unused] == ["boats.berth", "lamps.berth"]
    alone = list(lines_of_links(nodes[:2]))
    assert [entry.link.label for entry in alone if entry.link] == ["boats.berth", "bookings.berth"]
