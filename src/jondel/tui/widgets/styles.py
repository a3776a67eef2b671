"""Style names for values and marks, shared by the widgets that show them."""

from __future__ import annotations

from rich.style import Style
from textual.widget import Widget

from jondel.core.browse.display import Role
from jondel.core.model.changes import ChangeKind

VALUE_CLASSES = {
    "value--text",
    "value--number",
    "value--null",
    "value--empty",
    "value--blob",
    "value--mark",
    "value--clip",
    "change--added",
    "change--changed",
    "change--removed",
}

VALUE_CSS = """
    & > .value--text { color: $sand; }
    & > .value--number { color: $sand; }
    & > .value--null { color: $sand-dim; }
    & > .value--empty { color: $sea; }
    & > .value--blob { color: $sea; text-style: italic; }
    & > .value--mark { color: $brass; }
    & > .value--clip { color: $sand-dim; }
    & > .change--added { color: $added; text-style: bold; }
    & > .change--changed { color: $changed; text-style: bold; }
    & > .change--removed { color: $removed; text-style: bold; }
"""


def value_style(widget: Widget, role: Role) -> Style:
    """The foreground for a piece of a value."""
    return _foreground(widget, f"value--{role}")


def change_style(widget: Widget, kind: ChangeKind) -> Style:
    """The foreground for a mark."""
    return _foreground(widget, f"change--{kind}")


def _foreground(widget: Widget, name: str) -> Style:
    try:
        style = widget.get_component_rich_style(name, partial=True)
    except KeyError:
        # A widget that ends loses its styles, perhaps before the last work on it is done.
        return Style()
    return Style(color=style.color, bold=style.bold, italic=style.italic, strike=style.strike)
