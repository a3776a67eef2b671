"""How keys are written for people."""

from __future__ import annotations

from collections.abc import Iterable

from textual.binding import Binding, BindingType

_WRITTEN = {
    "left_square_bracket": "[",
    "right_square_bracket": "]",
    "question_mark": "?",
    "comma": ",",
    "full_stop": ".",
    "vertical_line": "|",
    "equals_sign": "=",
    "exclamation_mark": "!",
    "less_than_sign": "<",
    "greater_than_sign": ">",
    "left_curly_bracket": "{",
    "right_curly_bracket": "}",
    "left_parenthesis": "(",
    "right_parenthesis": ")",
    "slash": "/",
    "plus": "+",
    "minus": "-",
    "at": "@",
    "asterisk": "*",
    "delete": "Del",
    "pageup": "PgUp",
    "pagedown": "PgDn",
    "up": "↑",
    "down": "↓",
    "left": "←",
    "right": "→",
}


_WORDS = ("Enter", "Escape", "Space", "Tab", "Backspace", "Home", "End")


def written(key: str) -> str:
    """A key's name as it stands in the footer and the help."""
    parts = [_WRITTEN.get(part, part) for part in key.split("+")]
    if len(parts) > 1:
        return "+".join(part.capitalize() for part in parts)
    return parts[0].capitalize() if len(key) > 1 and parts[0].islower() else parts[0]


def named(shown: str) -> str | None:
    """The toolkit's name of a key as it is written for people; None where that is no single key."""
    start, plus, last = shown.rpartition("+")
    if plus and start and last:
        inner = named(last.lower() if len(last) == 1 else last)
        return f"{start.lower()}+{inner}" if inner is not None else None
    known = {text: name for name, text in _WRITTEN.items()}
    if shown in known:
        return known[shown]
    if shown in _WORDS:
        return shown.lower()
    return shown if len(shown) == 1 and shown.isalnum() else None


def key_help(bindings: Iterable[BindingType]) -> list[tuple[str, str]]:
    """Each binding's keys and what they do, in the order in which they are declared."""
    return [
        (" ".join(written(key.strip()) for key in binding.key.split(",")), binding.description)
        for binding in bindings
        if isinstance(binding, Binding) and binding.description
    ]
