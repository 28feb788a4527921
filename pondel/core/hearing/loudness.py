"""Loudness at each place: alone, and in the presence of other sounds.

Specific loudness and specific partial loudness after Moore, Glasberg and Baer, "A model for the
prediction of thresholds, loudness, and partial loudness", JAES 45(4), 1997, equations 7, 9 and
17 to 20; smoothing over time after Glasberg and Moore, JAES 50(5), 2002, section 2.6. A sound
reaches both ears alike.
"""

from __future__ import annotations

import math
from functools import lru_cache

import numpy as np

from pondel.core.dsp.compiled import kernel
from pondel.core.dsp.decibels import amplitude_to_db, db_to_amplitude
from pondel.core.hearing.ear import CONSTANTS
from pondel.core.hearing.scale import CAM_STEP
from pondel.core.hearing.spectra import FRAME_S

SCALE = 0.0917
"""C of the model for both ears, so that 1 kHz at 40 dB SPL in a frontal free field is 1 sone."""
AUDIBLE_SONE = 0.05
"""A part counts as sounding in the frames in which it is at least this loud."""
ATTACK_S = 0.0217
RELEASE_S = 0.0495
TILE = 8
LEAST = np.float32(1e-20)

_TABLE = np.stack(
    [
        CONSTANTS.quiet,
        CONSTANTS.gain,
        CONSTANTS.exponent,
        CONSTANTS.offset,
        CONSTANTS.detection,
    ]
).astype(np.float32)
_QUIET, _GAIN, _EXPONENT, _OFFSET, _DETECTION = range(5)


@kernel(error_model="numpy", fastmath={"contract", "nsz", "arcp"})
def _raise(values, exponents, scratch):
    """values (frames, places) to the power of each place's exponent, in place."""
    flat = values.ravel()
    amplitude_to_db(flat, scratch)
    places = exponents.size
    for first in range(0, flat.size, places):
        for b in range(places):
            scratch[first + b] *= exponents[b]
    db_to_amplitude(scratch, flat)


@kernel(error_model="numpy", fastmath={"contract", "nsz", "arcp"})
def _mask(noise, table, scratch, masked, others, masking_db):
    """What noise does to any sound beside it, of a few frames; float32 (frames, places).

    `masked` and `others` are the powers of equation 17 at the masked threshold and of the noise by
    itself, `masking_db` the masked threshold.
    """
    frames, places = noise.shape
    masking = scratch[: frames * places]
    for f in range(frames):
        for b in range(places):
            e = max(noise[f, b], np.float32(0.0))
            threshold = e * table[_DETECTION, b] + table[_QUIET, b]
            gain, offset = table[_GAIN, b], table[_OFFSET, b]
            masked[f, b] = (e + threshold) * gain + offset
            others[f, b] = e * gain + offset
            masking[f * places + b] = threshold
    amplitude_to_db(masking, masking_db.ravel())
    _raise(masked, table[_EXPONENT], masking)
    _raise(others, table[_EXPONENT], masking)


@kernel(error_model="numpy", fastmath={"contract", "nsz", "arcp"})
def _in_db(signal, scratch, signal_db):
    """Of a few frames, before they are set against what masks them."""
    flat, size = signal.ravel(), signal.size
    for i in range(size):
        scratch[i] = max(flat[i], LEAST)
    amplitude_to_db(scratch[:size], signal_db.ravel())


@kernel(error_model="numpy", fastmath={"contract", "nsz", "arcp"})
def _beside(
    signal, signal_db, noise, masked, others, masking_db, table, edges, scale, work, out, clear_db
):
    """Specific partial loudness of a few frames; float32 (frames, places).

    clear_db: how far each stands above what the noise masks, or of no size.
    """
    frames, places = signal.shape
    both, fade = work[0, :frames], work[1, :frames]
    scratch = work[2].ravel()[: frames * places]
    one, two = np.float32(1.0), np.float32(2.0)
    for f in range(frames):
        for b in range(places):
            e = max(noise[f, b], np.float32(0.0))
            both[f, b] = (max(signal[f, b], LEAST) + e) * table[_GAIN, b] + table[_OFFSET, b]
            scratch[f * places + b] = np.float32(0.3) * (masking_db[f, b] - signal_db[f, b])
    db_to_amplitude(scratch, fade.ravel())
    if clear_db.size:
        for f in range(frames):
            for b in range(places):
                clear_db[f, b] = np.float32(0.5) * (signal_db[f, b] - masking_db[f, b])
    _raise(both, table[_EXPONENT], scratch)
    at_offset, at_quiet = edges[0], edges[1]
    for f in range(frames):
        for b in range(places):
            threshold = max(noise[f, b], np.float32(0.0)) * table[_DETECTION, b] + table[_QUIET, b]
            ratio = threshold / max(signal[f, b], LEAST)
            above = both[f, b] - at_offset[b] - (masked[f, b] - at_quiet[b]) * fade[f, b]
            x = two / (one + ratio)
            at_threshold = (at_quiet[b] - at_offset[b]) / (masked[f, b] - others[f, b])
            below = x * np.sqrt(x) * at_threshold * (both[f, b] - others[f, b])
            heard = above if ratio < one else below
            out[f, b] = max(heard, np.float32(0.0)) * scale


