"""The navigator: journeys, visits, and the one way back."""

from __future__ import annotations

import asyncio

import pytest

from jondel.core.model.addresses import TableId
from jondel.tui.frame.navigator import Journey, Navigator, Reach, Stop, Task, Visit, Work
from jondel.tui.frame.place import AtRow, Place
from jondel.tui.services.moments import NOW, AtStep


class _Task:
    def __init__(self, work: Work) -> None:
        self._task = asyncio.ensure_future(work())

    def cancel(self) -> None:
        self._task.cancel()

    @property
    def is_finished(self) -> bool:
        return self._task.done()

    @property
    def is_cancelled(self) -> bool:
        return self._task.cancelled()


def _start(work: Work, group: str) -> Task:
    return _Task(work)


@pytest.fixture
def navigator() -> Navigator:
    return Navigator(_start, "records", Place(table=TableId("berths")))


def _arrive(navigator: Navigator) -> None:
    journey = navigator.journey
    assert journey is not None
    navigator.arrive(journey, journey.place)


async def test_one_is_where_one_was_until_one_arrives(navigator: Navigator) -> None:
    navigator.go(Place(AtStep(2), table=TableId("berths")))
    assert navigator.place.moment is NOW
    assert navigator.destination.moment == AtStep(2)
    _arrive(navigator)
    assert navigator.place.moment == AtStep(2)
    assert navigator.journey is None


async def test_a_later_journey_ends_the_earlier_one(navigator: Navigator) -> None:
    navigator.go(Place(AtStep(1)))
    first = navigator.journey
    navigator.go(Place(AtStep(2)))
    assert first is not None
    assert first.ended
    with pytest.raises(AssertionError):
        navigator.arrive(first, first.place)


async def test_a_journey_that_is_given_up_changes_nothing(navigator: Navigator) -> None:
    given_up: list[bool] = []
    navigator.on_given_up = lambda: given_up.append(True)
    navigator.go(Place(AtStep(1)), view="changes", leaving=Stop("records", navigator.place))
    assert navigator.give_up()
    assert (navigator.view, navigator.place.table, navigator.way_back) == (
        "records",
        TableId("berths"),
        (),
    )
    assert given_up == [True]
    assert not navigator.give_up()


@pytest.mark.parametrize(
    ("place", "ended"),
    [
        pytest.param(
            Place(AtStep(1), table=TableId("berths")), (True, True, True), id="other-moment"
        ),
        pytest.param(
            Place(compare_from=AtStep(1), table=TableId("berths")),
            (True, True, True),
            id="compared-from",
        ),
        pytest.param(Place(table=TableId("boats")), (False, True, True), id="other-table"),
        pytest.param(Place(table=TableId("berths")), (False, False, True), id="same-table"),
    ],
)
async def test_what_is_asked_lasts_as_long_as_one_stays(
    navigator: Navigator, place: Place, ended: tuple[bool, ...]
) -> None:
    visits = [navigator.visit(reach) for reach in Reach]
    navigator.go(place)
    assert not any(visit.ended for visit in visits)
    _arrive(navigator)
    assert tuple(visit.ended for visit in visits) == ended


async def test_leaving_ends_what_was_asked_and_its_code_runs_no_more(navigator: Navigator) -> None:
    answer: asyncio.Future[str] = asyncio.get_running_loop().create_future()
    seen: list[str] = []

    async def ask() -> None:
        seen.append(await answer)

    navigator.visit(Reach.TABLE).start(ask, "question")
    await asyncio.sleep(0)
    answer.set_result("late")  # it is there, and the place is left before anyone could look
    navigator.go(Place(table=TableId("boats")))
    _arrive(navigator)
    await asyncio.sleep(0.01)
    assert seen == []


async def test_only_the_latest_work_of_a_group_goes_on_unless_beside() -> None:
    visit, done = Visit(_start), []

    async def work() -> None:
        await asyncio.sleep(0.01)
        done.append(1)

    visit.start(work, "a")
    visit.start(work, "a")
    visit.start(work, "b")
    visit.start(work, "b", beside=True)
    await asyncio.sleep(0.05)
    assert len(done) == 3


async def test_a_cursor_that_moves_ends_the_visit_to_the_record_alone(navigator: Navigator) -> None:
    table, record = navigator.visit(Reach.TABLE), navigator.visit(Reach.RECORD)
    navigator.move_to_record(AtRow(0), "id")
    navigator.move_to_record(AtRow(0), "name")
    assert (table.ended, record.ended) == (False, True)
    assert navigator.place.column == "name"
    assert not navigator.visit(Reach.RECORD).ended


async def test_the_way_back_leads_through_links_and_views_alike(navigator: Navigator) -> None:
    undone: list[str] = []
    link = Stop("records", navigator.place, "berths 2", lambda: undone.append("filter"))
    navigator.go(Place(table=TableId("boats")), leaving=link)
    _arrive(navigator)
    navigator.go(view="changes", leaving=Stop("records", navigator.place))
    _arrive(navigator)
    assert (navigator.view, len(navigator.way_back)) == ("changes", 2)
    assert navigator.go_back()
    _arrive(navigator)
    assert (navigator.view, navigator.place.table) == ("records", TableId("boats"))
    assert navigator.go_back()
    journey = navigator.journey
    assert isinstance(journey, Journey)
    assert undone == []
    journey.on_arrival()
    _arrive(navigator)
    assert undone == ["filter"]
    assert navigator.place.table == TableId("berths")
    assert not navigator.go_back()


async def test_going_somewhere_by_oneself_forgets_the_way_back(navigator: Navigator) -> None:
    navigator.go(
        Place(table=TableId("boats")), leaving=Stop("records", navigator.place, "berths 2")
    )
    _arrive(navigator)
    navigator.go(Place(table=TableId("crews")), afresh=True)
    _arrive(navigator)
    assert navigator.way_back == ()
