"""A row of narrow bells on the ear's scale, one after another, each with a gain of its own.

    row = bell_row(100.0, 8000.0, 0.5, 48000)    # half an ERB from bell to bell
    row.bells_for(12.0)                          # how far each bell falls where all are asked 12 dB

A bell is 1 + (g - 1) B with B a fixed band-pass: at rest the signal itself, stable at any speed of
change, and without latency. Neighbours overlap, so that decibels add up: each bell takes the share with
which an evenly asked row, from its first centre to its last, reaches what is asked (the interaction of
a cascade graphic equaliser, after Valimaki and Liski, IEEE Signal Processing Letters 24(2), 2017). What
the bells spill an octave beyond the limits is taken back by a few broad bells there.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from pondel.core.dsp.matched import response
from pondel.core.dsp.scale import cam_of, erb_hz, hz_of

OVERLAP, HEARD_OVERLAP = 3.6, 2.0
"""Width of a bell's band-pass, and of what its detector hears, in steps from bell to bell."""
REACH = 8
"""Neighbours to each side that count where what is asked is uneven."""
HIGHEST_SHARE = 0.43
OUTER = ((1.6, 2.5), (3.0, 1.2))
"""Broad bells beyond a limit: how far, as a factor of frequency, and how sharp."""
OUTER_SHARE = 0.4
SOLVED_DB = np.arange(0.0, 31.0, 3.0)
DEGREE = 6


def bell_band_pass(hz: float | np.ndarray, width_hz: float | np.ndarray, rate: int) -> np.ndarray:
    """Band-passes of gain 1 at `hz`, -3.01 dB at edges `width_hz` apart, as sections (bands, 6).

    Regalia and Mitra, IEEE Transactions on Acoustics, Speech and Signal Processing 35(1), 1987.
    """
    hz, width_hz = np.atleast_1d(hz), np.atleast_1d(width_hz)
    c = np.tan(np.pi * np.minimum(width_hz, 0.45 * rate) / rate)
    rows = np.zeros((hz.size, 6))
    rows[:, 0] = c / (1.0 + c)
    rows[:, 2] = -rows[:, 0]
    rows[:, 3] = 1.0
    rows[:, 4] = -2.0 * np.cos(2.0 * np.pi * hz / rate) / (1.0 + c)
    rows[:, 5] = (1.0 - c) / (1.0 + c)
    return rows


@dataclass(frozen=True)
class BellRow:
    """The row's design.

    `sections` are the band-passes of the bells within the limits, lowest first, then those of the
    outer ones, (bells, 6); `heard` those of the inner ones' detectors, (inner, 6). `powers` are
    coefficients of rising powers of what is asked, in dB, that give each bell's fall where all are
    asked the same, (degree, inner); `near` says how much of a neighbour's fall reaches a centre, (2
    REACH + 1, inner), and `evenly` how much reaches it where all are asked the same, (degree,
    inner). `spill` turns 1 - g^2 of the inner bells into dB of the outer ones, (outer, inner).
    """

    centres_hz: np.ndarray
    sections: np.ndarray
    heard: np.ndarray
    powers: np.ndarray
    near: np.ndarray
    evenly: np.ndarray
    spill: np.ndarray

    @property
    def inner(self) -> int:
        """Bells within the limits."""
        return self.centres_hz.size

    def away(self, hz: np.ndarray, rate: int) -> np.ndarray:
        """nu^2 of |B|^2 = 1 / (1 + nu^2) of each bell at frequencies, (frequencies, bells)."""
        return _away(self.sections, hz, rate)

    def bells_for(self, asked_db: float) -> np.ndarray:
        """Fall in dB of all bells where every band is asked the same, (bells,)."""
        falls = np.zeros(self.inner)
        for coefficients in self.powers[::-1]:
            falls = (falls + coefficients) * asked_db
        return np.concatenate([falls, -self.spill @ (1.0 - 10.0 ** (-falls / 10.0))])


def _away(sections: np.ndarray, hz: np.ndarray, rate: int) -> np.ndarray:
    """How far frequencies lie from each bell, (frequencies, bells)."""
    w = 2.0 * np.pi * hz / rate
    passed = np.stack([np.abs(response(row[None], w)) ** 2 for row in sections], axis=1)
    return 1.0 / np.maximum(passed, 1e-12) - 1.0


