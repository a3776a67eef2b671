"""The palette: enough contrast everywhere, and marks that stay apart for red-green blind eyes."""

from __future__ import annotations

import itertools

import pytest
from textual.color import Color
from textual.theme import Theme

from jondel.tui.theme import DUSK, MORNING

_TEXTS = ("sand", "sand-dim", "brass", "sea", "added", "changed", "removed", "draft")
_LEAST_CONTRAST = 4.5  # WCAG 2.1, success criterion 1.4.3
_LEAST_APART = 12.0  # in CIE 1976 L*a*b*; about 2.3 can just be told apart

# Machado, Oliveira and Fernandes, "A Physiologically-based Model for Simulation of Color Vision
# Deficiency", 2009, severity 1.0; for linear RGB.
_BLINDNESS = {
    "protanopia": (
        (0.152286, 1.052583, -0.204868),
        (0.114503, 0.786281, 0.099216),
        (-0.003882, -0.048116, 1.051998),
    ),
    "deuteranopia": (
        (0.367322, 0.860646, -0.227968),
        (0.280085, 0.672501, 0.047413),
        (-0.011820, 0.042940, 0.968881),
    ),
}


def _colour(theme: Theme, name: str) -> str:
    found = theme.variables.get(name) or getattr(theme, name)
    assert isinstance(found, str)
    return found


def _linear(colour: str) -> list[float]:
    channels = [value / 255 for value in Color.parse(colour).rgb]
    return [c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in channels]


def _luminance(colour: str) -> float:
    red, green, blue = _linear(colour)
    return 0.2126 * red + 0.7152 * green + 0.0722 * blue


def _contrast(one: str, other: str) -> float:
    light, dark = sorted((_luminance(one), _luminance(other)), reverse=True)
    return (light + 0.05) / (dark + 0.05)


def _lab(linear: list[float]) -> tuple[float, float, float]:
    red, green, blue = (min(1.0, max(0.0, value)) for value in linear)
    x = (0.4124 * red + 0.3576 * green + 0.1805 * blue) / 0.9505
    y = 0.2126 * red + 0.7152 * green + 0.0722 * blue
    z = (0.0193 * red + 0.1192 * green + 0.9505 * blue) / 1.089
    fx, fy, fz = (t ** (1 / 3) if t > 0.008856 else 7.787 * t + 16 / 116 for t in (x, y, z))
    return 116 * fy - 16, 500 * (fx - fy), 200 * (fy - fz)


@pytest.mark.parametrize("theme", [DUSK, MORNING], ids=lambda theme: theme.name)
def test_every_text_has_contrast_on_every_ground_it_stands_on(theme: Theme) -> None:
    for text, ground in itertools.product(_TEXTS, ("background", "surface", "panel")):
        ratio = _contrast(_colour(theme, text), _colour(theme, ground))
        assert ratio >= _LEAST_CONTRAST, f"{text} on {ground}: {ratio:.2f}"
    for text in ("sand", "sand-dim", "added", "changed", "removed", "draft"):
        ratio = _contrast(_colour(theme, text), _colour(theme, "row-current"))
        assert ratio >= _LEAST_CONTRAST, f"{text} on the current row: {ratio:.2f}"
    assert _contrast(_colour(theme, "ink"), _colour(theme, "brass")) >= _LEAST_CONTRAST


@pytest.mark.parametrize("blindness", [None, *_BLINDNESS])
@pytest.mark.parametrize("theme", [DUSK, MORNING], ids=lambda theme: theme.name)
def test_added_changed_and_removed_stay_apart(theme: Theme, blindness: str | None) -> None:
    seen = {}
    for kind in ("added", "changed", "removed"):
        linear = _linear(_colour(theme, kind))
        if blindness is not None:
            linear = [
                sum(weight * value for weight, value in zip(row, linear, strict=True))
                for row in _BLINDNESS[blindness]
            ]
        seen[kind] = _lab(linear)
    for one, other in itertools.combinations(seen, 2):
        apart = sum((a - b) ** 2 for a, b in zip(seen[one], seen[other], strict=True)) ** 0.5
        assert apart >= _LEAST_APART, f"{one} and {other}: {apart:.1f}"
