"""What a terminal would act on, in what is stored and in what is written to it."""

from __future__ import annotations

import re
import unicodedata

MARK, NUMBER = "zqx", 777
ATTACKS = {
    "clipboard": f"\x1b]52;c;{MARK}\x07",
    "title": f"\x1b]0;{MARK}\x1b\\",
    "link": f"\x1b]8;;http://{MARK}\x1b\\text\x1b]8;;\x1b\\",
    "device": f"\x1bP{MARK}\x1b\\",
    "colour": f"\x1b[{NUMBER}m{MARK}\x1b[{NUMBER};1H",
    "eight bits": f"\x9b31m{MARK}\x9d0;{MARK}\x9c",
    "shifts": f"\x0e{MARK}\x0f",
    "bell and null": f"\x07{MARK}\x00\x7f\x08\x08",
    "direction": f"\u202e{MARK}\u2066{MARK}\u200f\u061c",
    "no width": f"{MARK}\u200b\u200d\ufeff\u2060\u00ad{MARK}",
    "lines": f"{MARK}\x0b\x0c\x85\u2028\u2029{MARK}",
    "combining": f"\u0301{MARK}",
}

_SEQUENCE = re.compile(
    r"\x1b\[[0-?]*[ -/]*[@-~]"  # a control sequence: colours, places, modes
    r"|\x1b\]22;[a-z-]*\x07"  # the shape of the pointer
    r"|\x1b[78=>c]|\x1b[()][0B]"
    r"|\x1bP[=>]?[0-9;$+]*[a-z]?[^\x1b]{0,40}\x1b\\"  # a question to the terminal
)
_CONTROLS_OF_OURS = "\r\n\x08\x0f"


def acting(output: bytes) -> list[str]:
    """What in the output a terminal would act on beside what an interface needs."""
    text = output.decode("utf-8", "surrogateescape")
    sequences = [s for s in _SEQUENCE.findall(text) if MARK in s or str(NUMBER) in s]
    rest = _SEQUENCE.sub("", text)
    return sequences + [
        rest[max(0, place - 20) : place + 20]
        for place, character in enumerate(rest)
        if unicodedata.category(character) in ("Cc", "Cf", "Cs", "Zl", "Zp")
        and character not in _CONTROLS_OF_OURS
    ]
