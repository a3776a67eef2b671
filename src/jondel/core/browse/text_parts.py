"""Splits a long text into parts small enough to be edited one at a time."""

from __future__ import annotations

MOST_CHARACTERS = 4000
MOST_LINES = 100


def split_text(text: str) -> list[str]:
    """Parts that make up the text, one behind the other; at least one.

    A part ends behind a line break where it can, and never within one.
    """
    parts = []
    start = 0
    while len(text) - start > MOST_CHARACTERS or text.count("\n", start) > MOST_LINES:
        end = min(len(text), start + MOST_CHARACTERS)
        lines = text[start:end].split("\n", MOST_LINES)
        if len(lines) > MOST_LINES or (len(lines) > 1 and len(lines[-1]) < MOST_CHARACTERS // 2):
            end -= len(lines[-1])
        if text[end - 1 : end + 1] == "\r\n":
            end += 1
        parts.append(text[start:end])
        start = end
    return [*parts, text[start:]] if start < len(text) or not parts else parts
