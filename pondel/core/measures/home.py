"""Where a part lives: the edges of its energy, its strongest bands, its pitch."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict, dataclass
from functools import lru_cache

import numpy as np
from scipy import fft

from pondel.core.measures.spectrum import POINTS_PER_OCTAVE, axis_hz

KEPT_SHARE = 0.9
STRONGEST = 3
BAND_POINTS = POINTS_PER_OCTAVE // 3
FADED_DB = -25.0
PITCH_FROM_S = 0.06
PITCH_FOR_S = 0.25
PITCH_LOW_HZ = 25.0
PITCH_HIGH_HZ = 1000.0


@dataclass(frozen=True)
class Home:
    """Where a part's energy lies.

    Between `low_hz` and `high_hz` lie nine tenths of it, a twentieth on either side; below
    `crossover_hz` lie nine tenths. `strongest_hz` are the centres of its strongest third-octaves.
    """

    low_hz: float
    high_hz: float
    crossover_hz: float
    strongest_hz: tuple[float, ...]

    def as_json(self) -> dict:
        return asdict(self)


def home_of(levels_db: np.ndarray) -> Home | None:
    """From an average spectrum at `axis_hz`, in dBFS; None when the part is silent."""
    hz = axis_hz()
    power = 10.0 ** (np.asarray(levels_db) / 10.0)
    if power.max() <= 1e-13:
        return None
    # The points' bands overlap evenly, so that their sum is the energy up to a factor.
    risen = np.cumsum(power) / power.sum()

    def edge(share: float) -> float:
        # What has risen at a point is what lies below the upper edge of its twenty-fourth octave.
        edges = hz * 2.0 ** (0.5 / POINTS_PER_OCTAVE)
        return float(np.exp(np.interp(share, risen, np.log(edges))))

    tail = (1.0 - KEPT_SHARE) / 2.0
    return Home(edge(tail), edge(1.0 - tail), edge(KEPT_SHARE), _strongest(hz, levels_db))


def _strongest(hz: np.ndarray, levels_db: np.ndarray) -> tuple[float, ...]:
    left = np.array(levels_db, np.float64)
    least = left.max() + FADED_DB
    found: list[float] = []
    while len(found) < STRONGEST and left.max() > least:
        at = int(np.argmax(left))
        if _is_peak(np.asarray(levels_db), at):
            found.append(float(hz[at]))
        left[max(0, at - BAND_POINTS) : at + BAND_POINTS + 1] = -np.inf
    return tuple(found)


def _is_peak(levels_db: np.ndarray, at: int) -> bool:
    return bool(levels_db[at] >= levels_db[max(0, at - 1) : at + 2].max())


def _autocorrelation(x: np.ndarray) -> np.ndarray:
    """At every lag that float (frames,) has, without wrapping around."""
    size = fft.next_fast_len(2 * x.size, real=True)
    bins = fft.rfft(x, size)
    return fft.irfft(bins.real**2 + bins.imag**2, size)[: x.size]


@lru_cache(maxsize=8)
def _tapered(frames: int) -> tuple[np.ndarray, np.ndarray]:
    """A window and its own autocorrelation, which a stretch's is divided by."""
    window = np.hanning(frames)
    taper = _autocorrelation(window)
    return window, np.maximum(taper / taper[0], 1e-3)


def pitch_hz(samples: np.ndarray, rate: int) -> float | None:
    """Pitch of a short stretch, float (frames,); None when it has none between 25 Hz and 1 kHz.

    The highest peak of the autocorrelation, normalised by its own taper (Boersma 1993), and
    refined by a parabola through its neighbours.
    """
    if samples.size < 3 * rate / PITCH_HIGH_HZ:
        return None
    given = np.asarray(samples, np.float64) - np.mean(samples)
    if np.abs(given).max() < 1e-5:
        return None
    window, taper = _tapered(given.size)
    raw = _autocorrelation(given * window)
    lags = np.arange(given.size)
    plain = raw / raw[0] / taper
    # Nothing counts before the correlation has fallen from its peak at no lag at all.
    fallen = int(np.argmax(plain < 0.5))
    usable = (lags >= max(rate / PITCH_HIGH_HZ, fallen)) & (
        lags <= min(rate / PITCH_LOW_HZ, 0.6 * given.size)
    )
    normal = np.where(usable & (fallen > 0), plain, -1.0)
    best = float(normal.max())
    if best < 0.6:
        return None
    # The first lag that is nearly as good as the best one is the period, not a multiple of it.
    peaks = np.flatnonzero((normal[1:-1] >= normal[:-2]) & (normal[1:-1] >= normal[2:])) + 1
    strong = peaks[normal[peaks] >= 0.93 * best]
    if not strong.size:
        return None
    lag = int(strong[0])
    left, middle, right = normal[lag - 1], normal[lag], normal[lag + 1]
    bend = left - 2.0 * middle + right
    shift = 0.5 * (left - right) / bend if bend < 0 else 0.0
    return rate / (lag + shift)


def usual_pitch_hz(
    read: Callable[[int, int], np.ndarray], frames: int, rate: int, hits_s: np.ndarray
) -> float | None:
    """The median pitch after the hits of a recording; None when fewer than half have one.

    `read` gives float (frames, channels) from a frame on, so many of the `frames` there are.
    """
    inside = ((first, min(most, frames - first)) for first, most in pitched_stretches(rate, hits_s))
    pitches = [pitch_hz(read(first, max(left, 0)).mean(axis=1), rate) for first, left in inside]
    known = [pitch for pitch in pitches if pitch is not None]
    return float(np.median(known)) if known and len(known) * 2 >= len(pitches) else None


def pitched_stretches(rate: int, hits_s: np.ndarray, most_hits: int = 40) -> list[tuple[int, int]]:
    """Where the pitch after the hits is looked for, from 60 ms on: first frame and number of frames."""
    chosen = hits_s[:: max(1, -(-len(hits_s) // most_hits))]
    frames = round(PITCH_FOR_S * rate)
    return [(round((hit + PITCH_FROM_S) * rate), frames) for hit in chosen]
