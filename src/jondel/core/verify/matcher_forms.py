"""How matchers are written in the project's file.

A plain value means exactly that. Everything else is a table of one of these forms:

    {any = true}                        any value;  {any = "integer"}  any of that kind
    {null = true}   {null = false}      NULL, not NULL
    {pattern = "SH[0-9]{8}"}            text that a regular expression describes as a whole
    {at_least = 1, at_most = 5}         a number in a range; one of the two will do
    {near_now = 60}                     a time within so many seconds of the step;
                                        after = 3600  so much later than it, counted = "unix
                                        seconds"  for numbers, like = "2026-01-31 09:00"  written so
    {one_of = ["held", "paid"]}         one of some values or matchers
    {same_as = "bookings.id"}           the cell of the record that is called so
    {from = "held", to = "paid"}        what a changed cell held, and holds
    {json = {"/total" = 5}}             JSON members, each by its pointer; otherwise = '{…}'  is
                                        what all others are
    {sha256 = "…", size = 2048, kind = "blob"}     a large value
    {type = "numeric", text = "1.50"}, {base64 = "…"}, {text_base64 = "…"}, {real = "NaN"}
                                        values that TOML has no form for
"""

from __future__ import annotations

import difflib
import re
from collections.abc import Callable, Mapping
from typing import Any

from jondel.core.browse.times import TIME_KINDS
from jondel.core.files.json_values import json_value, value_from_json
from jondel.core.files.toml_entries import TomlFile, kind_words
from jondel.core.files.toml_lines import TomlPath
from jondel.core.model.changes import NoValue
from jondel.core.model.values import Clipped, Value
from jondel.core.verify.matchers import (
    Digest,
    Exactly,
    FromTo,
    InJson,
    Matcher,
    NearNow,
    Null,
    OneOf,
    Pattern,
    SameAs,
    Whatever,
    Within,
    json_document,
)

_VALUE_FORMS = ("type", "base64", "text_base64", "real")
_LONGEST = 10 * 366 * 86400.0


def matcher_form(matcher: Matcher) -> Any:
    """How a matcher is written: a value, or a table."""
    match matcher:
        case Exactly(None):
            return {"null": True}
        case Exactly(value):
            return _value_form(value)
        case Whatever(kind):
            return {"any": kind or True}
        case Null(wanted):
            return {"null": wanted}
        case Pattern(expression):
            return {"pattern": expression}
        case Within(least, most):
            bounds = {"at_least": least, "at_most": most}
            return {name: bound for name, bound in bounds.items() if bound is not None}
        case NearNow(seconds, after, kind, like):
            form: dict[str, Any] = {"near_now": _short(seconds)}
            form |= {"after": _short(after)} if after else {}
            form |= {"counted": kind} if kind != "ISO text" else {}
            return form | ({"like": like} if like else {})
        case OneOf(matchers):
            return {"one_of": [matcher_form(each) for each in matchers]}
        case SameAs(record, column):
            plain = "." not in record + column
            return {"same_as": f"{record}.{column}" if plain else [record, column]}
        case Digest(kind, size, sha256):
            return {"sha256": sha256, "size": size, "kind": kind}
        case InJson(members, otherwise):
            form = {"json": {pointer: matcher_form(each) for pointer, each in members}}
            return form | ({"otherwise": otherwise} if otherwise else {})
        case FromTo(before, after):
            return {"from": matcher_form(before), "to": matcher_form(after)}
    raise TypeError(f"{matcher!r} has no form")


def _value_form(value: Value) -> Any:
    if isinstance(value, Clipped):
        raise TypeError("a clipped value has no form")
    return json_value(value)


def _short(number: float) -> int | float:
    return int(number) if number == int(number) else number


def matcher_of_form(form: Any, file: TomlFile, place: TomlPath) -> Matcher:
    """The matcher that is written so.

    Raises:
        ProjectInvalid: it is none; the message says the line and what is wrong.
    """
    return _Reader(file, place).matcher(form)


