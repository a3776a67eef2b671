"""The demo's app: it writes what an app would, with the honest bugs that the demo is about."""

from __future__ import annotations

import os
import sqlite3
import subprocess
import sys
from collections.abc import Callable
from contextlib import closing
from dataclasses import replace
from pathlib import Path

import pytest

from jondel.core.diff.compare import Scope
from jondel.core.engines.protocol import Database
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import Changes
from jondel.core.trail.trail import Trail
from jondel.core.verify.action_run import ActionRunner
from jondel.core.verify.actions import Action, Outcome, Request
from jondel.demo.launch import DemoUnavailable, harbour_desk

_CLOCK = "2026-06-14T14:02:11"
Perform = Callable[[str], Changes]


@pytest.fixture
def perform(
    harbour: Path,
    opened: Callable[[Path], Database],
    trail_of: Callable[[Database], Trail],
) -> Perform:
    """Performs an action from the app's command line and gives what it wrote."""
    database = opened(harbour)
    trail = trail_of(database)

    def run(action: str) -> Changes:
        before = trail.take(database)
        subprocess.run(
            [sys.executable, "-m", "jondel.demo.harbour_desk", action,
             "--database", str(harbour), "--clock", _CLOCK],
            check=True,
            capture_output=True,
        )  # fmt: skip
        return trail.changes(before, trail.take(database), Scope())

    return run


def _sizes(changes: Changes) -> dict[str, str]:
    return {str(table.table): table.counts.marked() for table in changes.tables}


def test_the_harbour_has_rows_enough_to_need_a_real_grid(harbour: Path) -> None:
    with closing(sqlite3.connect(harbour)) as connection:
        assert connection.execute("SELECT count(*) FROM tide_readings").fetchone() == (200_000,)
        assert connection.execute("SELECT sum(berths) FROM berth_occupancy").fetchone() == (60,)


def test_the_same_harbour_is_made_every_time(harbour_template: Path, tmp_path: Path) -> None:
    again = tmp_path / "again.db"
    subprocess.run(
        [sys.executable, "-m", "jondel.demo.harbour_desk", "init", "--database", str(again)],
        check=True,
    )
    assert again.read_bytes() == harbour_template.read_bytes()


@pytest.mark.parametrize(
    ("action", "sizes"),
    [
        ("book-berth", {"berths": "~1", "bookings": "+1", "invoices": "+1"}),
        ("check-in", {"berths": "~1", "bookings": "~1"}),
        ("sell-fuel", {"fuel_sales": "+1", "invoices": "+1"}),
        ("settle-invoice", {"bookings": "~1", "invoices": "~1", "payments": "+1"}),
        ("cancel-booking", {"bookings": "~1"}),
        ("import-tides", {"tide_readings": "+120"}),
    ],
)
def test_each_action_writes_several_tables_and_touches_a_session(
    perform: Perform, action: str, sizes: dict[str, str]
) -> None:
    assert _sizes(perform(action)) == {**sizes, "web_sessions": "~1"}


def _added(changes: Changes, table: str) -> dict[str, object]:
    found = changes.table(TableId(table))
    assert found is not None
    row = found.records[0].after
    assert row is not None
    return dict(zip(found.columns_after, row, strict=True))


def test_a_fuel_sale_has_empty_text_where_null_is_meant(perform: Perform) -> None:
    assert _added(perform("sell-fuel"), "fuel_sales")["note"] == ""


def test_a_fuel_sales_invoice_points_at_a_booking_that_is_not_there(
    perform: Perform, harbour: Path
) -> None:
    pointed = _added(perform("sell-fuel"), "invoices")["booking_id"]
    with closing(sqlite3.connect(harbour)) as connection:
        found = connection.execute("SELECT count(*) FROM bookings WHERE id = ?", (pointed,))
        assert found.fetchone() == (0,)


def test_a_payment_has_two_columns_swapped(perform: Perform) -> None:
    payment = _added(perform("settle-invoice"), "payments")
    assert payment["reference"] == "card"
    assert str(payment["method"]).startswith("SH")


def test_a_cancelled_booking_leaves_its_berth_taken(perform: Perform) -> None:
    assert perform("cancel-booking").table(TableId("berths")) is None


def test_a_check_in_writes_its_time_in_another_format(perform: Perform) -> None:
    changes = perform("check-in").table(TableId("bookings"))
    assert changes is not None
    cells = {cell.column: cell.after for cell in changes.records[0].cells}
    assert cells["checked_in_at"] == "14/06/2026 14:02"


def test_actions_work_over_http_and_stop_with_whoever_started_them(harbour: Path) -> None:
    with harbour_desk(harbour, _CLOCK) as actions:
        assert [action.name for action in actions] == [
            "book a berth",
            "check a boat in",
            "sell fuel",
            "settle an invoice",
            "cancel a booking",
            "import tide readings",
        ]
        assert _run(actions[0]).said == "berth 2 is held by booking 413"
        way = actions[0].way
        assert isinstance(way, Request)
        unknown = Action("sink a boat", replace(way, url=way.url.replace("book-berth", "sink")))
        assert "no such action" in _run(unknown).failure
    assert "is the app running?" in _run(actions[0]).failure


def _run(action: Action) -> Outcome:
    with closing(ActionRunner(Path.cwd(), os.environ)) as runner:
        return runner.run(action, "", {})


def test_an_action_with_nothing_left_to_do_is_refused_by_the_app(harbour: Path) -> None:
    with closing(sqlite3.connect(harbour)) as connection:
        connection.execute("UPDATE bookings SET status = 'left'")
        connection.commit()
    with harbour_desk(harbour, _CLOCK) as actions:
        assert "the app answered 409: there is nothing left" in _run(actions[1]).failure


def test_harbour_desk_on_something_else_is_reported(tmp_path: Path) -> None:
    path = tmp_path / "text.db"
    path.write_text("no database" * 100)
    with pytest.raises(DemoUnavailable, match=r"text\.db"), harbour_desk(path):
        pass
