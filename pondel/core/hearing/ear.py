"""What the ear does to a sound on its way in, and the constants of its loudness.

The outer ear's free-field gain and the middle ear's transmission are the columns of
ANSI S3.4-2007 and ISO 532-2:2017, table 1; excitation at the threshold in quiet below 500 Hz
is that of Moore, Glasberg and Baer, "A model for the prediction of thresholds, loudness, and
partial loudness", JAES 45(4), 1997, figure 3, and ANSI S3.4-2007; the exponent at low gains is
that of ANSI S3.4-2007, table 4. The signal-to-noise ratio at masked threshold is read off
figure 9 of the 1997 paper to about half a decibel. The transmission is then corrected so that
equal-loudness contours agree with ISO 226:2003 at the levels at which music is heard; the price
is a threshold in quiet up to 5 dB too high around 4 kHz.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pondel.core.hearing.scale import PLACES_HZ

# Hz, free field to eardrum in dB, middle ear in dB
_TRANSMISSION = np.array(
    [
        (20, 0.0, -39.6), (25, 0.0, -32.0), (31.5, 0.0, -25.85), (40, 0.0, -21.4),
        (50, 0.0, -18.5), (63, 0.0, -15.9), (80, 0.0, -14.1), (100, 0.0, -12.4),
        (125, 0.1, -11.0), (160, 0.3, -9.6), (200, 0.5, -8.3), (250, 0.9, -7.4),
        (315, 1.4, -6.2), (400, 1.6, -4.8), (500, 1.7, -3.8), (630, 2.5, -3.3),
        (750, 2.7, -2.9), (800, 2.6, -2.6), (1000, 2.6, -2.6), (1250, 3.2, -4.5),
        (1500, 5.2, -5.4), (1600, 6.6, -6.1), (2000, 12.0, -8.5), (2500, 16.8, -10.4),
        (3000, 15.3, -7.3), (3150, 15.2, -7.0), (4000, 14.2, -6.6), (5000, 10.7, -7.0),
        (6000, 7.1, -9.2), (6300, 6.4, -10.2), (8000, 1.8, -12.2), (9000, -0.9, -10.8),
        (10000, -1.6, -10.1), (11200, 1.9, -12.7), (12500, 4.9, -15.0), (14000, 2.0, -18.2),
        (15000, -2.0, -23.8), (16000, 2.5, -32.3), (20000, 2.5, -45.5),
    ]
)  # fmt: skip
# Hz, excitation in dB at the threshold in quiet
_QUIET = np.array(
    [
        (50, 28.18), (63, 23.90), (80, 19.20), (100, 15.68), (125, 12.67), (160, 10.09),
        (200, 8.08), (250, 6.30), (315, 5.30), (400, 4.50), (500, 3.63),
    ]
)  # fmt: skip
# Gain in dB relative to that at and above 500 Hz, exponent
_EXPONENTS = np.array(
    [(-25, 0.26692), (-20, 0.25016), (-15, 0.23679), (-10, 0.22228), (-5, 0.21055), (0, 0.2)]
)
# Hz, signal to noise in dB at the output of the auditory filter at masked threshold
_DETECTION = np.array(
    [
        (50, 12.5), (63, 9.5), (80, 7.0), (100, 4.8), (125, 3.2), (160, 1.7), (200, 0.6),
        (250, -0.4), (315, -1.2), (400, -1.8), (500, -2.2), (630, -2.6), (800, -2.85), (1000, -3.0),
    ]
)  # fmt: skip
# Hz, dB: what brings the equal-loudness contours of 40 and 60 phon, on average, onto ISO 226:2003
_CONTOURS = np.array(
    [
        (50, -3.7), (63, -3.6), (80, -3.1), (100, -2.6), (125, -2.1), (160, -1.6), (200, -1.4),
        (250, -0.9), (315, -0.7), (400, -1.3), (500, -0.6), (630, -0.4), (800, -0.1), (1000, 0.0),
        (1250, -0.8), (1600, -3.3), (2000, -3.2), (2500, -3.3), (3150, -4.1), (4000, -4.6),
        (5000, -4.1), (6300, -2.5), (8000, -1.2), (10000, -1.9),
    ]
)  # fmt: skip
OFFSET = 4.72096
"""A of the loudness equation at and above 500 Hz (ANSI S3.4-2007)."""


def transmission_db(hz: np.ndarray | float) -> np.ndarray:
    """Gain from a frontal free field to the cochlea, in dB, 0 at 1 kHz; any shape."""
    at = np.log(np.maximum(np.asarray(hz, np.float64), 1.0))
    table = np.log(_TRANSMISSION[:, 0])
    carried = np.interp(at, table, _TRANSMISSION[:, 1] + _TRANSMISSION[:, 2])
    return carried + np.interp(at, np.log(_CONTOURS[:, 0]), _CONTOURS[:, 1])


def quiet_excitation_db(hz: np.ndarray | float) -> np.ndarray:
    """Excitation in dB at the threshold in quiet; any shape."""
    at = np.log(np.asarray(hz, np.float64))
    known = np.interp(at, np.log(_QUIET[:, 0]), _QUIET[:, 1])
    # Below 50 Hz the excitation goes on rising as it does between 50 and 80 Hz.
    slope = (_QUIET[2, 1] - _QUIET[0, 1]) / np.log(80 / 50)
    return known + np.minimum(at - np.log(50.0), 0.0) * slope


@dataclass(frozen=True)
class Constants:
    """The constants of loudness at each place, float64 (places,)."""

    quiet: np.ndarray
    gain: np.ndarray
    exponent: np.ndarray
    offset: np.ndarray
    detection: np.ndarray


def _offsets(
    at_threshold: np.ndarray, exponent: np.ndarray, wanted: float, halvings: int = 64
) -> np.ndarray:
    """The A for which a sound at threshold is as loud at each place as `wanted`, by bisection.

    (gain x excitation + A)^exponent - A^exponent falls as A grows. (scipy's root finders would take a
    quarter of a second of every start to be loaded.)
    """
    low, high = np.full(exponent.size, 1e-3), np.full(exponent.size, 1e3)
    for _ in range(halvings):
        middle = 0.5 * (low + high)
        is_louder = (at_threshold + middle) ** exponent - middle**exponent > wanted
        low, high = np.where(is_louder, middle, low), np.where(is_louder, high, middle)
    return 0.5 * (low + high)


def constants(hz: np.ndarray) -> Constants:
    """Constants at some places.

    The gain times the excitation at threshold is the same everywhere (MGB 1997, section 2.4), and
    so is the loudness at threshold, from which A follows.
    """
    quiet_db = quiet_excitation_db(hz)
    gain_db = quiet_excitation_db(1000.0) - quiet_db
    quiet, gain = 10 ** (quiet_db / 10), 10 ** (gain_db / 10)
    exponent = np.interp(gain_db, _EXPONENTS[:, 0], _EXPONENTS[:, 1])
    at_threshold = gain * quiet
    wanted = (at_threshold[-1] + OFFSET) ** 0.2 - OFFSET**0.2
    offset = _offsets(at_threshold, exponent, wanted)
    detection_db = np.interp(np.log(hz), np.log(_DETECTION[:, 0]), _DETECTION[:, 1])
    return Constants(quiet, gain, exponent, offset, 10 ** (detection_db / 10))


CONSTANTS = constants(PLACES_HZ)
