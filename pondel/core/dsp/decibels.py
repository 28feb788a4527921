"""Decibels in passes that the compiler can vectorise.

The logarithm and exponential are polynomials over the mantissa (least-squares fits at
Chebyshev nodes, made at import), so that a loop over an array has no call in it.
Over the audio range both stay within 0.0002 dB of the exact function.
"""

from __future__ import annotations

import numpy as np

from pondel.core.dsp.compiled import kernel

DB_PER_OCTAVE = float(20.0 * np.log10(2.0))
FLOOR = 1e-10


def _fit(function, degree: int) -> np.ndarray:
    nodes = 0.5 + 0.5 * np.cos(np.pi * (np.arange(64) + 0.5) / 64)
    return np.polynomial.polynomial.polyfit(nodes, function(nodes), degree).astype(np.float32)


_LOG2 = _fit(lambda x: np.log2(1.0 + x), 7)
_EXP2 = _fit(np.exp2, 5)
_L0, _L1, _L2, _L3, _L4, _L5, _L6, _L7 = (np.float32(c) for c in _LOG2)
_E0, _E1, _E2, _E3, _E4, _E5 = (np.float32(c) for c in _EXP2)
_TO_DB = np.float32(DB_PER_OCTAVE)
_TO_OCTAVE = np.float32(1.0 / DB_PER_OCTAVE)


@kernel(fastmath={"contract", "reassoc", "nsz", "arcp"}, error_model="numpy")
def amplitude_to_db(amplitude: np.ndarray, out: np.ndarray) -> None:
    """Write 20 log10 of positive float32 amplitudes (at least 1e-30) into `out`."""
    bits = amplitude.view(np.int32)
    for i in range(bits.size):
        out[i] = np.float32((bits[i] >> 23) - 127)
    mantissa = (bits & np.int32(0x7FFFFF)) | np.int32(0x3F800000)
    fraction = mantissa.view(np.float32)
    for i in range(bits.size):
        x = fraction[i] - np.float32(1.0)
        p = _L7
        p = p * x + _L6
        p = p * x + _L5
        p = p * x + _L4
        p = p * x + _L3
        p = p * x + _L2
        p = p * x + _L1
        p = p * x + _L0
        out[i] = (out[i] + p) * _TO_DB


@kernel(fastmath={"contract", "reassoc", "nsz", "arcp"}, error_model="numpy")
def db_to_amplitude(level_db: np.ndarray, out: np.ndarray) -> None:
    """Write 10^(dB/20) of float32 levels between -700 and 700 dB into `out`."""
    whole = np.empty(level_db.size, np.int32)
    for i in range(level_db.size):
        octaves = level_db[i] * _TO_OCTAVE
        # Adding and taking away a bias truncates towards minus infinity for any sign.
        n = np.int32(octaves + np.float32(256.0)) - np.int32(256)
        x = octaves - np.float32(n)
        p = _E5
        p = p * x + _E4
        p = p * x + _E3
        p = p * x + _E2
        p = p * x + _E1
        out[i] = p * x + _E0
        whole[i] = (n + np.int32(127)) << np.int32(23)
    scale = whole.view(np.float32)
    for i in range(level_db.size):
        out[i] = out[i] * scale[i]


def to_db(amplitude: np.ndarray | float) -> np.ndarray:
    """20 log10 of an amplitude, floored at -200 dB so that silence has a number."""
    return 20.0 * np.log10(np.maximum(np.abs(amplitude), FLOOR))


def to_amplitude(level_db: np.ndarray | float) -> np.ndarray:
    """10^(dB/20)."""
    return np.power(10.0, np.asarray(level_db, dtype=np.float64) / 20.0)
