"""A bell or shelf whose gain moves with a level: x + (g - 1) B(x), exact when it rests."""

from __future__ import annotations

import math
from typing import Protocol

import numpy as np
from scipy.signal import butter

from pondel.core.dsp import ballistics
from pondel.core.dsp.cascade import Cascade, settle_s
from pondel.core.dsp.compiled import kernel
from pondel.core.dsp.decibels import amplitude_to_db, db_to_amplitude
from pondel.core.dsp.followers import peaks
from pondel.core.dsp.limits import LOUDEST, QUIETEST
from pondel.core.dsp.squeeze import bend

KNEE_DB = 3.0


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
    def release_ms(self) -> float: ...
    @property
    def listens(self) -> str: ...


def band_pass(hz: float, q: float, rate: int) -> np.ndarray:
    """Band-pass of gain 1 at its centre, as one section (cookbook, constant peak gain)."""
    w = 2.0 * math.pi * min(hz, 0.45 * rate) / rate
    alpha = math.sin(w) / (2.0 * q)
    a0 = 1.0 + alpha
    return np.array([[alpha / a0, 0.0, -alpha / a0, 1.0, -2.0 * math.cos(w) / a0, (1.0 - alpha) / a0]])


def detector_biquads(band: Moving, rate: int) -> np.ndarray:
    """What the band's detector hears: its band, or the side its shelf acts on."""
    if band.listens == "whole":
        return np.zeros((0, 6))
    if band.shape == "bell":
        return band_pass(band.hz, band.q, rate)
    kind = "lowpass" if band.shape == "low shelf" else "highpass"
    return butter(2, min(band.hz, 0.45 * rate), kind, fs=rate, output="sos")


@kernel(error_model="numpy", fastmath={"contract", "nsz"})
def _moving(block, gain, sos, state, out):
    """out = x + (gain - 1) B(x) for each channel; `sos` one section, state (channels, 2)."""
    b0, b1, b2, a1, a2 = sos[0], sos[1], sos[2], sos[4], sos[5]
    for c in range(block.shape[1]):
        z1, z2 = state[c, 0], state[c, 1]
        for i in range(block.shape[0]):
            given = np.float64(block[i, c])
            x = given if abs(given) < LOUDEST else 0.0
            y = b0 * x + z1
            z1 = b1 * x - a1 * y + z2
            z2 = b2 * x - a2 * y
            out[i, c] = x + (gain[i] - 1.0) * y
        state[c, 0] = z1 if abs(z1) > 1e-25 else 0.0
        state[c, 1] = z2 if abs(z2) > 1e-25 else 0.0


def _follow(level: np.ndarray, threshold_db: float, most_db: float) -> np.ndarray:
    """In proportion to the level, all of the range at the threshold."""
    full = np.float32(10.0 ** (threshold_db / 20.0))
    return np.minimum(level / full, np.float32(1.0)) * np.float32(most_db)


class MovingBand:
    """One band at work."""

    def __init__(self, band: Moving, rate: int, channels: int) -> None:
        self._band = band
        self._detector_sos = detector_biquads(band, rate)
        self._detectors: dict[int, Cascade] = {}
        times = ballistics.Times.of(band.attack_ms, 0.0, band.release_ms, rate)
        self._times = (times.rise, times.fall_first, times.fall_second)
        self._sign = np.float32(-1.0 if band.range_db < 0 else 1.0)
        self._most_db = abs(band.range_db)
        self._smoothed = np.zeros(4)
        self._filters = [sos[0] for sos in moving_filters(band, rate)]
        self._states = [np.zeros((channels, 2)) for _ in self._filters]

    def gain_db(self, heard: np.ndarray) -> np.ndarray:
        """The moving gain in dB for what the detector hears, float32 (frames,)."""
        channels = heard.shape[1]
        if channels not in self._detectors:
            self._detectors[channels] = Cascade(self._detector_sos, channels)
        heard = self._detectors[channels].process(np.ascontiguousarray(heard, np.float32))
        level = np.empty(heard.shape[0], np.float32)
        peaks(heard, level)
        level = np.maximum(level, QUIETEST)
        band = self._band
        if band.mode == "follow":
            wanted = _follow(level, band.threshold_db, self._most_db)
        else:
            wanted = np.empty_like(level)
            amplitude_to_db(level, wanted)
            slope = np.float32(1.0 - 1.0 / band.ratio)
            knee, most = np.float32(KNEE_DB), np.float32(self._most_db)
            bend(wanted, np.float32(band.threshold_db), slope, knee, most)
        ballistics.smooth_reduction(wanted, self._smoothed, *self._times, 0)
        return wanted * self._sign

    def apply(self, block: np.ndarray, gain_db: np.ndarray) -> np.ndarray:
        """Treat float32 (frames, channels) with a gain in dB for each frame."""
        share = np.float32(1.0 / len(self._filters))
        gain = np.empty_like(gain_db)
        db_to_amplitude(gain_db * share, gain)
        for sos, state in zip(self._filters, self._states, strict=True):
            out = np.empty_like(block)
            _moving(block, gain, sos, state, out)
            block = out
        return block


def moving_filters(band: Moving, rate: int) -> list[np.ndarray]:
    """The biquads B, one after another, between which the gain is divided; each of shape (1, 6)."""
    if band.shape == "bell":
        return [band_pass(band.hz, band.q, rate)]
    kind = "lowpass" if band.shape == "low shelf" else "highpass"
    return [butter(1, min(band.hz, 0.45 * rate), kind, fs=rate, output="sos")] * 2


def moving_settle_s(band: Moving, rate: int = 48000) -> tuple[float, float]:
    """Seconds for the detector with its ballistics, and for the filters, to forget their past."""
    detector = settle_s(detector_biquads(band, rate), rate)
    own = sum(settle_s(sos, rate) for sos in moving_filters(band, rate))
    times = ballistics.settle_s(band.attack_ms, 0.0, band.release_ms, max(abs(band.range_db), 6.0))
    return detector + times, own
