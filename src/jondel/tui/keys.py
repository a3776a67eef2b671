"""How keys are written for people, and what is said about them."""

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


def footer_keys(
    *,
    view: str,
    past: bool,
    can_go_back: bool,
    has_steps: bool,
    has_actions: bool,
    watching: bool,
    drafted: bool = False,
    read_only: bool = False,
) -> list[tuple[str, str, str]]:
    """The keys that matter in a view, the most needed first and the help last.

    Each with its words and the action it runs. ``past``: a step is selected, not now.
    """
    wanted = [
        ("W", "write", "screen.write_draft", drafted and not read_only),
        ("d", "draft", "screen.draft", drafted),
        ("s", "snapshot", "screen.snapshot", True),
        ("Enter", "to the record", "screen.to_record", view == "changes"),
        ("Backspace", "back", "screen.back", can_go_back),
        ("c", "changes", "screen.view('changes')", view == "records"),
        ("r", "records", "screen.view('records')", view == "changes"),
        ("f", "filter", "screen.filter", view == "records"),
        ("e", "edit", "screen.edit", view == "records" and not past and not read_only),
        ("[ ]", "walk the steps", "screen.walk(-1)", has_steps),
        ("n", "now", "screen.now", past),
        ("w", "stop watching" if watching else "watch", "screen.watch", True),
        ("g", "trail", "screen.trail", has_steps),
        (
            "u",
            "take back",
            "screen.take_back_record",
            view == "changes" and has_steps and not read_only,
        ),
        ("x", "hide noise", "screen.noise", view == "changes" and has_steps),
        ("R", "restore", "screen.restore", past and not read_only),
        ("h", "history", "screen.history", has_steps),
        ("a", "actions", "screen.act", has_actions),
        ("t", "tables", "screen.focus_tables", True),
        ("v", "card", "screen.card", True),
        ("?", "keys", "screen.help", True),
    ]
    return [(key, words, action) for key, words, action, matters in wanted if matters]
