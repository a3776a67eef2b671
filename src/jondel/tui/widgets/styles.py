"""The palette as text styles, shared by the widgets that draw line by line.

They take colours from the theme directly: a component class for each of them would be resolved
anew for every widget whenever anything is mounted, which start-up would feel.
"""

from __future__ import annotations

from functools import lru_cache

from rich.style import Style
from textual.theme import Theme
from textual.widget import Widget

from jondel.core.browse.display import Role
from jondel.core.formats.inside_text import Role as InsideRole
from jondel.core.model.changes import ChangeKind

_ROLES: dict[Role, tuple[str, bool]] = {
    "text": ("sand", False),
    "number": ("sand", False),
    "null": ("sand-dim", False),
    "empty": ("sea", False),
    "blob": ("sea", True),
    "mark": ("brass", False),
    "clip": ("sand-dim", False),
}
"""Each role's colour, and whether it is italic."""


def ink(
    widget: Widget,
    colour: str | None = None,
    *,
    on: str | None = None,
    bold: bool | None = None,
    italic: bool | None = None,
) -> Style:
    """A style of colours by their names in the theme; what is not given stays as it is."""
    return _style(widget.app.current_theme, colour, on, bold, italic)


def value_style(widget: Widget, role: Role) -> Style:
    """The style of a piece of a value."""
    colour, italic = _ROLES[role]
    return ink(widget, colour, italic=italic or None)


def change_style(widget: Widget, kind: ChangeKind) -> Style:
    """The style of a mark."""
    return ink(widget, kind, bold=True)


_INSIDE: dict[InsideRole, str] = {
    "path": "sand-dim",
    "same": "sand",
    "before": "removed",
    "after": "added",
    "mark": "changed",
}
"""The colours of what differs inside a value; the marks say it without them."""


def inside_style(widget: Widget, role: InsideRole) -> Style:
    """The style of a part of a line that says what differs inside a value."""
    return ink(widget, _INSIDE[role])


@lru_cache(256)
def _cached(colour: str | None, on: str | None, bold: bool | None, italic: bool | None) -> Style:
    return Style(color=colour, bgcolor=on, bold=bold, italic=italic)


def _style(
    theme: Theme, colour: str | None, on: str | None, bold: bool | None, italic: bool | None
) -> Style:
    return _cached(_value(theme, colour), _value(theme, on), bold, italic)


def _value(theme: Theme, name: str | None) -> str | None:
    if name is None:
        return None
    value = theme.variables.get(name) or getattr(theme, name)
    assert isinstance(value, str)
    return value
