"""Jondel's palette: a harbour at dusk, and the same harbour by day.

Ink, sand, brass and sea-green. Added, changed and removed are sea-green, brass and buoy red; their
lightness differs too, so they stay apart for red-green blind eyes, and every one also has its mark.
"""

from __future__ import annotations

from typing import TypeVar

from textual.app import App
from textual.reactive import Reactive
from textual.theme import Theme

DUSK = Theme(
    name="dusk",
    dark=True,
    primary="#d3a74f",
    secondary="#6cc0aa",
    accent="#d3a74f",
    foreground="#e6dac0",
    background="#101820",
    surface="#16212a",
    panel="#1f2d38",
    success="#6cc0aa",
    warning="#d3a74f",
    error="#eb8773",
    variables={
        "ink": "#101820",
        "sand": "#e6dac0",
        "sand-dim": "#a8a08e",
        "brass": "#d3a74f",
        "sea": "#6cc0aa",
        "added": "#6cc0aa",
        "changed": "#e2b968",
        "removed": "#eb8773",
        "draft": "#bfaeea",
        "row-current": "#263845",
        "rail": "#52646f",
        "past": "#3a2f1a",
        "footer-key-foreground": "#d3a74f",
        "input-cursor-background": "#d3a74f",
        "input-cursor-foreground": "#101820",
        "input-selection-background": "#3f5766",
        "scrollbar": "#34454f",
        "scrollbar-hover": "#52646f",
        "scrollbar-active": "#d3a74f",
        "scrollbar-background": "#16212a",
        "scrollbar-background-hover": "#16212a",
        "scrollbar-background-active": "#16212a",
        "scrollbar-corner-color": "#16212a",
    },
)

MORNING = Theme(
    name="morning",
    dark=False,
    primary="#7a5510",
    secondary="#155f52",
    accent="#7a5510",
    foreground="#1c2a33",
    background="#f6efdf",
    surface="#efe6d1",
    panel="#e2d6ba",
    success="#155f52",
    warning="#7a5510",
    error="#920a3e",
    variables={
        "ink": "#f6efdf",
        "sand": "#1c2a33",
        "sand-dim": "#5c5749",
        "brass": "#7a5510",
        "sea": "#155f52",
        "added": "#155f52",
        "changed": "#704e0a",
        "removed": "#920a3e",
        "draft": "#563a8c",
        "row-current": "#dccfae",
        "rail": "#9c927a",
        "past": "#ead9ae",
        "footer-key-foreground": "#7a5510",
        "input-cursor-background": "#7a5510",
        "input-cursor-foreground": "#f6efdf",
        "input-selection-background": "#d8c48e",
        "scrollbar": "#c9bc9c",
        "scrollbar-hover": "#9c927a",
        "scrollbar-active": "#7a5510",
        "scrollbar-background": "#efe6d1",
        "scrollbar-background-hover": "#efe6d1",
        "scrollbar-background-active": "#efe6d1",
        "scrollbar-corner-color": "#efe6d1",
    },
)

_Answer = TypeVar("_Answer")


class ThemedApp(App[_Answer]):
    """An application in our palette."""

    theme = Reactive(DUSK.name)
    """The palette; set later, it would have the style sheets read twice."""

    @property
    def available_themes(self) -> dict[str, Theme]:
        """Ours and the toolkit's; not registered, for the first of them is needed before that."""
        return {**super().available_themes, DUSK.name: DUSK, MORNING.name: MORNING}

    def get_theme_variable_defaults(self) -> dict[str, str]:
        return DUSK.variables

    def action_change_light(self) -> None:
        """Go from the dark theme to the light one, or back."""
        self.theme = MORNING.name if self.theme == DUSK.name else DUSK.name
