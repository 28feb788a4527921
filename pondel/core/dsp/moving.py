"""Bells and shelves whose gain moves with a level, each with the response of the still EQ at that gain.

    moving_filters(band, 48000)      # the fixed filters a band is made of
    member_curves("bell", -6.0, 2.0) # how much of each at which gain

A moving band is the signal plus multiples of fixed filters, H = 1 + sum of c_m(g) (F_m - 1), where
the F_m are the still EQ's own filters at its full range and at one or two gains on the way there.
As only the multiples move, it is the signal itself at rest, and stable at any speed of change. The
multiples are chosen so that at every gain g on the way the response is that of the prototype at g:
exactly at the centre, within 0.1 dB (0.2 dB for ranges over 18 dB) elsewhere.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from typing import Protocol

import numpy as np

from pondel.core.dsp import ballistics
from pondel.core.dsp.cascade import settle_s
from pondel.core.dsp.matched import biquads, prototype, response

DEGREE = 7
STEPS = 33
"""Points of a member's multiple from rest to its full range."""


class Moving(Protocol):
    """The settings of a moving band."""

    @property
    def shape(self) -> str: ...
    @property
    def hz(self) -> float: ...
    @property
    def q(self) -> float: ...
    @property
    def range_db(self) -> float: ...
    @property
    def mode(self) -> str: ...
    @property
    def threshold_db(self) -> float: ...
    @property
    def ratio(self) -> float: ...
    @property
    def attack_ms(self) -> float: ...
    @property
    def hold_ms(self) -> float: ...
    @property
    def release_ms(self) -> float: ...
    @property
    def listens(self) -> str: ...


def band_pass(hz: float, q: float, rate: int) -> np.ndarray:
    """Band-pass of gain 1 at its centre, as one section (cookbook, constant peak gain)."""
    w = 2.0 * np.pi * min(hz, 0.45 * rate) / rate
    alpha = np.sin(w) / (2.0 * q)
    a0 = 1.0 + alpha
    return np.array([[alpha / a0, 0.0, -alpha / a0, 1.0, -2.0 * np.cos(w) / a0, (1.0 - alpha) / a0]])


def detector_biquads(band: Moving, rate: int) -> np.ndarray:
    """What the band's detector hears: its band, or the side its shelf acts on; one section."""
    from scipy.signal import butter

    if band.listens == "whole":
        return np.array([[1.0, 0.0, 0.0, 1.0, 0.0, 0.0]])
    if band.shape == "bell":
        return band_pass(band.hz, band.q, rate)
    kind = "lowpass" if band.shape == "low shelf" else "highpass"
    return butter(2, min(band.hz, 0.45 * rate), kind, fs=rate, output="sos")


def still_q(shape: str, q: float) -> float:
    """The Q with which a bell or shelf is drawn: a shelf's bend ends at 1."""
    return min(q, 1.0) if shape.endswith("shelf") else q


def member_gains_db(range_db: float) -> tuple[float, ...]:
    """The gains at which a moving band has fixed filters, the full range first."""
    size = abs(range_db)
    if size <= 2.0:
        return (range_db,)
    if size <= 9.0:
        return (range_db, range_db / 2.0)
    return (range_db, 0.6 * range_db, 0.25 * range_db)


