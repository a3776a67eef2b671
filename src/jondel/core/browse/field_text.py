"""Text in a field in which it is edited: shown as it is in a sheet, and given back unchanged.

A field counts cells, and moves from character to character; so in the field every character that a
terminal would act on, or that cannot be seen, is replaced by one *stand-in*: a code point that is
never shown itself, as wide as what is drawn for it. Only fields hold stand-ins; what is drawn, and
what is taken out of a field, does not.
"""

from __future__ import annotations

import itertools
import re
import unicodedata

from jondel.core.browse.display import COMBINING_BASE, INVISIBLE_SIGN, TAB_SIGN, character_sign

_TWO_CELLS = 0x3F000
"""From here on nothing is assigned, and all is two cells wide, like the whole plane."""
_ONE_CELL = (range(0x40000, 0xE0000), range(0xF0000, 0x110000))
"""Private or not assigned, and one cell wide: more than a text will ever need."""
_NOTHING = re.compile("(?!)")


class FieldText:
    """The stand-ins of one field."""

    def __init__(self, *, has_lines: bool = False) -> None:
        """``has_lines``: the field shows lines, so that line feeds remain what they are."""
        self._unchanged = " \n" if has_lines else " "
        self._narrow = itertools.chain(*_ONE_CELL)
        self._hidden: dict[str, str] = {}
        """The stand-ins of characters that are never shown as they are."""
        self._baseless: dict[str, str] = {}
        """Those of combining characters with nothing before them to combine with."""
        self._stood_for: dict[str, str] = {}
        self._drawn: dict[str, str] = {}
        self._stand_in = _NOTHING

    def put_in(self, text: str) -> str:
        """Replace what cannot be shown as it is by stand-ins."""
        if text.isascii() and text.isprintable():
            return text
        characters = set(text)
        for character in characters.difference(self._hidden, self._unchanged):
            sign, role = character_sign(character)
            if character == "\t":
                sign = f"{TAB_SIGN} "
            if role == "mark" or not sign:
                self._hidden[character] = self._added(character, sign or INVISIBLE_SIGN)
        replaced = text.translate(
            {ord(c): stand_in for c, stand_in in self._hidden.items() if c in characters}
        )
        if any(map(_combines, characters)):
            replaced = self._with_bases(replaced)
        self._stand_in = re.compile(f"[{''.join(self._drawn)}]") if self._drawn else _NOTHING
        return replaced

    def take_out(self, text: str) -> str:
        """Give back what was put in, wherever it is now."""
        return self._stand_in.sub(lambda match: self._stood_for[match[0]], text)

    def drawn(self, text: str) -> str:
        """What is drawn for a text with stand-ins; takes as many cells."""
        return self._stand_in.sub(lambda match: self._drawn[match[0]], text)

    def _with_bases(self, text: str) -> str:
        parts = list(text)
        has_base = False
        for index, character in enumerate(parts):
            if not _combines(character):
                has_base = character != "\n" and character not in self._drawn
            elif not has_base:
                if character not in self._baseless:
                    sign = COMBINING_BASE + character
                    self._baseless[character] = self._added(character, sign, cells=1)
                parts[index] = self._baseless[character]
        return "".join(parts)

    def _added(self, character: str, sign: str, cells: int = 0) -> str:
        wide = (cells or len(sign)) == 2
        stand_in = chr(_TWO_CELLS + ord(character) if wide else next(self._narrow))
        self._stood_for[stand_in] = character
        self._drawn[stand_in] = sign
        return stand_in


def _combines(character: str) -> bool:
    return unicodedata.category(character) in ("Mn", "Me")
