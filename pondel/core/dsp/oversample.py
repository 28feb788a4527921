"""A sound at several times its rate and back again, for treatments that make new frequencies.

    shaper = Oversampled(rate, channels)
    out = shaper.process(sound, shape)      # late by shaper.latency frames

Two stages of linear-phase filters (Kaiser windows; Crochiere and Rabiner, "Multirate digital signal
processing", 1983): a steep one to twice the rate, then a short one as far as it goes. What is made
above half the rate is 100 dB down before it can fold back.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache

import numpy as np

from pondel.core.dsp.compiled import kernel
from pondel.core.dsp.decimate import keep_every
from pondel.core.dsp.weighed import TILE, add_row, by_phase, in_rows, interleave

STOP_DB = 100.0
PASSED_HZ = 20_000.0
INNER_HZ = 350_000.0
"""The rate at which shapes are worked out is at least this."""


@kernel(error_model="numpy")
def _up(sound, taps, firsts, counts, out):
    """(channels, taps + frames) to (channels, frames * factor); the filter in as many `Rows`."""
    factor, reach = taps.shape[0], np.max(firsts + counts)
    given, made = np.zeros(TILE + reach, np.float32), np.empty((factor, TILE), np.float32)
    frames = out.shape[1] // factor
    before = sound.shape[1] - frames
    for c in range(out.shape[0]):
        for start in range(0, frames, TILE):
            size = min(TILE, frames - start)
            count = min(size + reach, frames + before - start - 1)
            given[:count] = sound[c, start + 1 : start + 1 + count]
            given[count:] = 0.0
            made[:] = 0.0
            for p in range(factor):
                add_row(given, taps[p], firsts[p], counts[p], made[p, :size])
            interleave(made, size, out[c, start * factor : (start + size) * factor])


def factors(rate: int) -> tuple[int, ...]:
    """By how much each stage raises the rate."""
    whole = 2
    while whole * rate < INNER_HZ:
        whole *= 2
    return (2, whole // 2) if whole > 2 else (2,)


@lru_cache(maxsize=16)
def _filter(rate: int, factor: int, delays: int) -> np.ndarray:
    """A low-pass at `factor` times the rate whose delay is a whole number of `delays` frames there.

    It passes what can be heard and stops what mirrors it.
    """
    from scipy.signal import firwin, kaiserord

    inner = rate * factor
    passed = min(PASSED_HZ, 0.4535 * rate)
    stopped = rate - passed
    count, beta = kaiserord(STOP_DB, (stopped - passed) / (inner / 2.0))
    half = -(-(count // 2) // delays) * delays
    taps = firwin(2 * half + 1, rate / 2.0, window=("kaiser", beta), fs=inner)
    return taps.astype(np.float32)


class _Stage:
    """One stage up and down again."""

    def __init__(self, rate: int, factor: int, whole: int, channels: int) -> None:
        taps = self.taps = _filter(rate, factor, factor * whole // 2)
        self.late = (taps.size - 1) // factor
        """Frames at the lower rate by which up and down together are late."""
        phases = by_phase(taps, factor)
        self._rows_up = in_rows(factor * phases[:, ::-1])
        self._rows_down = in_rows(phases)
        self._factor = factor
        self._below = np.zeros((channels, phases.shape[1]), np.float32)
        self._above = np.zeros((channels, taps.size - 1), np.float32)

    def up(self, sound: np.ndarray) -> np.ndarray:
        joined = np.concatenate([self._below, sound], axis=1)
        self._below = joined[:, sound.shape[1] :].copy()
        out = np.empty((sound.shape[0], sound.shape[1] * self._factor), np.float32)
        _up(joined, *self._rows_up, out)
        return out

    def down(self, sound: np.ndarray) -> np.ndarray:
        joined = np.concatenate([self._above, sound], axis=1)
        self._above = joined[:, sound.shape[1] :].copy()
        out = np.empty((sound.shape[0], sound.shape[1] // self._factor), np.float32)
        keep_every(joined, *self._rows_down, out)
        return out


class Oversampled:
    """Applies a shape to each frame at several times the rate."""

    def __init__(self, rate: int, channels: int) -> None:
        steps = factors(rate)
        self.stages = []
        at = rate
        before = 1
        for factor in steps:
            self.stages.append(_Stage(at, factor, before, channels))
            at, before = at * factor, before * factor
        late = 0.0
        before = 1
        for stage, factor in zip(self.stages, steps, strict=True):
            late += stage.late / before
            before *= factor
        self.latency = round(late)

    def process(self, sound: np.ndarray, shape: Callable[[np.ndarray], None]) -> np.ndarray:
        """Float32 (frames, channels); `shape` changes (channels, frames) at the inner rate in place."""
        inner = np.ascontiguousarray(sound.T, np.float32)
        for stage in self.stages:
            inner = stage.up(inner)
        shape(inner)
        for stage in reversed(self.stages):
            inner = stage.down(inner)
        return np.ascontiguousarray(inner.T)
