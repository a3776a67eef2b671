"""Reads what people wrote into a TOML file entry by entry, and says what is wrong and where."""

from __future__ import annotations

import difflib
import math
from collections.abc import Collection, Iterator, Mapping
from pathlib import Path
from typing import Any, NoReturn

from jondel.core.errors import ProjectInvalid
from jondel.core.files.toml_files import read_toml
from jondel.core.files.toml_lines import TomlPath, toml_line

_KINDS = {
    bool: "true or false",
    int: "a whole number",
    float: "a number",
    str: "a text",
    list: "a list",
    dict: "a table",
}


class TomlFile:
    """A file that was read, and where things stand in it."""

    def __init__(self, path: Path) -> None:
        """Raises ``ProjectInvalid``: it cannot be read, or is not TOML."""
        self.path = path
        self._tables = read_toml(path, ProjectInvalid)

    def top(self) -> TomlEntry:
        """The whole of it."""
        return TomlEntry(self, (), self._tables)

    def refuse(self, place: TomlPath, problem: str) -> NoReturn:
        """Raise ``ProjectInvalid`` with the line and the key of what is wrong."""
        try:
            line = toml_line(self.path.read_text("utf-8"), place)
        except (OSError, UnicodeDecodeError):
            line = 1
        raise ProjectInvalid(f"{self.path}, line {line}: {place_words(place)}: {problem}")


def place_words(place: TomlPath) -> str:
    """How a value's place in the file is written: ``actions[0].command``."""
    words = ""
    for part in place:
        if isinstance(part, int):
            words += f"[{part}]"
        else:
            words += f".{part}" if words else part
    return words or "the file"


class TomlEntry:
    """One table of a file; what is read of it is ticked off, and what is left over refused."""

    def __init__(self, file: TomlFile, place: TomlPath, values: Mapping[str, Any]) -> None:
        self.file = file
        self.place = place
        self._values = values
        self._known: set[str] = set()

    def __contains__(self, key: str) -> bool:
        return key in self._values

    def refuse(self, problem: str, key: str | None = None) -> NoReturn:
        """Raise ``ProjectInvalid`` about a key's value, or about the whole entry."""
        self.file.refuse(self.place if key is None else (*self.place, key), problem)

    def finish(self) -> None:
        """Raise ``ProjectInvalid`` for a key that nobody asked for."""
        for key in self._values:
            if key not in self._known:
                near = difflib.get_close_matches(key, sorted(self._known), 1, 0.6)
                meant = f"did you mean {near[0]}?" if near else f"known are {self._listed()}"
                self.refuse(f"no such key here; {meant}", key)

    def _listed(self) -> str:
        return ", ".join(sorted(self._known))

    def value(self, key: str) -> Any:
        """What stands there, whatever it is; None where nothing does."""
        self._known.add(key)
        return self._values.get(key)

    def _of(self, key: str, kinds: tuple[type, ...]) -> Any:
        value = self.value(key)
        if value is None:
            return None
        wrong_bool = isinstance(value, bool) and bool not in kinds
        if wrong_bool or not isinstance(value, kinds):
            wanted = " or ".join(_KINDS[kind] for kind in kinds)
            self.refuse(f"expected {wanted}, found {kind_words(value)}", key)
        return value

    def text(self, key: str) -> str | None:
        value: str | None = self._of(key, (str,))
        return value

    def filled_text(self, key: str) -> str | None:
        """A text in which there is something."""
        value = self.text(key)
        if value is not None and not value.strip():
            self.refuse("is empty", key)
        return value

    def flag(self, key: str) -> bool:
        """True or false; false where nothing is said."""
        return bool(self._of(key, (bool,)))

    def whole(self, key: str, least: int, most: int) -> int | None:
        value: int | None = self._of(key, (int,))
        if value is not None and not least <= value <= most:
            self.refuse(f"expected a whole number from {least} to {most}", key)
        return value

    def seconds(self, key: str, most: float) -> float | None:
        value = self._of(key, (int, float))
        if value is not None and not (math.isfinite(value) and 0 <= value <= most):
            self.refuse(f"expected a number of seconds up to {most:g}", key)
        return None if value is None else float(value)

    def texts(self, key: str) -> tuple[str, ...] | None:
        """A list of texts."""
        values = self._of(key, (list,))
        if values is None:
            return None
        for place, value in enumerate(values):
            if not isinstance(value, str):
                self.file.refuse(
                    (*self.place, key, place), f"expected a text, found {kind_words(value)}"
                )
        return tuple(values)

    def choice(self, key: str, choices: Collection[str]) -> str | None:
        """One of some words."""
        value = self.text(key)
        if value is not None and value not in choices:
            near = difflib.get_close_matches(value, list(choices), 1, 0.5)
            hint = f"did you mean {near[0]!r}? " if near else ""
            self.refuse(f"{value!r} is none of {', '.join(choices)}; {hint}".rstrip("; "), key)
        return value

    def table(self, key: str) -> TomlEntry | None:
        values = self._of(key, (dict,))
        return None if values is None else TomlEntry(self.file, (*self.place, key), values)

    def tables(self, key: str) -> Iterator[TomlEntry]:
        """A list of tables; none where nothing is said."""
        values = self._of(key, (list, dict))
        if isinstance(values, dict):
            self.refuse(f"expected several tables, each under [[{place_words((key,))}]]", key)
        for number, value in enumerate(values or ()):
            place = (*self.place, key, number)
            if not isinstance(value, dict):
                self.file.refuse(place, f"expected a table, found {kind_words(value)}")
            yield TomlEntry(self.file, place, value)

    def pairs(self) -> Iterator[tuple[str, Any]]:
        """All of it, whatever the keys are."""
        self._known.update(self._values)
        yield from self._values.items()


def kind_words(value: object) -> str:
    """What a value of TOML is, in words."""
    for kind, words in _KINDS.items():
        if isinstance(value, kind):
            return words
    return "a date or time; put it in quotes" if value is not None else "nothing"
