"""A dialog that closes leaves nothing at work, and closes nothing but itself."""

from __future__ import annotations

import asyncio

import pytest
from textual import work
from textual.app import App, ComposeResult
from textual.containers import Vertical
from textual.widgets import Static

from jondel.tui.frame.dialog import Dialog
from jondel.tui.theme import DUSK


class _App(App[None]):
    """Nothing but a place for dialogs."""

    def get_theme_variable_defaults(self) -> dict[str, str]:
        return DUSK.variables


class _Busy(Dialog[str]):
    """Keeps telling how far it is, as long as it lives."""

    def compose(self) -> ComposeResult:
        yield Static(id="told")

    def opened(self) -> None:
        self.query_one("#told", Static).update("opened")

    @work
    async def tell(self) -> None:
        for number in range(10**6):
            self.query_one("#told", Static).update(str(number))
            await asyncio.sleep(0)

    @work
    async def answer(self, when: asyncio.Event) -> None:
        await when.wait()
        self.dismiss("late")


def test_work_ends_with_its_dialog() -> None:
    async def main() -> None:
        app = _App()
        async with app.run_test() as pilot:
            for _ in range(5):
                dialog = _Busy()
                await app.push_screen(dialog)
                telling = dialog.tell()
                await pilot.pause()
                dialog.dismiss("done")
                await pilot.pause()
                assert telling.is_cancelled

    asyncio.run(main())


def test_an_answer_from_its_own_work_arrives() -> None:
    async def main() -> None:
        app = _App()
        async with app.run_test() as pilot:
            answers: list[str | None] = []
            dialog = _Busy()
            await app.push_screen(dialog, answers.append)
            when = asyncio.Event()
            dialog.answer(when)
            when.set()
            await pilot.pause()
            assert answers == ["late"]
            assert len(app.screen_stack) == 1

    asyncio.run(main())


def test_a_late_answer_does_not_close_the_dialog_opened_over_it() -> None:
    async def main() -> None:
        app = _App()
        async with app.run_test() as pilot:
            answers: list[str | None] = []
            under, over = _Busy(), _Busy()
            await app.push_screen(under, answers.append)
            when = asyncio.Event()
            under.answer(when)
            await app.push_screen(over)
            when.set()
            await pilot.pause()
            assert app.screen is over
            assert answers == []

    asyncio.run(main())


class _Closed(_Busy):
    """Is taken away while it is put together, as by work that was stopped."""

    def compose(self) -> ComposeResult:
        self.dismiss("never seen")
        self.remove()
        yield from super().compose()


class _ClosedInPart(_Busy):
    """Is closed when its outer parts are there and its inner ones are not yet."""

    def compose(self) -> ComposeResult:
        yield _Outer(self)


class _Outer(Vertical):
    def __init__(self, dialog: _ClosedInPart) -> None:
        super().__init__()
        self._dialog = dialog

    def compose(self) -> ComposeResult:
        self._dialog.dismiss("never seen")
        self.remove_children()
        return iter(())


@pytest.mark.parametrize("kind", [_Closed, _ClosedInPart])
def test_a_dialog_can_be_closed_before_it_is_open(kind: type[_Busy]) -> None:
    async def main() -> None:
        app = _App()
        async with app.run_test() as pilot:
            answers: list[str | None] = []
            await app.push_screen(kind(), answers.append)
            await pilot.pause()
            assert answers == ["never seen"]
            assert len(app.screen_stack) == 1

    asyncio.run(main())
