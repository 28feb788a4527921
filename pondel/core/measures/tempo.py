"""Tempo from the hits of all parts."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import numpy as np

SLOWEST_BPM = 50.0
FASTEST_BPM = 200.0
PREFERRED_BPM = 110.0
STEP_S = 0.005
SPREAD_S = 0.012
MOST_AHEAD = 800
BESIDE = (("half", 1 / 2), ("two thirds", 2 / 3), ("three halves", 3 / 2), ("double", 2.0))


def estimate_bpm(hits: Iterable[np.ndarray]) -> float | None:
    """The tempo at which the parts' hits, in seconds, fit a grid of beats best.

    The autocorrelation of all hits, each smeared by 12 ms, is summed at multiples of a beat; the
    sum is weighted by how usual the tempo is (log-normal around 110 bpm, after Parncutt 1994),
    and the best candidate is refined by a regression of hit distances on whole half-beats. None
    with fewer than eight hits.
    """
    parts = [np.asarray(h, np.float64) for h in hits if len(h) >= 4]
    if sum(h.size for h in parts) < 8:
        return None
    end = max(float(h.max()) for h in parts) + 1.0
    pulse = np.zeros(int(end / STEP_S) + 1)
    for h in parts:
        pulse[np.round(h / STEP_S).astype(int)] += 1.0 / np.sqrt(h.size)
    smear = np.exp(-0.5 * (np.arange(-8, 9) * STEP_S / SPREAD_S) ** 2)
    pulse = np.convolve(pulse, smear, "same")
    size = 1 << int(np.ceil(np.log2(2 * pulse.size)))
    correlation = np.fft.irfft(np.abs(np.fft.rfft(pulse, size)) ** 2)[: pulse.size]
    bpm = np.exp(np.arange(np.log(SLOWEST_BPM), np.log(FASTEST_BPM), 0.002))
    beat = 60.0 / bpm
    lags = np.arange(correlation.size) * STEP_S
    score = sum(np.interp(beat * n, lags, correlation, right=0.0) for n in (1, 2, 4, 8))
    score = score + 0.5 * np.interp(beat / 2, lags, correlation)
    usual = np.exp(-0.5 * (np.log2(bpm / PREFERRED_BPM) / 0.8) ** 2)
    return _refined(parts, float(beat[int(np.argmax(score * usual))]))


def beside_bpm(bpm: float) -> list[tuple[str, float]]:
    """What a tempo may be in truth where the estimate is off: names and tempi, within reason."""
    return [
        (name, round(bpm * factor, 2))
        for name, factor in BESIDE
        if 0.75 * SLOWEST_BPM <= bpm * factor <= 1.25 * FASTEST_BPM
    ]


def _refined(parts: list[np.ndarray], beat_s: float) -> float:
    """The beat that fits the distances between hits, over longer and longer distances."""
    for most_beats in (4, 16, 64):
        tops, counts = 0.0, 0.0
        for h in parts:
            for far in _distances(np.sort(h), 0.4 * beat_s, most_beats * beat_s):
                halves = np.round(2 * far / beat_s)
                good = np.abs(2 * far / beat_s - halves) < 0.15
                tops += float((far * halves)[good].sum())
                counts += float((halves**2)[good].sum())
        if counts:
            beat_s = 2.0 * tops / counts
    return 60.0 / beat_s


def _distances(hits_s: np.ndarray, least_s: float, most_s: float) -> Iterator[np.ndarray]:
    """Distances between least and most from each hit to the next, the one after it, and so on.

    Only so many hits ahead, so that the work grows with the number of hits, not its square.
    """
    for ahead in range(1, min(hits_s.size, MOST_AHEAD + 1)):
        away = hits_s[ahead:] - hits_s[:-ahead]
        if float(away.min()) >= most_s:
            return
        yield away[(away > least_s) & (away < most_s)]
