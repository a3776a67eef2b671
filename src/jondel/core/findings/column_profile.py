"""What a column usually holds.

A profile is fed with the values of many rows at once; nothing is looked at one by one that can be
told of all of them together. A *sign* is something that is true of a value: its kind, that it is
empty, how its time is written. Values with signs that few others have are remembered with their
keys: what is suspicious is judged of those alone, at the end.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from functools import partial
from typing import Any, NamedTuple, cast

from jondel.core.findings.even_sample import EvenSample
from jondel.core.findings.json_members import JsonMembers
from jondel.core.findings.text_signs import (
    as_shapes,
    coarse_of,
    coarse_shape_of,
    decoded_once_more,
    has_blanks_at_ends,
    has_control_characters,
    is_odd,
    is_time_shape,
    may_be_odd,
    shape_of,
)
from jondel.core.model.schema import Column
from jondel.core.model.values import InvalidText, Value, kind_of

Key = tuple[object, ...]

_KEPT = 6
"""Of the values with one sign so many are remembered."""
_MOST_VALUES = 2000
"""A column with more different values than that keeps to no small set."""
_MOST_SHAPES = 400
_MOST_NUMBERS = 4096
FEWEST = 8
"""Of fewer values nothing is usual."""
_MOST_SAMPLED = 2000
_FEW_VALUES = 50
_ENOUGH = 40


class Remembered(NamedTuple):
    """A value with a sign, and the key of its record."""

    key: Key
    value: Value


class ColumnProfile:
    """What one column holds, as far as it was fed with."""

    def __init__(self, column: Column) -> None:
        self.column = column
        self.rows = 0
        self.kinds: Counter[str] = Counter()
        self.signs: Counter[str] = Counter()
        self.shapes: Counter[bytes] | None = Counter()
        self.values: Counter[Value] | None = Counter()
        self.lengths: Counter[int] = Counter()
        self._numbers: EvenSample[int | float] = EvenSample(_MOST_NUMBERS)
        self.least: int | float | None = None
        self.most: int | float | None = None
        self._sample: EvenSample[str] = EvenSample(_MOST_SAMPLED)
        self.first_text: str | None = None
        self.last_text: str | None = None
        """The first and the last of its texts in the order of their characters, where these are
        times."""
        self._usual_shapes: tuple[object, frozenset[bytes] | None] | None = None
        self.limit = declared_limit(column)
        self.json = JsonMembers()
        self.remembered: dict[str, list[Remembered]] = {}

    @property
    def present(self) -> int:
        """How many values are not NULL."""
        return self.rows - self.kinds["null"]

    @property
    def texts(self) -> int:
        return self.kinds["text"]

    @property
    def numbers(self) -> Sequence[int | float]:
        """Some of its numbers, as many of one part of the rows as of any other."""
        return self._numbers.values

    @property
    def sample(self) -> Sequence[str]:
        """Some of its texts, in the same way."""
        return self._sample.values

    # Taking in

    def feed(self, values: Sequence[Value], keys: Sequence[Key]) -> None:
        """Take in a column's values of some rows, and the keys of these."""
        self.rows += len(values)
        types = set(map(type, values))
        if types <= {int, type(None)}:
            self._feed_numbers(values, keys, {int: "integer"})
        elif types <= {float, type(None)}:
            self._feed_numbers(values, keys, {float: "real"})
        elif types <= {str, type(None)}:
            nulls = values.count(None) if type(None) in types else 0
            self._count_kinds({"null": nulls, "text": len(values) - nulls}, values, keys)
            texts = [v for v in values if type(v) is str] if nulls else values
            if texts:
                self._feed_texts(cast("Sequence[str]", texts), values, keys)
        else:
            self._count_kinds(Counter(map(kind_of, values)), values, keys)
            invalid = sum(1 for v in values if isinstance(v, InvalidText))
            if invalid:
                self._count("invalid", invalid, _is_invalid, values, keys)
            if texts := [v for v in values if type(v) is str]:
                self._feed_texts(texts, values, keys)
            self._take_numbers([v for v in values if type(v) in (int, float)])  # type: ignore[misc]
            if self.values is not None:
                others = [v for v in values if v is not None and type(v) is not str]
                self._add_values(Counter(others))

    def _feed_numbers(
        self, values: Sequence[Value], keys: Sequence[Key], kinds: dict[type, str]
    ) -> None:
        nulls = values.count(None)
        (kind,) = kinds.values()
        self._count_kinds({"null": nulls, kind: len(values) - nulls}, values, keys)
        present = [v for v in values if v is not None] if nulls else values
        if present:
            self._take_numbers(present)  # type: ignore[arg-type]
            if self.values is not None:
                self._add_values(Counter(present))

    def _take_numbers(self, numbers: Sequence[int | float]) -> None:
        if not numbers:
            return
        least, most = min(numbers), max(numbers)
        self.least = least if self.least is None else min(self.least, least)
        self.most = most if self.most is None else max(self.most, most)
        self._numbers.feed(numbers)

    def _feed_texts(
        self, texts: Sequence[str], values: Sequence[Value], keys: Sequence[Key]
    ) -> None:
        counted: Counter[str] | None = None
        if self.values is not None:
            counted = Counter(texts)
            self._add_values(counted)
            if len(counted) * 8 > len(texts):
                counted = None
        self._sample.feed(texts)
        if counted is not None:
            # Of a few different ones each is looked at once.
            self._feed_different(list(counted), counted, values, keys)
        else:
            self._feed_different(texts, None, values, keys)
        if self.json.wanted(texts[0]):
            self.json.feed(values, keys)

    def _feed_different(
        self,
        texts: Sequence[str],
        counted: Counter[str] | None,
        values: Sequence[Value],
        keys: Sequence[Key],
    ) -> None:
        """Take in texts, each as often as it was counted, or once."""
        joined = "\0".join(texts).encode("utf-8", "surrogatepass")
        apart = joined.count(b"\0") == len(texts) - 1
        if not apart or may_be_odd(joined):
            odd = [text for text in texts if is_odd(text)]
            for sign, holds in _ODD_SIGNS.items():
                count = sum(counted[text] if counted else 1 for text in odd if holds(text))
                if count:
                    self._count(sign, count, holds, values, keys)
        if self.shapes is not None and apart:
            written = as_shapes(joined)
            usual = next(iter(self.shapes.most_common(1)), (b"", 0))[0]
            if counted is None and usual and written == b"\0".join([usual] * len(texts)):
                texts_long = len(texts[0])
                self.lengths[texts_long] += len(texts)
                if self.limit is not None and texts_long > self.limit:
                    self._count("long", len(texts), partial(_is_longer, self.limit), values, keys)
                self._add_shapes(Counter({usual: len(texts)}), texts, values, keys)
                return
            found = written.split(b"\0")
            shapes = Counter(found)
            if counted is not None:
                shapes = Counter()
                for shape, text in zip(found, texts, strict=True):
                    shapes[shape] += counted[text]
            self._add_shapes(shapes, texts, values, keys)
        lengths = Counter(map(len, texts)) if counted is None else Counter[int]()
        for text, count in counted.items() if counted is not None else ():
            lengths[len(text)] += count
        self.lengths.update(lengths)
        if self.limit is not None and max(lengths) > self.limit:
            long = sum(count for length, count in lengths.items() if length > self.limit)
            self._count("long", long, partial(_is_longer, self.limit), values, keys)
        if lengths[0]:
            self._count("empty", lengths[0], lambda v: v == "", values, keys)

    def _add_shapes(
        self,
        shapes: Counter[bytes],
        texts: Sequence[str],
        values: Sequence[Value],
        keys: Sequence[Key],
    ) -> None:
        assert self.shapes is not None
        self.shapes.update(shapes)
        times = [shape for shape in shapes if is_time_shape(shape)]
        for shape in times:
            if self.shapes[shape] - shapes[shape] < _KEPT:
                written = f"shape {shape.decode('ascii', 'replace')}"
                self._remember(written, partial(_has_shape, shape), values, keys)
        if times:
            ends = [text for text in (self.first_text, self.last_text) if text is not None]
            filled = [text for text in (min(texts), max(texts)) if text]
            self.first_text = min([*ends, *filled], default=None)
            self.last_text = max([*ends, *filled], default=None)
        if len(self.shapes) > _MOST_SHAPES:
            self.shapes = None

    def _add_values(self, counted: Mapping[Any, int]) -> None:
        assert self.values is not None
        self.values.update(counted)
        if len(self.values) > _MOST_VALUES:
            self.values = None

    def _count_kinds(
        self, kinds: dict[str, int], values: Sequence[Value], keys: Sequence[Key]
    ) -> None:
        for kind, count in kinds.items():
            if not count:
                continue
            was = self.kinds[kind]
            self.kinds[kind] += count
            declared = self.column.not_null or self.column.key_position
            if was < _KEPT and (kind != "null" or declared):
                self._remember(f"kind {kind}", partial(_is_of_kind, kind), values, keys)

    def _count(
        self,
        sign: str,
        count: int,
        holds: Callable[[Value], bool],
        values: Sequence[Value],
        keys: Sequence[Key],
    ) -> None:
        self.signs[sign] += count
        self._remember(sign, holds, values, keys)

    def _remember(
        self,
        sign: str,
        holds: Callable[[Value], bool],
        values: Sequence[Value],
        keys: Sequence[Key],
    ) -> None:
        kept = self.remembered.setdefault(sign, [])
        if len(kept) >= _KEPT:
            return
        for key, value in zip(keys, values, strict=True):
            if holds(value):
                kept.append(Remembered(key, value))
                if len(kept) >= _KEPT:
                    return

    # Whether a value is at home here, to tell what got into the wrong column

    @property
    def is_strict(self) -> bool:
        """Whether it can be told of a value that it does not belong here."""
        if self.present < FEWEST:
            return False
        if self._few_values is not None or self.usual_shapes is not None:
            return True
        return not self.texts and bool(self.numbers)

    def is_home_of(self, value: Value, *, own: bool) -> bool:
        """Whether a value is like those that the column usually holds."""
        if value is None:
            return self.kinds["null"] * 20 >= self.rows
        numbers = self.kinds["integer"] + self.kinds["real"]
        if numbers * 2 > self.present and isinstance(value, str):
            # A column for texts makes one of a number that got there.
            value = number_in(value)
        is_number = isinstance(value, int | float)
        alike = numbers if is_number else self.kinds[kind_of(value)]
        if others(alike, own) * 20 < self.present:
            return False
        if self._few_values is not None:
            return others(self._few_values.get(value, 0), own) >= 2
        if isinstance(value, str) and self.usual_shapes is not None:
            return coarse_shape_of(value) in self.usual_shapes
        if isinstance(value, int | float) and self.numbers:
            ordered = sorted(self.numbers)
            low, high = ordered[len(ordered) // 50], ordered[-1 - len(ordered) // 50]
            return low - (high - low) <= value <= high + (high - low)
        return True

    @property
    def _few_values(self) -> Counter[Value] | None:
        """Its values, where these are few and most of them often."""
        values = self.values
        if values is None or self.present < _ENOUGH or len(values) > _FEW_VALUES:
            return None
        often = sum(count for count in values.values() if count >= 3)
        return values if often * 10 >= self.present * 9 else None

    @property
    def usual_shapes(self) -> frozenset[bytes] | None:
        """How nearly all of its texts are written, where that is in few ways."""
        if self._usual_shapes is None or self._usual_shapes[0] != self._sample.version:
            found = Counter(coarse_shape_of(text) for text in self.sample if text)
            total = sum(found.values())
            usual = frozenset(s for s, n in found.items() if n >= 3 and n * 50 >= total)
            settled = sum(found[shape] for shape in usual)
            strict = total >= FEWEST and len(usual) <= 6 and settled * 20 >= total * 19
            self._usual_shapes = self._sample.version, usual if strict else None
        return self._usual_shapes[1]

    def stray_shapes(self) -> frozenset[bytes]:
        """How a few texts are written that are not written as nearly all others are."""
        usual = self.usual_shapes
        if usual is None or self.shapes is None:
            return frozenset()
        few = max(2, self.texts // 50)
        stray = {s for s, n in self.shapes.items() if s and n <= few and coarse_of(s) not in usual}
        return frozenset(stray) if len(stray) <= few else frozenset()


def others(counted: int, own: bool) -> int:
    """How many others a count is of; ``own`` says that the value in question was counted."""
    return counted - 1 if own else counted


def declared_limit(column: Column) -> int | None:
    """How many characters a column is declared to hold at most, where the engine does not see to
    it."""
    name, _, most = column.type.name.partition("(")
    most = most.rstrip(") ")
    return int(most) if "CHAR" in name.upper() and most.isdecimal() and int(most) else None


def _is_longer(limit: int, value: Value) -> bool:
    return isinstance(value, str) and len(value) > limit


def number_in(text: str) -> Value:
    """The number that a text is, else the text."""
    try:
        return float(text)
    except ValueError:
        return text


def _is_invalid(value: Value) -> bool:
    return isinstance(value, InvalidText)


def _has_shape(shape: bytes, value: Value) -> bool:
    return isinstance(value, str) and shape_of(value) == shape


def _is_of_kind(kind: str, value: Value) -> bool:
    return kind_of(value) == kind


_ODD_SIGNS: dict[str, Callable[[Value], bool]] = {
    "control": lambda v: isinstance(v, str) and has_control_characters(v),
    "blanks": lambda v: isinstance(v, str) and has_blanks_at_ends(v),
    "twice": lambda v: isinstance(v, str) and decoded_once_more(v) is not None,
}
