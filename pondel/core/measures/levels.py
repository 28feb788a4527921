"""Levels of a recording: peaks, RMS, clipping and integrated loudness, in one pass.

Loudness and true peak follow ITU-R BS.1770-5: K-weighting (annex 1, tables 1 and 2, moved to
other rates through their analogue prototypes), 400 ms blocks every 100 ms, gates at -70 LUFS
and 10 LU below the mean; true peak by fourfold oversampling (annex 2).
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import asdict, dataclass

import numpy as np
from numba import njit
from scipy.signal import firwin

from pondel.core.dsp.filters import Sections

CLIP_LEVEL = 0.9999
CLIP_RUN = 2
OVERSAMPLING = 4
TAPS_PER_PHASE = 24


@dataclass(frozen=True)
class Levels:
    """Levels of a recording; loudness is None when nothing passes the absolute gate."""

    seconds: float
    sample_peak_dbfs: float
    true_peak_dbtp: float
    rms_dbfs: float
    crest_db: float
    dc_offset: float
    clipped_runs: int
    integrated_lufs: float | None

    def as_json(self) -> dict[str, float | int | None]:
        return {k: round(v, 4) if isinstance(v, float) else v for k, v in asdict(self).items()}


def k_weighting(rate: int) -> np.ndarray:
    """The two K-weighting sections at any rate, shape (2, 6) as scipy writes them."""
    k = math.tan(math.pi * 1681.974450955533 / rate)
    quality, gain = 0.7071752369554196, 10 ** (3.999843853973347 / 20)
    bend = gain**0.4996667741545416
    a0 = 1 + k / quality + k * k
    shelf = [
        (gain + bend * k / quality + k * k) / a0,
        2 * (k * k - gain) / a0,
        (gain - bend * k / quality + k * k) / a0,
        1.0,
        2 * (k * k - 1) / a0,
        (1 - k / quality + k * k) / a0,
    ]
    k = math.tan(math.pi * 38.13547087602444 / rate)
    quality = 0.5003270373238773
    a0 = 1 + k / quality + k * k
    cut = [1.0, -2.0, 1.0, 1.0, 2 * (k * k - 1) / a0, (1 - k / quality + k * k) / a0]
    return np.array([shelf, cut])


def _interpolator() -> np.ndarray:
    """The three fractional phases of a fourfold interpolator, float32 (3, taps)."""
    taps = firwin(OVERSAMPLING * TAPS_PER_PHASE + 1, 1 / OVERSAMPLING, window=("kaiser", 6.0))
    phases = [OVERSAMPLING * taps[p::OVERSAMPLING][:TAPS_PER_PHASE] for p in (1, 2, 3)]
    return np.array([phase / phase.sum() for phase in phases], np.float32)


PHASES = _interpolator()
OVERSHOOT = float(np.abs(PHASES).sum(axis=1).max())
"""The most an interpolated value can exceed the samples it is made of."""


@njit(nogil=True, cache=True, error_model="numpy")
def _true_peak(samples, phases, overshoot, best):
    """Largest interpolated magnitude in one channel, at least `best`."""
    taps = phases.shape[1]
    tile = 64
    for start in range(0, samples.size - taps + 1, tile):
        end = min(start + tile, samples.size - taps + 1)
        loudest = np.float32(0.0)
        for i in range(start, end + taps - 1):
            loudest = max(loudest, abs(samples[i]))
        if loudest * overshoot <= best:
            continue
        for i in range(start, end):
            for p in range(phases.shape[0]):
                total = np.float32(0.0)
                for t in range(taps):
                    total += phases[p, t] * samples[i + taps - 1 - t]
                best = max(best, abs(total))
    return best


@njit(nogil=True, cache=True, error_model="numpy")
def _sums(samples, clip, state):
    """Add one channel's block to state: [peak, sum, sum of squares, run, runs]."""
    peak, total, squares, run, runs = state[0], state[1], state[2], state[3], state[4]
    for i in range(samples.size):
        x = np.float64(samples[i])
        level = abs(x)
        peak = max(peak, level)
        total += x
        squares += x * x
        if level >= clip:
            run += 1
            if run == CLIP_RUN:
                runs += 1
        else:
            run = 0
    state[0], state[1], state[2], state[3], state[4] = peak, total, squares, run, runs


