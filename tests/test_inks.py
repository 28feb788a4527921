"""Inks and lines as the styles have them: far from their paper, and from each other for every eye."""

from __future__ import annotations

import re
from itertools import combinations
from pathlib import Path

import numpy as np
import pytest

from pondel import web
from pondel.web.ink import DASHES, INKS

STYLES = (Path(web.__file__).parent / "static" / "css" / "app.css").read_text()
SHEETS = {
    name: dict(re.findall(r"--([a-z0-9-]+):(#[0-9a-f]{3,6})", re.search(rule, STYLES)[1]))
    for name, rule in {
        "day": r":root\{(color-scheme:light[^}]*)\}",
        "night": r":root\[data-sheet=night\]\{(color-scheme:dark[^}]*)\}",
    }.items()
}
# Machado, Oliveira, Fernandes, "A physiologically-based model for simulation of color vision
# deficiency" (2009), severity 1.0, on linear RGB.
EYES = {
    "usual": np.eye(3),
    "protanope": [
        [0.152286, 1.052583, -0.204868],
        [0.114503, 0.786281, 0.099216],
        [-0.003882, -0.048116, 1.051998],
    ],
    "deuteranope": [
        [0.367322, 0.860646, -0.227968],
        [0.280085, 0.672501, 0.047413],
        [-0.011820, 0.042940, 0.968881],
    ],
    "tritanope": [
        [1.255528, -0.076749, -0.178779],
        [-0.078411, 0.930809, 0.147602],
        [0.004733, 0.691367, 0.303900],
    ],
}
APART, APART_WITH_ONE_DASH = 12.0, 20.0
"""Distances in CIELAB; 2 to 3 can just be told apart side by side."""


def linear(colour: str) -> np.ndarray:
    """Linear RGB of a colour (IEC 61966-2-1)."""
    digits = colour[1:] if len(colour) == 7 else "".join(2 * one for one in colour[1:])
    c = np.array([int(digits[n : n + 2], 16) for n in (0, 2, 4)]) / 255
    return np.where(c <= 0.04045, c / 12.92, ((c + 0.055) / 1.055) ** 2.4)


def contrast(one: str, other: str) -> float:
    """Contrast ratio as WCAG 2 defines it."""
    low, high = sorted(float(np.array([0.2126, 0.7152, 0.0722]) @ linear(c)) for c in (one, other))
    return (high + 0.05) / (low + 0.05)


def lab(colour: str, eye: str) -> np.ndarray:
    """CIELAB (D65) of a colour as an eye sees it."""
    seen = np.clip(np.array(EYES[eye]) @ linear(colour), 0, 1)
    xyz = (
        np.array([[0.4124, 0.3576, 0.1805], [0.2126, 0.7152, 0.0722], [0.0193, 0.1192, 0.9505]]) @ seen
    )
    f = xyz / np.array([0.9505, 1.0, 1.089])
    f = np.where(f > 0.008856, np.cbrt(f), 7.787 * f + 16 / 116)
    return np.array([116 * f[1] - 16, 500 * (f[0] - f[1]), 200 * (f[1] - f[2])])


def apart(one: str, other: str) -> float:
    """How far two colours are apart for the eye that tells them worst."""
    return min(float(np.linalg.norm(lab(one, eye) - lab(other, eye))) for eye in EYES)


@pytest.mark.parametrize("sheet", SHEETS)
def test_words_stand_out_from_every_paper(sheet):
    colours = SHEETS[sheet]
    for ground in ("paper", "sheet"):
        for name in ("ink", "soft", "needle", *(f"ink-{n}" for n in range(1, INKS + 1))):
            assert contrast(colours[name], colours[ground]) >= 4.5, (name, ground)
    assert contrast(colours["mark-ink"], colours["mark"]) >= 4.5
    assert contrast(colours["ink"], colours["mark"]) >= 4.5
    for n in range(1, INKS + 1):
        # A tag's letters on its ink, and an ink on what is marked.
        assert contrast(colours["tag"], colours[f"ink-{n}"]) >= 4.5
        assert contrast(colours[f"ink-{n}"], colours["mark"]) >= 3


@pytest.mark.parametrize("sheet", SHEETS)
def test_edges_of_fields_and_of_what_is_chosen_stand_out(sheet):
    colours = SHEETS[sheet]
    for ground in ("paper", "sheet"):
        for edge in ("edge", "ink", "needle"):
            assert contrast(colours[edge], colours[ground]) >= 3, (edge, ground)


@pytest.mark.parametrize("sheet", SHEETS)
def test_no_two_inks_are_near_for_any_eye_least_of_all_with_one_dash(sheet):
    colours = SHEETS[sheet]
    for one, other in combinations(range(INKS), 2):
        found = apart(colours[f"ink-{one + 1}"], colours[f"ink-{other + 1}"])
        have_one_dash = one % len(DASHES) == other % len(DASHES)
        assert found >= (APART_WITH_ONE_DASH if have_one_dash else APART), (one + 1, other + 1, found)
    for n in range(1, INKS + 1):
        assert apart(colours[f"ink-{n}"], colours["ink"]) >= APART, n
