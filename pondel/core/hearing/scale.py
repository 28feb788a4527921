"""The places and bands on the ear's frequency scale at which the model works."""

from __future__ import annotations

import numpy as np

from pondel.core.dsp.scale import cam_of, hz_of

LOWEST_CAM = 0.75
HIGHEST_CAM = 40.75
CAM_STEP = 0.5
BAND_STEP = 0.25


PLACES_CAM = np.arange(LOWEST_CAM, HIGHEST_CAM + 1e-9, CAM_STEP)
PLACES_HZ = hz_of(PLACES_CAM)
"""Centres of the auditory filters: half a Cam apart, 19 Hz to 18 kHz."""

BANDS_CAM = np.arange(LOWEST_CAM, HIGHEST_CAM + 1e-9, BAND_STEP)
BANDS_HZ = hz_of(BANDS_CAM)
"""Centres of the bands into which a sound's power is sorted, a quarter of a Cam wide."""


def band_edges_hz() -> np.ndarray:
    """The edges of the bands, one more than there are bands."""
    return hz_of(np.append(BANDS_CAM - BAND_STEP / 2, BANDS_CAM[-1] + BAND_STEP / 2))


def place_edges_hz() -> np.ndarray:
    """The edges halfway between the places, one more than there are places."""
    return hz_of(np.append(PLACES_CAM - CAM_STEP / 2, PLACES_CAM[-1] + CAM_STEP / 2))


def places_between(low_hz: float, high_hz: float) -> np.ndarray:
    """Which places lie in a range of frequencies, at least the nearest one; bool (places,)."""
    inside = (low_hz <= PLACES_HZ) & (high_hz >= PLACES_HZ)
    if not inside.any():
        middle = 0.5 * (cam_of(low_hz) + cam_of(high_hz))
        inside[int(np.argmin(np.abs(PLACES_CAM - middle)))] = True
    return inside
