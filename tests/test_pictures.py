"""Pictures against the sound: the drawn gain of every kind is the measured one, at rest and in full."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import RATE
from moves_tools import at_work

from pondel.core.moves.picture import at_full, at_rest
from pondel.core.moves.registry import KINDS, kind_of

SETTLE_S, MEASURED_S = 4, 2
HZ = np.array([31.0, 63, 90, 125, 180, 250, 400, 630, 1000, 1600, 2500, 4000, 8000, 12000])
KEY_LOUD = 0.9
BELL = {"hz": 250, "q": 1.4}
TIED = {"tied_to": {"part": "x", "move": "m"}}
FULL_DUCK = {"threshold_db": -80, "ratio": "inf", "attack_ms": 1, "release_ms": 4000}
BAND = {**FULL_DUCK, "range_db": 9, "makeup_db": 2, "mix": 0.7}
CASES = {
    "level": [{"gain_db": -7}],
    "eq": [
        {"bands": [{**BELL, "gain_db": -12}, {**BELL, "gain_db": -12}], "output_db": 3},
        {"bands": [{"shape": "low shelf", "hz": 120, "gain_db": 6}, {"shape": "tilt", "gain_db": 8}]},
        {"bands": [{"shape": "low cut", "hz": 80, "slope_db_oct": 24}], "level_match": True},
    ],
    "dynamic eq": [
        {"bands": [{**BELL, **FULL_DUCK, "range_db": -12}, {**BELL, **FULL_DUCK, "range_db": -12}]},
        {"bands": [{"shape": "low shelf", "hz": 200, **FULL_DUCK, "range_db": -10}]},
        {"bands": [{"shape": "high shelf", "hz": 2000, **FULL_DUCK, "range_db": 6}]},
    ],
    "compressor": [{**FULL_DUCK, "range_db": 12}, {**FULL_DUCK, **BAND}],
    "multiband": [
        {"crossovers_hz": [120, 1000], "bands": [BAND, {"on": False}, {**BAND, "range_db": 4}]},
        {"phase": "linear", "crossovers_hz": [300], "bands": [BAND, {"on": False}]},
        {"crossovers_hz": [300], "bands": [{**BAND, "solo": True}, BAND]},
    ],
    "spectral duck": [
        {"low_hz": 100, "high_hz": 2000, "depth_db": 12, "threshold_db": -80, "ratio": "inf"},
        {"low_hz": 200, "high_hz": 4000, "depth_db": 9, "threshold_db": -80, "mix": 0.6},
    ],
    "drawn duck": [
        {"depth_db": 8, "length_ms": 8000, "points": [{"at": 0, "deep": 1}, {"at": 1, "deep": 1}]},
        {
            "depth_db": 8,
            "length_ms": 8000,
            "points": [{"at": 0, "deep": 1}, {"at": 1, "deep": 1}],
            "acts_on": "lows",
            "crossover_hz": 200,
        },
    ],
    "gate": [{"threshold_db": -10, "ratio": "inf", "range_db": 15}],
    "complementary eq": [
        {
            **TIED,
            "side": "gains",
            "bands": [{**BELL, "difference_db": 9}, {**BELL, "difference_db": 4}],
        },
        {
            **TIED,
            "side": "gives",
            "bands": [
                {**BELL, "difference_db": 9, "dynamic": "gives", "full_at_db": -80},
                {
                    "shape": "low shelf",
                    "hz": 150,
                    "difference_db": 8,
                    "dynamic": "both",
                    "full_at_db": -80,
                },
            ],
        },
    ],
    "width": [{"width": 1.5, "mono_below_hz": 150}],
    # One gain for each side: see the tests of its law.
    "pan": [],
    "alignment": [{"nudge_ms": 0.31, "inverted": True, "rotate_hz": 300}],
    "tail trim": [{"end_ms": 10, "fade_ms": 5}],
    "delay": [{"time_ms": 100, "feedback": 0, "sides": False, "low_cut_hz": 200, "high_cut_hz": 4000}],
    "saturation": [{"drive_db": 3, "even": 0, "mix": 0.8}, {"drive_db": 3, "acts_on": "lows"}],
    # Without spectra it does nothing: see the tests of its contrast.
    "contrast eq": [],
    # What is added is no gain of what is there: see the tests of layers.
    "sub layer": [],
    "noise layer": [],
    # It does nothing to a steady tone: see the tests of its hits.
    "snap and ring": [],
    # What a space makes of each frequency is told on average only: see the tests of its decay.
    "reverb": [],
}
EVERY = [(kind, n) for kind in KINDS for n in range(len(CASES[kind]))]


def tones(level: float) -> np.ndarray:
    """The frequencies as whole cycles of what is measured, mono float64."""
    t = np.arange((SETTLE_S + MEASURED_S) * RATE) / RATE
    phases = np.random.default_rng(5).uniform(0, 2 * np.pi, HZ.size)
    return level * sum(np.sin(2 * np.pi * hz * t + p) for hz, p in zip(HZ, phases, strict=True))


def measured_db(move, sides: bool, key: np.ndarray | None, hits_s) -> np.ndarray:
    """What the processor makes of each frequency once it has settled, in dB."""
    given = tones(0.01)
    stereo = np.stack([given, -given if sides else given], axis=1).astype("f4")
    processor = at_work(move, RATE, 2, hits_s=hits_s)
    out = np.concatenate(
        [
            processor.process(stereo[i : i + 4800], None if key is None else key[i : i + 4800])
            for i in range(0, len(stereo), 4800)
        ]
    )

    def lines(sound):
        spectrum = np.abs(np.fft.rfft(sound[-MEASURED_S * RATE :].astype(np.float64)))
        return spectrum[np.round(HZ * MEASURED_S).astype(int)]

    return 20 * np.log10(np.maximum(lines(out[:, 0]) / lines(stereo[:, 0]), 1e-5))


def drawn_db(move, gains) -> np.ndarray:
    picture = kind_of(move.kind).picture(move, HZ, RATE)
    return 20 * np.log10(np.maximum(np.abs(picture.gain(gains, HZ.size)), 1e-5))


@pytest.mark.parametrize(("kind", "n"), EVERY)
def test_the_picture_is_the_sound(kind, n):
    move = kind_of(kind).params.model_validate({"id": "m", **CASES[kind][n]})
    picture = kind_of(kind).picture(move, HZ, RATE)
    sides = picture.of == "the sides"
    silent = np.zeros(((SETTLE_S + MEASURED_S) * RATE, 1), "f4")
    loud = np.full_like(silent, KEY_LOUD)
    keyed = KINDS[kind].keyed
    # A loud key keeps a gate open and sets everything else in motion.
    opened, driven = (silent, loud) if kind != "gate" else (loud, silent)
    if keyed and kind in ("dynamic eq", "spectral duck", "complementary eq", "multiband"):
        driven = tones(KEY_LOUD / HZ.size)[:, None].astype("f4") * 3
    hits = [0.0] if kind in ("drawn duck", "tail trim") else []
    resting = measured_db(move, sides, opened if keyed else None, [] if hits else hits)
    assert resting == pytest.approx(drawn_db(move, at_rest), abs=0.5)
    full, drawn = measured_db(move, sides, driven if keyed else None, hits), drawn_db(move, at_full)
    if kind == "tail trim":
        # A tail ends in silence, deeper than its trace goes.
        full = np.maximum(full, drawn)
    assert full == pytest.approx(drawn, abs=0.5)


def test_two_bells_at_one_place_draw_their_sum():
    move = kind_of("dynamic eq").params.model_validate({"id": "m", **CASES["dynamic eq"][0]})
    at = int(np.argmin(np.abs(HZ - 250)))
    assert drawn_db(move, at_full)[at] == pytest.approx(-24, abs=0.1)