class _Reader:
    def __init__(self, file: TomlFile, place: TomlPath) -> None:
        self._file = file
        self._place = place

    def matcher(self, form: Any) -> Matcher:
        if isinstance(form, bool | str | int | float):
            return Exactly(value_from_json(form), loosely=True)
        if not isinstance(form, dict):
            self._refuse(
                f"expected a value or a matcher, found {kind_words(form)}"
                if not isinstance(form, list)
                else "expected a value or a matcher, found a list; write {one_of = [...]}"
            )
        if any(name in form for name in _VALUE_FORMS):
            return self._exact(form)
        for name, read in self._forms.items():
            if name in form:
                return read(self, form)
        names = [*self._forms, *_VALUE_FORMS]
        for name in form:
            near = difflib.get_close_matches(name, names, 1, 0.6)
            if near:
                self._refuse(f"{name!r} is no matcher; did you mean {near[0]}?", name)
        self._refuse(f"expected one of the matchers {', '.join(names)}")
        raise AssertionError

    def _refuse(self, problem: str, *inside: str | int) -> None:
        self._file.refuse((*self._place, *inside), problem)

    def _only(self, form: Mapping[str, Any], *names: str) -> None:
        for name in form:
            if name not in names:
                self._refuse(f"does not go with {names[0]}; known are {', '.join(names)}", name)

    def _typed(self, form: Mapping[str, Any], name: str, *kinds: type) -> Any:
        value = form[name]
        if not isinstance(value, kinds) or (isinstance(value, bool) and bool not in kinds):
            self._refuse(f"cannot be {kind_words(value)}", name)
        return value

    def _inside(self, form: Any, *inside: str | int) -> Matcher:
        return _Reader(self._file, (*self._place, *inside)).matcher(form)

    def _exact(self, form: Mapping[str, Any]) -> Matcher:
        try:
            return Exactly(value_from_json(dict(form)))
        except ValueError as error:
            self._refuse(f"is no value that can be read ({error})")
            raise

    def _any(self, form: Mapping[str, Any]) -> Matcher:
        self._only(form, "any")
        kind = self._typed(form, "any", bool, str)
        if kind is False:
            self._refuse("cannot be false; leave the column out, or write {null = true}", "any")
        return Whatever(kind if isinstance(kind, str) else "")

    def _null(self, form: Mapping[str, Any]) -> Matcher:
        self._only(form, "null")
        wanted = self._typed(form, "null", bool)
        return Exactly(None) if wanted else Null(False)

    def _pattern(self, form: Mapping[str, Any]) -> Matcher:
        self._only(form, "pattern")
        expression = self._typed(form, "pattern", str)
        try:
            re.compile(expression)
        except (re.error, RecursionError, OverflowError) as error:
            self._refuse(f"is no regular expression ({error})", "pattern")
        return Pattern(expression)

    def _range(self, form: Mapping[str, Any]) -> Matcher:
        self._only(form, "at_least", "at_most")
        bounds = {n: self._typed(form, n, int, float, str) for n in form}
        least, most = bounds.get("at_least"), bounds.get("at_most")
        if least is not None and most is not None:
            if isinstance(least, str) != isinstance(most, str):
                self._refuse("from a number to a text is no range", "at_most")
            if least > most:
                self._refuse(f"{least!r} to {most!r} is no range: nothing is in it", "at_least")
        return Within(least, most)

    def _near_now(self, form: Mapping[str, Any]) -> Matcher:
        self._only(form, "near_now", "after", "counted", "like")
        seconds = self._typed(form, "near_now", int, float)
        if not 0 <= seconds <= _LONGEST:
            self._refuse("expected a number of seconds from 0", "near_now")
        after = self._typed(form, "after", int, float) if "after" in form else 0
        if not -_LONGEST <= after <= _LONGEST:
            self._refuse("expected a number of seconds, of ten years at most", "after")
        counted = form.get("counted", "ISO text")
        kind = next((known for known in TIME_KINDS if known == counted), None)
        if kind is None:
            self._refuse(f"{counted!r} is none of {', '.join(TIME_KINDS)}", "counted")
        like = self._typed(form, "like", str) if "like" in form else ""
        return NearNow(float(seconds), float(after), kind or "ISO text", like)

    def _one_of(self, form: Mapping[str, Any]) -> Matcher:
        self._only(form, "one_of")
        several = self._typed(form, "one_of", list)
        if not several:
            self._refuse("is empty, so nothing could be meant", "one_of")
        return OneOf(tuple(self._inside(one, "one_of", at) for at, one in enumerate(several)))

    def _same_as(self, form: Mapping[str, Any]) -> Matcher:
        self._only(form, "same_as")
        match form["same_as"]:
            case [str(record), str(column)] if record and column:
                return SameAs(record, column)
            case str(words):
                record, _, column = words.rpartition(".")
                if record and column:
                    return SameAs(record, column)
        self._refuse("expected a record's name and a column, as in 'bookings.id'", "same_as")
        raise AssertionError

    def _from_to(self, form: Mapping[str, Any]) -> Matcher:
        self._only(form, "from", "to")
        parts = [self._inside(form[n], n) if n in form else Whatever() for n in ("from", "to")]
        return FromTo(*parts)

    def _json(self, form: Mapping[str, Any]) -> Matcher:
        self._only(form, "json", "otherwise")
        members = self._typed(form, "json", dict)
        for pointer in members:
            if pointer and not pointer.startswith("/"):
                self._refuse(
                    f"{pointer!r} is no JSON pointer; it begins with /, as in '/total'",
                    *("json", pointer),
                )
        otherwise = self._typed(form, "otherwise", str) if "otherwise" in form else ""
        if otherwise and isinstance(json_document(otherwise), NoValue):
            self._refuse("is not JSON", "otherwise")
        return InJson(
            tuple((p, self._inside(each, "json", p)) for p, each in members.items()), otherwise
        )

    def _digest(self, form: Mapping[str, Any]) -> Matcher:
        self._only(form, "sha256", "size", "kind")
        for name, kind in (("size", int), ("kind", str)):
            if name not in form:
                self._refuse(f"lacks {name}")
            self._typed(form, name, kind)
        return Digest(form["kind"], form["size"], self._typed(form, "sha256", str))

    _forms: dict[str, Callable[[_Reader, Mapping[str, Any]], Matcher]] = {
        "any": _any,
        "null": _null,
        "pattern": _pattern,
        "at_least": _range,
        "at_most": _range,
        "near_now": _near_now,
        "one_of": _one_of,
        "same_as": _same_as,
        "from": _from_to,
        "to": _from_to,
        "json": _json,
        "sha256": _digest,
    }
