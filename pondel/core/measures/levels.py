"""Levels of a recording: peaks, RMS, clipping and loudness, in one pass.

True peak follows ITU-R BS.1770-5 annex 2: fourfold oversampling with 16 taps a phase.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import asdict, dataclass
from functools import cache

import numpy as np

from pondel.core.dsp.compiled import kernel
from pondel.core.measures import loudness

CLIP_LEVEL = 0.9999
CLIP_RUN = 2
OVERSAMPLING = 4
TAPS_PER_PHASE = 16
FLAT_RUN, FLAT_RANGE_DB = 3, 1.5
PIECE = 512
FLAT_STEP_DB, FLAT_STEPS = 0.25, 240
"""Flat tops are counted by their level below full scale, until the peak is known."""
TILE, LANES = 64, 16


@dataclass(frozen=True)
class Levels:
    """Levels of a recording; loudness is None when nothing passes the absolute gate.

    `dc_offset` is that of the channel with the most; `flat_tops` are runs of three or more samples at
    one level within 1.5 dB of the peak, as clipping and limiting leave behind; `over_full_scale` counts
    the samples beyond full scale, which only floating point has.
    """

    seconds: float
    sample_peak_dbfs: float
    true_peak_dbtp: float
    rms_dbfs: float
    crest_db: float
    dc_offset: float
    clipped_runs: int
    flat_tops: int
    over_full_scale: int
    integrated_lufs: float | None
    momentary_max_lufs: float | None
    short_term_max_lufs: float | None
    loudness_range_lu: float | None

    def as_json(self) -> dict[str, float | int | None]:
        return {k: round(v, 4) if isinstance(v, float) else v for k, v in asdict(self).items()}


@cache
def interpolator() -> tuple[np.ndarray, float]:
    """The three fractional phases of a fourfold interpolator, float32 (3, taps), and the most by which
    what they interpolate can exceed the samples it is made of."""
    from scipy.signal import firwin

    taps = firwin(OVERSAMPLING * TAPS_PER_PHASE + 1, 1 / OVERSAMPLING, window=("kaiser", 4.0))
    phases = [OVERSAMPLING * taps[p::OVERSAMPLING][:TAPS_PER_PHASE] for p in (1, 2, 3)]
    rows = np.array([(phase / phase.sum())[::-1] for phase in phases], np.float32)
    return rows, float(np.abs(rows).sum(axis=1).max())


@kernel(error_model="numpy", fastmath={"contract", "nsz", "nnan", "ninf", "reassoc"})
def _tiles(samples, loudest):
    """Sum and sum of squares of one channel; `loudest` takes the largest magnitude of each tile.

    Four samples are taken together and sixteen such fours side by side, as the processor adds them.
    """
    sums, squares = np.zeros(LANES), np.zeros(LANES)
    peaks = np.zeros(LANES, np.float32)
    whole = samples.size // TILE
    for k in range(whole):
        tile = samples[TILE * k : TILE * k + TILE]
        for i in range(LANES):
            a, b, c, d = tile[i], tile[i + LANES], tile[i + 2 * LANES], tile[i + 3 * LANES]
            peaks[i] = max(abs(a), abs(b), abs(c), abs(d))
            sums[i] += np.float64((a + b) + (c + d))
            squares[i] += np.float64((a * a + b * b) + (c * c + d * d))
        peak = np.float32(0.0)
        for i in range(LANES):
            peak = max(peak, peaks[i])
        loudest[k] = peak
    total, square, peak = sums.sum(), squares.sum(), np.float32(0.0)
    for x in samples[TILE * whole :]:
        peak = max(peak, abs(x))
        total += np.float64(x)
        square += np.float64(x) * np.float64(x)
    if whole < loudest.size:
        loudest[whole] = peak
    return total, square


@kernel(error_model="numpy", fastmath={"contract", "nsz", "nnan", "ninf", "reassoc"})
def _largest_between(given, phases, between):
    """Largest magnitude interpolated from `given`, float32 (tile + taps - 1,)."""
    taps = phases.shape[1]
    size = given.size - taps + 1
    best = np.float32(0.0)
    found = between[:size]
    for p in range(phases.shape[0]):
        for i in range(size):
            found[i] = np.float32(0.0)
        for t in range(0, taps, 4):
            w0, w1, w2, w3 = phases[p, t], phases[p, t + 1], phases[p, t + 2], phases[p, t + 3]
            s0, s1 = given[t : t + size], given[t + 1 : t + 1 + size]
            s2, s3 = given[t + 2 : t + 2 + size], given[t + 3 : t + 3 + size]
            for i in range(size):
                found[i] += (w0 * s0[i] + w1 * s1[i]) + (w2 * s2[i] + w3 * s3[i])
        for i in range(size):
            best = max(best, abs(found[i]))
    return best


@kernel(error_model="numpy", fastmath={"contract", "nsz", "nnan", "ninf", "reassoc"})
def _true_peak(samples, before, loudest, phases, overshoot, best):
    """Largest interpolated magnitude in one channel, at least `best`.

    `samples` begins `before` frames, at most a tile, ahead of those whose tiles' `loudest` are given.
    A tile whose samples, with those just before it, cannot add up to more than `best` is passed over.
    `phases` is float32 (phases, taps), the taps in the order in which they meet the samples, a
    multiple of four.
    """
    reach = phases.shape[1] - 1
    between = np.empty(TILE, np.float32)
    last = np.float32(0.0)
    for i in range(before):
        last = max(last, abs(samples[i]))
    for k in range(loudest.size):
        most, last = max(last, loudest[k]), loudest[k]
        if most * overshoot > best:
            first = before + TILE * k
            given = samples[first - reach : min(first + TILE, samples.size)]
            best = max(best, _largest_between(given, phases, between))
    return best


@kernel(error_model="numpy")
def _clipped_runs(samples, clip, state):
    """Count runs of samples at full scale; state: [samples of the run under way, runs]."""
    run, runs = state[0], state[1]
    for i in range(samples.size):
        if abs(samples[i]) >= clip:
            run += 1
            if run == CLIP_RUN:
                runs += 1
        else:
            run = 0
    state[0], state[1] = run, runs


@kernel(error_model="numpy")
def _flat_tops(samples, state, tops):
    """Count runs of equal samples that break off, by their level; a rounded summit is none.

    state: [last sample, samples of it in a row, step by which the run was entered].
    """
    last, run, entered = state[0], state[1], state[2]
    for i in range(samples.size):
        x = np.float64(samples[i])
        size = abs(x)
        if x == last:
            run += 1.0
            continue
        edge = 4e-5 + 1e-4 * abs(last)
        if run >= FLAT_RUN and abs(last) > 1e-3 and entered > edge and abs(last) - size > edge:
            at = int(min(max(-20.0 * np.log10(abs(last)), 0.0) / FLAT_STEP_DB, FLAT_STEPS - 1.0))
            tops[at] += 1.0
        entered = size - abs(last)
        last, run = x, 1.0
    state[0], state[1], state[2] = last, run, entered


@kernel(error_model="numpy", fastmath={"contract", "nsz", "nnan", "ninf", "reassoc"})
def _still_ones(samples):
    """How many samples are as the one before; most recordings have none for long."""
    count = 0
    for i in range(samples.size - 1):
        count += samples[i] == samples[i + 1]
    return count


@kernel(error_model="numpy")
def _look_for_flat_tops(samples, state, tops):
    """`_flat_tops` where there are any; elsewhere only what goes on from piece to piece is noted."""
    for start in range(0, samples.size, PIECE):
        piece = samples[start : start + PIECE]
        goes_on = piece.size < 3 or np.float64(piece[0]) == state[0] or state[1] > 1.0
        if goes_on or _still_ones(piece):
            _flat_tops(piece, state, tops)
            continue
        state[0], state[1] = np.float64(piece[-1]), 1.0
        state[2] = abs(np.float64(piece[-1])) - abs(np.float64(piece[-2]))


class LevelMeter:
    """Measures blocks as they pass."""

    def __init__(self, rate: int, channels: int) -> None:
        self._rate = rate
        self._channels = channels
        self._frames = 0
        self._sums, self._clipped = np.zeros((channels, 3)), np.zeros((channels, 2))
        self._flat, self._tops = np.zeros((channels, 4)), np.zeros((channels, FLAT_STEPS))
        self._peaks = [np.float32(0.0)] * channels
        self._tail = np.zeros((channels, TAPS_PER_PHASE), np.float32)
        self._loudness = loudness.LoudnessMeter(rate, channels)

    def write(self, block: np.ndarray) -> None:
        """Add float32 (frames, channels)."""
        if not block.size:
            return
        self._frames += block.shape[0]
        joined = np.concatenate([self._tail, np.ascontiguousarray(block.T)], axis=1)
        fresh = joined[:, TAPS_PER_PHASE:]
        for c, channel in enumerate(joined):
            loudest = np.empty(-(-block.shape[0] // TILE), np.float32)
            total, squares = _tiles(fresh[c], loudest)
            peak = loudest.max()
            self._sums[c] = (
                max(self._sums[c, 0], peak),
                self._sums[c, 1] + total,
                self._sums[c, 2] + squares,
            )
            if peak < CLIP_LEVEL:
                self._clipped[c, 0] = 0.0
            else:
                _clipped_runs(fresh[c], CLIP_LEVEL, self._clipped[c])
            if peak > 1.0:
                self._flat[c, 3] += np.count_nonzero(np.abs(fresh[c]) > 1.0)
            _look_for_flat_tops(fresh[c], self._flat[c], self._tops[c])
            self._peaks[c] = self._between(channel, loudest, c)
        self._tail = joined[:, joined.shape[1] - TAPS_PER_PHASE :].copy()
        self._loudness.write_wide(fresh)

    def _between(self, channel: np.ndarray, loudest: np.ndarray, c: int) -> np.float32:
        phases, overshoot = interpolator()
        return _true_peak(
            channel, TAPS_PER_PHASE, loudest, phases, np.float32(overshoot), self._peaks[c]
        )

    def _near_the_top(self, peak: float) -> int:
        top_db = _db(peak)
        return int(self._tops[:, _at(top_db) : _at(top_db - FLAT_RANGE_DB) + 1].sum())

    def levels(self) -> Levels:
        """Everything measured so far."""
        joined = np.concatenate([self._tail, np.zeros_like(self._tail)], axis=1)
        silence = np.zeros(1, np.float32)
        true_peaks = [self._between(channel, silence, c) for c, channel in enumerate(joined)]
        peak = float(self._sums[:, 0].max())
        samples = max(1, self._frames * self._channels)
        rms = math.sqrt(self._sums[:, 2].sum() / samples)
        powers = self._loudness.step_powers()
        return Levels(
            seconds=self._frames / self._rate,
            sample_peak_dbfs=_db(peak),
            true_peak_dbtp=_db(max(peak, float(max(true_peaks)))),
            rms_dbfs=_db(rms),
            crest_db=_db(peak) - _db(rms),
            dc_offset=float(max(self._sums[:, 1], key=abs) / max(1, self._frames)),
            clipped_runs=int(self._clipped[:, 1].sum()),
            flat_tops=self._near_the_top(peak),
            over_full_scale=int(self._flat[:, 3].sum()),
            integrated_lufs=loudness.integrated_lufs(powers),
            momentary_max_lufs=loudness.loudest_lufs(powers, loudness.MOMENTARY_STEPS),
            short_term_max_lufs=loudness.loudest_lufs(powers, loudness.SHORT_TERM_STEPS),
            loudness_range_lu=loudness.range_lu(powers),
        )


def _at(level_db: float) -> int:
    return int(min(max(-level_db, 0.0) / FLAT_STEP_DB, FLAT_STEPS - 1))


def _db(amplitude: float) -> float:
    return 20.0 * math.log10(max(amplitude, 1e-10))


def measure(blocks: Iterable[np.ndarray], rate: int, channels: int) -> Levels:
    """Levels of a stream of float32 blocks (frames, channels)."""
    meter = LevelMeter(rate, channels)
    for block in blocks:
        meter.write(block)
    return meter.levels()
