"""How strongly each place along the ear's frequency scale is driven, moment by moment.

Rounded-exponential filters whose lower skirt grows shallower with level, so that lows spread
upward the more the louder they are: Moore, Glasberg and Baer, JAES 45(4), 1997, section 2.2,
equations 3 to 6 (after Glasberg and Moore 1990).
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from pondel.core.dsp.compiled import kernel
from pondel.core.dsp.scale import erb_hz
from pondel.core.hearing.ear import transmission_db
from pondel.core.hearing.scale import BANDS_HZ, PLACES_HZ
from pondel.core.hearing.spectra import ear_spectrum

REFERENCE_DBFS = -20.0
NORMAL_DB_SPL = 83.0
STANDARD_LEVEL_DB = 51.0
LOUDEST_DB = 120
INAUDIBLE_POWER = 1e-3
COVERED = 1e-5
"""A band this far below what surrounds it adds nothing anywhere."""
FADED = 1e-9
"""Where a filter passes less than this, it is taken to pass nothing."""


@dataclass(frozen=True)
class Excitation:
    """Power at each place of `PLACES_HZ` re 0 dB SPL; float32 (frames, places), one every 10 ms."""

    power: np.ndarray


def skirts(level_db: np.ndarray, centre_hz: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Slope p of a filter's lower skirt at an input level per ERB, and of its upper one.

    MGB 1997, equation 5: p_l = p(51) - 0.35 (p(51) / p(51, 1 kHz)) (X - 51).
    """
    upper = 4.0 * centre_hz / erb_hz(centre_hz)
    at_1_khz = 4.0 * 1000.0 / erb_hz(1000.0)
    lower = upper * (1.0 - 0.35 * (level_db - STANDARD_LEVEL_DB) / at_1_khz)
    return lower, upper


def _filtered(bands_hz: np.ndarray, centres_hz: np.ndarray, level_db: float) -> np.ndarray:
    """Weight of a component of each band at each centre, (bands, centres)."""
    away = (bands_hz[:, None] - centres_hz[None, :]) / centres_hz[None, :]
    lower, upper = skirts(np.asarray(level_db), centres_hz[None, :])
    steep = np.where(away < 0, lower, upper) * np.abs(away)
    return (1.0 + steep) * np.exp(-steep)


@dataclass(frozen=True)
class _Tables:
    """Transmission per band; weights of all bands in the filter around each, (bands, bands); spread at
    each whole dB, (bands x levels, places), and the range of places in which it is not nothing."""

    carried: np.ndarray
    around: np.ndarray
    spread: np.ndarray
    reach: np.ndarray
    levels: int


@lru_cache(maxsize=1)
def _tables() -> _Tables:
    carried = 10 ** (transmission_db(BANDS_HZ) / 10)
    around = _filtered(BANDS_HZ, BANDS_HZ, STANDARD_LEVEL_DB).astype(np.float32)
    around[around <= FADED] = 0.0
    levels = np.arange(LOUDEST_DB + 1, dtype=float)
    spread = np.stack([_filtered(BANDS_HZ, PLACES_HZ, level) for level in levels], axis=1)
    spread = np.ascontiguousarray(spread.reshape(-1, PLACES_HZ.size), np.float32)
    heard = spread > FADED
    reach = np.stack([heard.argmax(axis=1), PLACES_HZ.size - heard[:, ::-1].argmax(axis=1)], axis=1)
    return _Tables(carried.astype(np.float32), around, spread, reach, levels.size)


@kernel(error_model="numpy", fastmath={"contract", "nsz", "arcp", "reassoc"})
def _spread(power, around, around_db, tables, reach, levels, out):
    """Add each band's power to all places, through the filters that hold at its level.

    Bands are taken four at a time, so that the places are written a quarter as often.
    """
    bands = power.shape[1]
    rows = np.empty(4, np.int64)
    given = np.empty(4, np.float32)
    for f in range(power.shape[0]):
        held = 0
        for b in range(bands + 3):
            if b < bands:
                p = power[f, b]
                if p < max(np.float32(INAUDIBLE_POWER), np.float32(COVERED) * around[f, b]):
                    continue
                level = min(max(int(around_db[f, b] + np.float32(0.5)), 0), levels - 1)
                rows[held] = b * levels + level
                given[held] = p
                held += 1
            elif held:
                rows[held] = rows[0]
                given[held] = np.float32(0.0)
                held += 1
            if held == 4:
                first, last = reach[rows[0], 0], reach[rows[0], 1]
                for k in range(1, 4):
                    first = min(first, reach[rows[k], 0])
                    last = max(last, reach[rows[k], 1])
                row = out[f, first:last]
                g0, g1, g2, g3 = given[0], given[1], given[2], given[3]
                w0, w1 = tables[rows[0], first:last], tables[rows[1], first:last]
                w2, w3 = tables[rows[2], first:last], tables[rows[3], first:last]
                for c in range(row.size):
                    row[c] += (g0 * w0[c] + g1 * w1[c]) + (g2 * w2[c] + g3 * w3[c])
                held = 0


def excitation_of(
    band_power: np.ndarray, listening_level_db_spl: float = NORMAL_DB_SPL, gain: float = 1.0
) -> Excitation:
    """Excitation by the power in each band, mean square re full scale, float32 (frames, bands).

    -20 dBFS RMS plays at the listening level; `gain` is a factor of power on top.
    """
    tables = _tables()
    calibration = gain * 10 ** ((listening_level_db_spl - REFERENCE_DBFS) / 10)
    inside = band_power * (tables.carried * np.float32(calibration))
    out = np.zeros((inside.shape[0], PLACES_HZ.size), np.float32)
    if not (inside >= INAUDIBLE_POWER).any():
        return Excitation(out)
    near = inside @ tables.around
    near_db = (10.0 * np.log10(np.maximum(near, np.float32(1e-10)))).astype(np.float32)
    _spread(inside, near, near_db, tables.spread, tables.reach, tables.levels, out)
    return Excitation(out)


def excite(
    blocks: Iterable[np.ndarray], rate: int, listening_level_db_spl: float = NORMAL_DB_SPL
) -> Excitation:
    """Excitation of a stream of float32 blocks (frames, channels)."""
    return excitation_of(ear_spectrum(blocks, rate), listening_level_db_spl)
