"""Tells texts that came by chance from those that mean something."""

from __future__ import annotations

import re
from itertools import pairwise

_FEWEST_CHARACTERS = 16
_MOST_CHARACTERS = 512
_TOKEN = re.compile(r"[A-Za-z0-9_+/=.-]+")
HEX = re.compile(r"[0-9a-f-]+|[0-9A-F-]+")


def is_token(text: str) -> bool:
    """Whether a text looks as if it came by chance."""
    if not _FEWEST_CHARACTERS <= len(text) <= _MOST_CHARACTERS or not _TOKEN.fullmatch(text):
        return False
    if HEX.fullmatch(text):
        return len(set(text)) >= 8 and not text.replace("-", "").isdecimal()
    letters = re.sub(r"[^A-Za-z]", "", text)
    digits = sum(character.isdecimal() for character in text)
    turns = sum(one.isupper() != other.isupper() for one, other in pairwise(letters))
    # Words keep to one case and have few digits among them.
    return len(set(text)) >= 10 and digits >= 2 and turns >= len(letters) // 4