@lru_cache(maxsize=256)
def member_curves(shape: str, range_db: float, q: float) -> np.ndarray:
    """The multiple of each member at evenly spaced gains from 0 to the range, (members, STEPS).

    Least squares over frequency against the prototype at each gain; the extreme is held exactly. A
    bell's do not depend on its Q, nor any on the frequency.
    """
    hz = np.geomspace(1e-3, 1e3, 241)
    gains = member_gains_db(range_db)
    members = np.stack([prototype(shape, hz, 1.0, gain, q) - 1.0 for gain in gains], axis=1)  # type: ignore[arg-type]
    extreme = {"bell": hz.size // 2, "low shelf": 0, "high shelf": hz.size - 1}[shape]
    curves = np.zeros((len(gains), STEPS))
    for n in range(1, STEPS):
        wanted = prototype(shape, hz, 1.0, range_db * n / (STEPS - 1), q)  # type: ignore[arg-type]
        weight = 1.0 / np.abs(wanted)
        weight[extreme] *= 1e4
        rows, aim = members * weight[:, None], (wanted - 1.0) * weight
        curves[:, n] = np.linalg.lstsq(
            np.concatenate([rows.real, rows.imag]), np.concatenate([aim.real, aim.imag]), rcond=None
        )[0]
    return curves


@lru_cache(maxsize=256)
def member_powers(shape: str, range_db: float, q: float) -> np.ndarray:
    """Each member's multiple as powers of the share of the range that is reached, (members, DEGREE)."""
    reached = np.linspace(0.0, 1.0, STEPS)[1:]
    rows = reached[:, None] ** np.arange(1, DEGREE + 1)
    curves = member_curves(shape, range_db, q)[:, 1:]
    return np.linalg.lstsq(rows, curves.T, rcond=None)[0].T.astype(np.float32)


def moving_filters(band: Moving, rate: int) -> list[np.ndarray]:
    """The fixed filters F of a band, the full range first, each as sections (sections, 6)."""
    q = still_q(band.shape, band.q)
    return [biquads(band.shape, band.hz, gain, q, rate) for gain in member_gains_db(band.range_db)]  # type: ignore[arg-type]


def together_db(bands: Sequence[Moving], gains_db: np.ndarray) -> np.ndarray:
    """What bands at their gains make of the place where each acts most, in dB, (bands, frames).

    That is the centre of a bell and the far end of a shelf; magnitudes of the prototypes (cookbook).
    """
    ends = {"low shelf": 10.0, "high shelf": 24_000.0}
    places = np.array([ends.get(band.shape, band.hz) for band in bands])
    total = np.zeros_like(gains_db)
    for band, gain_db in zip(bands, gains_db, strict=True):
        q, a = still_q(band.shape, band.q), 10.0 ** (gain_db / 40.0)
        for n, hz in enumerate(places):
            way = (hz / band.hz) ** 2
            if band.shape == "bell":
                away = q * q * (way - 1.0) ** 2 / way
                power = (away + a * a) / (away + 1.0 / (a * a))
            else:
                way = way if band.shape == "low shelf" else 1.0 / way
                bend = a * way / (q * q)
                power = a * a * ((a - way) ** 2 + bend) / ((1.0 - a * way) ** 2 + bend)
            total[n] += 10.0 * np.log10(power)
    return total


def second_form_change_db(band: Moving, rate: int) -> float:
    """How far a band's full range is from that of documents of form 2, at most, in dB.

    There a bell was 1 + (g - 1) B with B a band-pass of the band's own Q, a shelf two of first order.
    """
    from scipy.signal import butter

    hz = np.geomspace(20.0, min(20_000.0, 0.45 * rate), 300)
    w = 2.0 * np.pi * hz / rate
    now = np.ones(hz.size, complex)
    for sos in moving_filters(band, rate)[:1]:
        now = response(sos, w)
    if band.shape == "bell":
        before = 1.0 + (10.0 ** (band.range_db / 20.0) - 1.0) * response(
            band_pass(band.hz, band.q, rate), w
        )
    else:
        kind = "lowpass" if band.shape == "low shelf" else "highpass"
        side = response(butter(1, min(band.hz, 0.45 * rate), kind, fs=rate, output="sos"), w)
        before = (1.0 + (10.0 ** (band.range_db / 40.0) - 1.0) * side) ** 2
    return float(np.abs(20.0 * np.log10(np.abs(now) / np.abs(before))).max())


def moving_settle_s(band: Moving, rate: int = 48000) -> tuple[float, float]:
    """Seconds for the detector and its ballistics, and for the band's own filters."""
    times = ballistics.settle_s(
        band.attack_ms, band.hold_ms, band.release_ms, max(abs(band.range_db), 6.0)
    )
    own = max(settle_s(sos, rate) for sos in moving_filters(band, rate))
    return settle_s(detector_biquads(band, rate), rate) + times, own
