"""What is odd about a text by itself: blanks at its ends, control characters, twice encoded."""

from __future__ import annotations

import json
import re

_BLANKS = " \t\n\r\u00a0\u2007\u202f\u3000"
_CONTROL = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\x7f\x80-\x9f]")
_CONTROL_BYTES = bytes(b for b in range(32) if b not in (9, 10, 13)) + b"\x7f"
_TWICE_ENCODED = re.compile("[\u00c2-\u00f4][\u0080-\u00bf\u0152-\u02dc\u2013-\u2122]+")
_STARTS_OF_TWICE = (b"\xc3\x83", b"\xc3\x82", b"\xc3\xa2\xe2\x82\xac", b"\xc3\xb0\xc5\xb8")
_SHAPES = bytes.maketrans(
    b"012345678bcdefghijklmnopqrstuvwxyzBCDEFGHIJKLMNOPQRSTUVWXYZ",
    b"9" * 9 + b"a" * 25 + b"A" * 25,
)
_LONGEST_COARSE = 120
_BOOLEANS = (
    ("true", "false"),
    ("t", "f"),
    ("yes", "no"),
    ("y", "n"),
    ("on", "off"),
    ("1", "0"),
)


def has_blanks_at_ends(text: str) -> bool:
    return text[:1] in _BLANKS or text[-1:] in _BLANKS if text else False


def has_control_characters(text: str) -> bool:
    return _CONTROL.search(text) is not None


def decoded_once_more(text: str) -> str | None:
    """What a text reads where its UTF-8 was taken for another encoding; None where it was not."""
    if text.isascii() or _TWICE_ENCODED.search(text) is None:
        return None
    for encoding in ("cp1252", "latin-1"):
        try:
            decoded = text.encode(encoding).decode("utf-8")
        except (UnicodeEncodeError, UnicodeDecodeError):
            continue
        if decoded != text:
            return decoded
    return None


def is_odd(text: str) -> bool:
    """Whether any of the above is the case; ``may_be_odd`` says quickly of many that none is."""
    return (
        has_blanks_at_ends(text)
        or has_control_characters(text)
        or decoded_once_more(text) is not None
    )


def may_be_odd(joined: bytes) -> bool:
    """Whether one of some texts may be odd, which are joined by NUL characters, in UTF-8."""
    if b" \0" in joined or b"\0 " in joined or joined[:1] == b" " or joined[-1:] == b" ":
        return True
    if len(joined.translate(None, _CONTROL_BYTES[1:])) != len(joined):
        return True
    if joined.isascii():
        return any(mark in joined for mark in (b"\n\0", b"\t\0", b"\r\0", b"\0\n", b"\0\t"))
    return b"\xc2" in joined or any(mark in joined for mark in _STARTS_OF_TWICE)


def as_shapes(joined: bytes) -> bytes:
    """How texts are written: 9 stands for a digit, a and A for letters."""
    return joined.translate(_SHAPES)


def shape_of(text: str) -> bytes:
    """How a text is written; see ``as_shapes``."""
    return as_shapes(text.encode("utf-8", "surrogatepass"))


_RUNS = re.compile(rb"(.)\1+")
_TIME_SHAPE = re.compile(
    rb"9999-99-99([A ]99:99(:99([.,]9+)?)?)? ?(A|AAA|[+-]99(:?99)?)?"
    rb"|99?[/.-]99?[/.-]9999( 99?:99(:99)?( ?(AA|aa))?)?"
    rb"|9999[/.]99[/.]99( 99:99(:99)?)?"
    rb"|99?[/.-]99?[/.-]99( 99:99(:99)?)?"
    rb"|(Aaa,? )?(99? Aaa+,? 9999|Aaa+ 99?,? 9999)( 99:99(:99)?( ?[A+-][A9:]*)?)?"
    rb"|99999999(A99999999?A?)?|99999999999999"
)
"""The T between a day and its time, and the Z behind them, are letters like any others here."""


def coarse_shape_of(text: str) -> bytes:
    """How a text is written, however long its words and numbers are: ``a.a9@a.a``."""
    return coarse_of(shape_of(text[:_LONGEST_COARSE]))


def coarse_of(shape: bytes) -> bytes:
    """The coarse shape of a text that is written so."""
    # Letters beyond ASCII are letters, too.
    return _RUNS.sub(rb"\1", re.sub(rb"[\x80-\xff]+", b"a", shape))


def is_time_shape(shape: bytes) -> bool:
    """Whether what is written so may be a date or a time."""
    return _TIME_SHAPE.fullmatch(shape) is not None


def boolean_family(text: str) -> int | None:
    """Which of the ways to spell true and false a text is of; its case counts too."""
    for number, family in enumerate(_BOOLEANS):
        if text.lower() in family:
            case = 0 if text.islower() or text.isdecimal() else 1 if text.isupper() else 2
            return number * 3 + case
    return None


def json_of(text: str) -> tuple[bool, object]:
    """Whether a text is JSON, and what it says."""
    try:
        return True, json.loads(text)
    except (ValueError, RecursionError):
        return False, None


def folded(text: str) -> str:
    """A text without what people do not see a difference in: case, blanks, signs."""
    return re.sub(r"[\s_.,;:'\"-]+", " ", text.casefold()).strip()
