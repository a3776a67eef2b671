"""How keys are written for people, and what is said about them."""

from __future__ import annotations

from collections.abc import Iterable

from textual.binding import Binding, BindingType

_WRITTEN = {
    "left_square_bracket": "[",
    "right_square_bracket": "]",
    "question_mark": "?",
    "pageup": "PgUp",
    "pagedown": "PgDn",
    "up": "↑",
    "down": "↓",
    "left": "←",
    "right": "→",
}


def written(key: str) -> str:
    """A key's name as it stands in the footer and the help."""
    parts = [_WRITTEN.get(part, part) for part in key.split("+")]
    return "+".join(
        part.capitalize() if len(part) > 1 and part.islower() else part for part in parts
    )


def explained(bindings: Iterable[BindingType]) -> list[tuple[str, str]]:
    """Each binding's keys and what they do, in the order in which they are declared."""
    return [
        (" ".join(written(key.strip()) for key in binding.key.split(",")), binding.description)
        for binding in bindings
        if isinstance(binding, Binding) and binding.description
    ]
