"""How much the bands of a sound rise: notes struck anew while others ring, and what is no hit at all.

    found = band_rises(rows_db, 0.010)
    found.anew                     # [(1.51, 12.4), ...]: seconds, and how sure
    found.near_db(0.44)            # how much rises around a moment

Spectral flux on the ear's bands, each against the largest of its neighbours a moment ago, so that a
vibrato or a slide is no new note (after Boeck and Widmer, "Maximum filter vibrato suppression for onset
detection", DAFx 2013). A rise of the whole level in which no band rises is a beat between two tones.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pondel.core.dsp.compiled import kernel

GATE_DB, FAINT_GATE_DB = 26.0, 50.0
"""What lies so far under the part's usual peak is no note; nor does it confirm a hit."""
AGO_S = 0.020
PEAK_WITHIN_S, USUAL_WITHIN_S = 0.070, 0.410
OVER_USUAL = 1.5
FLUX_A_DB = 7.5
"""Decibels in all bands together that count as much as one of a rise of the whole level."""
LEAST_RISE_DB = 3.0
AT_ONCE = 4096


@dataclass(frozen=True)
class BandRises:
    """`anew`: when notes are struck, and by how much as a rise of the whole level would count.

    `risen_db`: how much rises within 30 ms of each frame, (frames,).
    """

    anew: list[tuple[float, float]]
    risen_db: np.ndarray
    frame_s: float

    def near_db(self, at_s: float) -> float:
        """How much rises around a moment."""
        if not self.risen_db.size:
            return 0.0
        return float(self.risen_db[min(round(at_s / self.frame_s), self.risen_db.size - 1)])


def band_rises(rows_db: np.ndarray, frame_s: float) -> BandRises:
    """From power in narrow bands in dB, (frames, bands), any float."""
    from scipy.ndimage import maximum_filter1d, uniform_filter1d

    if not rows_db.shape[0]:
        return BandRises([], np.zeros(0, np.float32), frame_s)
    within = round(PEAK_WITHIN_S / frame_s)
    loudest = rows_db.max(axis=1).astype(np.float32)
    usual_db = float(np.quantile(loudest[loudest > loudest.max() - 60.0], 0.9))
    rise_db = _flux(rows_db, usual_db - GATE_DB, round(AGO_S / frame_s)) / FLUX_A_DB
    usual = uniform_filter1d(rise_db, round(USUAL_WITHIN_S / frame_s))
    found = rise_db > OVER_USUAL * usual + LEAST_RISE_DB
    found &= rise_db >= maximum_filter1d(rise_db, within)
    # A rise is greatest when it is over: it began half of the way back.
    at_s = np.maximum(_summits(rise_db, np.flatnonzero(found)) * frame_s - AGO_S / 2.0, 0.0)
    anew = list(zip(at_s.tolist(), rise_db[found].tolist(), strict=True))
    faint = _flux(rows_db, usual_db - FAINT_GATE_DB, round(AGO_S / frame_s)) / FLUX_A_DB
    return BandRises(anew, maximum_filter1d(faint, within), frame_s)


def _summits(values: np.ndarray, at: np.ndarray) -> np.ndarray:
    """Where the parabola through each of these values and its neighbours is highest, in frames."""
    if values.size < 3:
        return at.astype(np.float64)
    middle = np.clip(at, 1, values.size - 2)
    before, here, after = (values[middle + n].astype(np.float64) for n in (-1, 0, 1))
    bend = np.minimum(before - 2.0 * here + after, -1e-9)
    return at + np.clip(0.5 * (before - after) / bend, -0.5, 0.5)


def _flux(rows_db: np.ndarray, floor_db: float, ago: int) -> np.ndarray:
    """How far all bands together have risen since some frames ago, in dB, (frames,)."""
    flux = np.zeros(rows_db.shape[0], np.float32)
    for first in range(0, flux.size, AT_ONCE):
        last = min(first + AT_ONCE, flux.size)
        begin = max(0, first - ago)
        level = rows_db[begin:last].astype(np.float32)
        _risen(level, np.float32(floor_db), ago, first - begin, flux[first:last])
    return flux


@kernel(error_model="numpy", fastmath={"contract", "nsz", "reassoc"})
def _risen(level, floor, ago, begin, out):
    """One frame after another from `begin` on; what sounds in the first frames began with them."""
    bands = level.shape[1]
    before = np.empty(bands, np.float32)
    for f in range(out.size):
        at = begin + f
        for b in range(bands):
            before[b] = max(level[at - ago, b], floor) if at >= ago else floor
        total = np.float32(0.0)
        for b in range(1, bands - 1):
            was = max(before[b - 1], before[b], before[b + 1])
            total += max(level[at, b] - was, np.float32(0.0))
        first, last = max(before[0], before[1]), max(before[bands - 2], before[bands - 1])
        total += max(level[at, 0] - first, np.float32(0.0))
        total += max(level[at, bands - 1] - last, np.float32(0.0))
        out[f] = total
