"""The field over a cell: it edits as a shell does, and leaves all other keys to commands."""

from __future__ import annotations

from textual.app import App, ComposeResult

from jondel.tui.theme import DUSK
from jondel.tui.widgets.cell_editor import CellEditor


class _App(App[None]):
    def __init__(self) -> None:
        super().__init__()
        self.register_theme(DUSK)
        self.theme = DUSK.name
        self.entered: list[str] = []

    def compose(self) -> ComposeResult:
        yield CellEditor("Gull", lambda: self.entered.append(self.editor.value), lambda: None)

    @property
    def editor(self) -> CellEditor:
        return self.query_one(CellEditor)

    def get_theme_variable_defaults(self) -> dict[str, str]:
        return DUSK.variables


async def test_what_is_typed_replaces_the_value_and_enter_hands_it_on_at_once() -> None:
    app = _App()
    async with app.run_test() as pilot:
        app.editor.focus()
        await pilot.press(*"Tern", "enter")
        assert app.entered == ["Tern"]


async def test_the_line_is_edited_as_in_a_shell() -> None:
    app = _App()
    async with app.run_test() as pilot:
        app.editor.focus()
        await pilot.press("end", "!", "ctrl+a", "a", "ctrl+e", "z", "enter")
        assert app.entered == ["aGull!z"]
