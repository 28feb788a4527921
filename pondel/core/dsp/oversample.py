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
from pondel.core.dsp.weighed import REST, TILE, add_row, by_phase, deinterleave, in_rows, interleave

STOP_DB = 100.0
PASSED_HZ = 20_000.0
INNER_HZ = 350_000.0
"""The rate at which shapes are worked out is at least this."""
PIECE = 4096
"""So many frames stay in the nearer caches with all that is made of them at the inner rate."""


@kernel(error_model="numpy")
def _up(sound, taps, firsts, counts, out):
    """(channels, taps + frames + REST) to (channels, factor, frames), by a filter in as many `Rows`."""
    frames = out.shape[2]
    for c in range(out.shape[0]):
        for start in range(0, frames, TILE):
            end = min(start + TILE, frames)
            for p in range(out.shape[1]):
                made = out[c, p, start:end]
                made[:] = 0.0
                add_row(sound[c, start + 1 :], taps[p], firsts[p], counts[p], made)


@kernel(error_model="numpy")
def _down(rows, taps, firsts, counts, out):
    """(channels, factor, delay + frames + REST) to (channels, frames), by a filter in `Rows`."""
    frames = out.shape[1]
    for c in range(out.shape[0]):
        for start in range(0, frames, TILE):
            kept = out[c, start : min(start + TILE, frames)]
            kept[:] = 0.0
            for p in range(rows.shape[1]):
                add_row(rows[c, p, start:], taps[p], firsts[p], counts[p], kept)


@kernel(error_model="numpy")
def _together(rows, out):
    """(channels, factor, frames) to (channels, factor * frames): a frame of each row in turn."""
    for c in range(rows.shape[0]):
        interleave(rows[c], rows.shape[2], out[c])


@kernel(error_model="numpy")
def _apart(sound, rows):
    """What `_together` undoes."""
    for c in range(rows.shape[0]):
        deinterleave(sound[c], rows.shape[2], rows[c])


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


def together(rows: np.ndarray) -> np.ndarray:
    """Rows of every n-th frame, (channels, n, frames), in order: (channels, n * frames)."""
    channels, factor, frames = rows.shape
    out = np.empty((channels, factor * frames), np.float32)
    _together(rows, out)
    return out


def apart(sound: np.ndarray, factor: int) -> np.ndarray:
    """(channels, frames) as rows of every `factor`-th frame."""
    channels, frames = sound.shape
    rows = np.empty((channels, factor, frames // factor), np.float32)
    _apart(sound, rows)
    return rows


class _Stage:
    """One stage up and down again: every `factor`-th frame of the higher rate is a row."""

    def __init__(self, rate: int, factor: int, whole: int, channels: int) -> None:
        taps = self.taps = _filter(rate, factor, factor * whole // 2)
        self.late = (taps.size - 1) // factor
        """Frames at the lower rate by which up and down together are late."""
        phases = by_phase(taps, factor)
        self._rows_up = in_rows(factor * phases[:, ::-1])
        self._rows_down = in_rows(phases)
        self.factor = factor
        self._below = np.zeros((channels, phases.shape[1]), np.float32)
        self._above = np.zeros((channels, factor, self.late), np.float32)
        self._beyond = np.zeros((channels, factor, REST), np.float32)
        """What the taps that fill up a row reach to."""

    def raised(self, sound: np.ndarray) -> np.ndarray:
        """(channels, frames) as rows of the higher rate, (channels, factor, frames)."""
        channels, frames = sound.shape
        joined = np.concatenate([self._below, sound, self._beyond[:, 0]], axis=1)
        self._below = joined[:, frames : frames + self._below.shape[1]].copy()
        rows = np.empty((channels, self.factor, frames), np.float32)
        _up(joined, *self._rows_up, rows)
        return rows

    def lowered(self, rows: np.ndarray) -> np.ndarray:
        """Rows of the higher rate as (channels, frames)."""
        channels, _, frames = rows.shape
        joined = np.concatenate([self._above, rows, self._beyond], axis=2)
        self._above = joined[:, :, frames : frames + self.late].copy()
        out = np.empty((channels, frames), np.float32)
        _down(joined, *self._rows_down, out)
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
        """Float32 (frames, channels); `shape` changes (rows, values) at the inner rate in place.

        It takes each value by itself: rows hold every n-th frame of a channel, so that what comes of
        the last stage need not be put in order before its own filter takes it apart again.
        """
        given = np.ascontiguousarray(sound, np.float32)
        out = np.empty_like(given)
        for first in range(0, given.shape[0], PIECE):
            rows = apart(given[first : first + PIECE].reshape(1, -1), given.shape[1])[0]
            rows = self._through(rows, shape)
            out[first : first + PIECE] = together(rows[None]).reshape(-1, given.shape[1])
        return out

    def _through(self, inner: np.ndarray, shape: Callable[[np.ndarray], None]) -> np.ndarray:
        """The same of one piece, (channels, frames)."""
        *outer, last = self.stages
        for stage in outer:
            inner = together(stage.raised(inner))
        rows = last.raised(inner)
        shape(rows.reshape(-1, rows.shape[2]))
        inner = last.lowered(rows)
        for stage in reversed(outer):
            inner = stage.lowered(apart(inner, stage.factor))
        return inner
