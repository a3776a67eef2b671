"""The pytest plugin: records what a block of test code writes, whatever writes it.

    def test_booking(jondel_database):
        database = jondel_database("app.db")
        with database.record("book a berth") as step:
            client.post("/bookings", ...)
        assert step.counts == {"bookings": "+1", "berths": "~1"}
        assert step.added("bookings")[0]["status"] == "held"
        step.expect()                     # as jondel.toml says, or as it was the first time

Nothing of Jondel is loaded before a test asks for it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

import pytest

if TYPE_CHECKING:
    from jondel.testing.recorded import RecordedDatabase

Open = Callable[..., "RecordedDatabase"]


def pytest_addoption(parser: pytest.Parser) -> None:
    """See ``pytest --help``."""
    group = parser.getgroup("jondel")
    group.addoption(
        "--jondel-accept",
        action="store_true",
        help="from now on expect what each recorded step writes this time",
    )


@pytest.fixture
def jondel_database(
    request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory
) -> Iterator[Open]:
    """Opens databases to record what test code writes to them.

    ``jondel_database(target, restore=False)``: a path or URL; with ``restore`` the database is put
    back after the test to what it was when the test run first opened it.
    """
    from jondel.testing.recorded import DatabasesOfRun

    databases = _of_run(request.config, tmp_path_factory)
    assert isinstance(databases, DatabasesOfRun)
    name = request.node.name
    opened: list[RecordedDatabase] = []

    def open_it(target: object, *, restore: bool = False) -> RecordedDatabase:
        database = databases.opened(str(target))
        database.begin_test(name, restore=restore)
        opened.append(database)
        return database

    yield open_it
    for database in opened:
        database.end_test()


_DATABASES = pytest.StashKey[object]()


def _of_run(config: pytest.Config, factory: pytest.TempPathFactory) -> object:
    """The databases that are open in this test run; of each of several workers its own."""
    if _DATABASES not in config.stash:
        from jondel.testing.recorded import DatabasesOfRun

        config.stash[_DATABASES] = DatabasesOfRun(
            factory.mktemp("jondel"), accept=config.getoption("--jondel-accept")
        )
    return config.stash[_DATABASES]


def pytest_unconfigure(config: pytest.Config) -> None:
    """Let go of what is open."""
    databases = config.stash.get(_DATABASES, None)
    if databases is not None:
        databases.close()  # type: ignore[attr-defined]