def falls_db(away: np.ndarray, bells_db: np.ndarray) -> np.ndarray:
    """What bells that fall by so many dB make of each frequency, in dB, (frequencies, bells)."""
    return -10.0 * np.log10((10.0 ** (-bells_db / 10.0) + away) / (1.0 + away))


@lru_cache(maxsize=64)
def bell_row(low_hz: float, high_hz: float, step_erb: float, rate: int) -> BellRow:
    """Bells from one limit to the other, `step_erb` apart; no limit lies above 0.43 of the rate."""
    high_hz = min(high_hz, HIGHEST_SHARE * rate)
    low_hz = min(low_hz, high_hz / 1.05)
    first, final = float(cam_of(low_hz)), float(cam_of(high_hz))
    count = max(2, round((final - first) / step_erb) + 1)
    cams = np.linspace(first, final, count)
    centres = hz_of(cams)
    inner, heard = (
        bell_band_pass(centres, erb_hz(centres) * step_erb * width, rate)
        for width in (OVERLAP, HEARD_OVERLAP)
    )
    beyond = [(low_hz / far, q) for far, q in OUTER] + [(high_hz * far, q) for far, q in OUTER]
    beyond = [(hz, q) for hz, q in beyond if hz < OUTER_SHARE * rate]
    outer_hz = np.array([hz for hz, _ in beyond])
    outer = bell_band_pass(outer_hz, outer_hz / np.array([q for _, q in beyond]), rate)
    seen = 1.0 / (1.0 + _away(outer, outer_hz, rate))
    spilled = 4.343 / (1.0 + _away(inner, outer_hz, rate))
    spill = np.linalg.solve(seen, spilled)
    sections = np.concatenate([inner, outer])
    at = [_away(sections, centres, rate)]
    if count > 2:
        between = hz_of(cams[:-1] + np.diff(cams) / 2.0)
        above = _away(sections, between, rate)
        at = [at[0], np.concatenate([above, above[-1:]]), np.concatenate([above[:1], above])]
    powers = _solved(at, spill, count)
    shared = 1.0 / (1.0 + at[0][:, :count])
    near = np.zeros((2 * REACH + 1, count))
    within = range(-min(REACH, count - 1), min(REACH, count - 1) + 1)
    for n in within:
        row = np.diagonal(shared, n)
        near[n + REACH, max(0, -n) : max(0, -n) + row.size] = row
    evenly = np.zeros_like(powers)
    for n in within:
        evenly += near[n + REACH] * _moved(powers, n)
    small = (one.astype(np.float32) for one in (powers, near, evenly, spill))
    return BellRow(centres, sections, heard, *small)


def _moved(rows: np.ndarray, n: int) -> np.ndarray:
    """The n-th neighbour of each column, nothing where there is none."""
    out = np.zeros_like(rows)
    if n >= 0:
        out[:, : rows.shape[1] - n] = rows[:, n:]
    else:
        out[:, -n:] = rows[:, :n]
    return out


def _solved(at: list[np.ndarray], spill: np.ndarray, count: int) -> np.ndarray:
    """Powers with which an evenly asked row does what is asked, at the centres and between them."""
    weights = [0.5, 0.25, 0.25] if len(at) == 3 else [1.0]
    falls = np.zeros(count)
    rows = []
    for asked in SOLVED_DB:
        for _ in range(8):
            outer = -spill @ (1.0 - 10.0 ** (-falls / 10.0))
            bells = np.concatenate([falls, outer])
            done = sum(w * falls_db(a, bells).sum(axis=1) for w, a in zip(weights, at, strict=True))
            power = 10.0 ** (-falls / 10.0)
            slope = sum(w * power / (power + a[:, :count]) for w, a in zip(weights, at, strict=True))
            step = np.linalg.solve(slope, asked - done)
            falls = falls + np.clip(step, -4.0, 4.0)
            if np.abs(step).max() < 1e-3:
                break
        rows.append(falls)
    powers = SOLVED_DB[1:, None] ** np.arange(1, DEGREE + 1)
    scale = np.abs(powers).max(axis=0)
    return np.linalg.lstsq(powers / scale, np.array(rows[1:]), rcond=None)[0] / scale[:, None]