@kernel(error_model="numpy")
def _partial(signal, noise, table, edges, scale, out, clear_db):
    places = signal.shape[1]
    work, mask = np.empty((3, TILE, places), np.float32), np.empty((4, TILE, places), np.float32)
    scratch = work[2].ravel()
    for first in range(0, signal.shape[0], TILE):
        last = min(first + TILE, signal.shape[0])
        given, by = signal[first:last], noise[first:last]
        masked, others = mask[0, : last - first], mask[1, : last - first]
        masking_db, given_db = mask[2, : last - first], mask[3, : last - first]
        _mask(by, table, scratch, masked, others, masking_db)
        _in_db(given, scratch, given_db)
        rows, clear = out[first:last], clear_db[first:last]
        _beside(given, given_db, by, masked, others, masking_db, table, edges, scale, work, rows, clear)


@kernel(error_model="numpy", fastmath={"contract", "nsz", "arcp"})
def _clear_above(power, noise, table, out):
    frames, places = power.shape
    ratio = np.empty(places, np.float32)
    for f in range(frames):
        for b in range(places):
            masking = max(noise[f, b], np.float32(0.0)) * table[_DETECTION, b] + table[_QUIET, b]
            ratio[b] = max(power[f, b], LEAST) / masking
        amplitude_to_db(ratio, out[f])
        for b in range(places):
            out[f, b] *= np.float32(0.5)


@lru_cache(maxsize=1)
def _edges() -> np.ndarray:
    """A^alpha and (G E_quiet + A)^alpha, through the same arithmetic as everything else."""
    rows = np.stack([_TABLE[_OFFSET], _TABLE[_QUIET] * _TABLE[_GAIN] + _TABLE[_OFFSET]])
    _raise(rows, _TABLE[_EXPONENT], np.empty(rows.size, np.float32))
    return rows


NO_CLEAR_DB = np.empty((0, _TABLE.shape[1]), np.float32)


def partial_loudness(
    power: np.ndarray, others: np.ndarray | None = None, clear_db: np.ndarray = NO_CLEAR_DB
) -> np.ndarray:
    """Loudness per Cam, in sones, of an excitation heard among others; float32 (frames, places).

    MGB 1997, equations 18 and 19: above the masked threshold and below it. Without `others` they
    turn into equations 7 and 9, the loudness in quiet. Both are powers re 0 dB SPL. `clear_db`, float32
    (frames, places), is filled with how far the signal stands above its masked threshold.
    """
    signal = np.ascontiguousarray(power, np.float32)
    noise = np.zeros_like(signal) if others is None else np.ascontiguousarray(others, np.float32)
    out = np.empty_like(signal)
    _partial(signal, noise, _TABLE, _edges(), np.float32(SCALE), out, clear_db)
    return out


def clear_above_db(power: np.ndarray, others: np.ndarray) -> np.ndarray:
    """How far an excitation stands above its masked threshold; float32 (frames, places)."""
    out = np.empty_like(power)
    _clear_above(power, others, _TABLE, out)
    return out


def total_sone(specific: np.ndarray) -> np.ndarray:
    """Loudness of each frame, in sones: the sum of specific loudness over the places."""
    return specific.sum(axis=-1) * CAM_STEP


@kernel()
def _smooth(loudness, attack, release):
    out = np.empty_like(loudness)
    now = 0.0
    for i in range(loudness.size):
        share = attack if loudness[i] > now else release
        now += share * (loudness[i] - now)
        out[i] = now
    return out


def short_term(loudness: np.ndarray) -> np.ndarray:
    """Short-term loudness of instantaneous loudness, (frames,), a frame every 10 ms.

    GM 2002, equation 14: quick to rise (22 ms), slower to fall (50 ms).
    """
    attack, release = (1.0 - math.exp(-FRAME_S / t) for t in (ATTACK_S, RELEASE_S))
    return _smooth(loudness.astype(np.float64), attack, release)


def sounding(specific: np.ndarray) -> np.ndarray:
    """In which frames a part sounds, by its short-term loudness alone; bool (frames,)."""
    return short_term(total_sone(specific)) > AUDIBLE_SONE