@njit(nogil=True, cache=True, error_model="numpy")
def _steps(weighted, step, state, out):
    """Sums of squares over all channels per `step` frames; state: [sum, frames]. Returns count."""
    done = 0
    total, frames = state[0], state[1]
    for i in range(weighted.shape[0]):
        for c in range(weighted.shape[1]):
            total += np.float64(weighted[i, c]) * np.float64(weighted[i, c])
        frames += 1
        if frames >= step:
            out[done] = total / step
            done += 1
            total = 0.0
            frames = 0
    state[0], state[1] = total, frames
    return done


class LevelMeter:
    """Measures blocks as they pass."""

    def __init__(self, rate: int, channels: int) -> None:
        self._rate = rate
        self._channels = channels
        self._frames = 0
        self._sums = np.zeros((channels, 5))
        self._peaks = [np.float32(0.0)] * channels
        self._tail = np.zeros((TAPS_PER_PHASE, channels), np.float32)
        self._weighting = Sections(k_weighting(rate), channels)
        self._step = round(0.1 * rate)
        self._step_state = np.zeros(2)
        self._powers: list[np.ndarray] = []

    def write(self, block: np.ndarray) -> None:
        """Add float32 (frames, channels)."""
        if not block.size:
            return
        self._frames += block.shape[0]
        joined = np.concatenate([self._tail, block])
        for c in range(self._channels):
            _sums(np.ascontiguousarray(block[:, c]), CLIP_LEVEL, self._sums[c])
            channel = np.ascontiguousarray(joined[:, c])
            self._peaks[c] = _true_peak(channel, PHASES, np.float32(OVERSHOOT), self._peaks[c])
        self._tail = joined[joined.shape[0] - TAPS_PER_PHASE :].copy()
        out = np.empty(block.shape[0] // self._step + 1)
        done = _steps(self._weighting.process(block), self._step, self._step_state, out)
        self._powers.append(out[:done])

    def levels(self) -> Levels:
        """Everything measured so far."""
        tail = np.zeros((TAPS_PER_PHASE, self._channels), np.float32)
        joined = np.concatenate([self._tail, tail])
        true_peaks = [
            _true_peak(np.ascontiguousarray(joined[:, c]), PHASES, np.float32(OVERSHOOT), peak)
            for c, peak in enumerate(self._peaks)
        ]
        peak = float(self._sums[:, 0].max())
        samples = max(1, self._frames * self._channels)
        rms = math.sqrt(self._sums[:, 2].sum() / samples)
        powers = np.concatenate(self._powers) if self._powers else np.empty(0)
        return Levels(
            seconds=self._frames / self._rate,
            sample_peak_dbfs=_db(peak),
            true_peak_dbtp=_db(max(peak, float(max(true_peaks)))),
            rms_dbfs=_db(rms),
            crest_db=_db(peak) - _db(rms),
            dc_offset=float(self._sums[:, 1].sum() / samples),
            clipped_runs=int(self._sums[:, 4].sum()),
            integrated_lufs=integrated_lufs(powers),
        )


def integrated_lufs(step_powers: np.ndarray) -> float | None:
    """Gated loudness from K-weighted powers of consecutive 100 ms steps, summed over channels.

    BS.1770-5 annex 1, equations 3 to 7. None when no 400 ms block passes the absolute gate.
    """
    if step_powers.size < 4:
        return None
    sums = np.cumsum(np.concatenate([[0.0], step_powers]))
    blocks = (sums[4:] - sums[:-4]) / 4.0
    heard = blocks[_lufs(blocks) > -70.0]
    if not heard.size:
        return None
    gate = _lufs(heard.mean()) - 10.0
    return float(_lufs(heard[_lufs(heard) > gate].mean()))


def loudness_lufs(samples: np.ndarray, rate: int) -> float | None:
    """Integrated loudness of float32 (frames, channels)."""
    step = round(0.1 * rate)
    out = np.empty(samples.shape[0] // step + 1)
    weighted = Sections(k_weighting(rate), samples.shape[1]).process(samples)
    return integrated_lufs(out[: _steps(weighted, step, np.zeros(2), out)])


def _lufs(power):
    return -0.691 + 10.0 * np.log10(np.maximum(power, 1e-20))


def _db(amplitude: float) -> float:
    return 20.0 * math.log10(max(amplitude, 1e-10))


def measure(blocks: Iterable[np.ndarray], rate: int, channels: int) -> Levels:
    """Levels of a stream of float32 blocks (frames, channels)."""
    meter = LevelMeter(rate, channels)
    for block in blocks:
        meter.write(block)
    return meter.levels()
