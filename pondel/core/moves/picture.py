"""The picture of a move: its gain over frequency as a product of factors, and the handles on it.

    picture.gain(at_full, hz.size)      # complex, from the same coefficients as the sound

A factor stands for one thing in series: |S + sum over n of (g_n ^ share - 1) W_n|, where S is what
stands still, W_n the complex weight of a moving band, and g_n that band's gain now. Bands of one
factor lie side by side, as those of a crossover do; factors follow each other and multiply.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Protocol

import numpy as np

from pondel.core.dsp.matched import response
from pondel.core.dsp.moving import Moving, moving_filters


@dataclass(frozen=True)
class Handle:
    """A point or line on the response that can be moved; fields are paths into the move."""

    name: str
    hz: float
    hz_field: str
    db: float | None = None
    db_field: str | None = None
    q: float | None = None
    q_field: str | None = None
    band: int | None = None
    low_hz: float | None = None
    high_hz: float | None = None
    mark: str = ""


@dataclass(frozen=True)
class MovingGain:
    """A band that moves: `trace` is the suffix of its trace, `full_db` how far it moves at most.

    Its gain is that of the trace to the power of `share`, for a gain that is divided between factors.
    """

    trace: str
    weight: np.ndarray
    full_db: float
    share: float = 1.0


@dataclass(frozen=True)
class Factor:
    """One thing in series; complex `still` of one value a frequency, None for 1."""

    still: np.ndarray | None = None
    moving: list[MovingGain] = field(default_factory=list)


@dataclass(frozen=True)
class Picture:
    """All factors of a move; `wet` of the sound passes them, the rest goes by.

    `of` says of what the gain is, where it is not that of the whole part: "the sides".
    """

    factors: list[Factor] = field(default_factory=list)
    handles: list[Handle] = field(default_factory=list)
    wet: float = 1.0
    of: str = ""

    def gain(self, gain_db: Callable[[MovingGain], float], points: int) -> np.ndarray:
        """Complex gain at each frequency, with the moving bands at the gains asked for, in dB."""
        total = np.ones(points, complex)
        for factor in self.factors:
            now = np.ones(points, complex) if factor.still is None else factor.still.astype(complex)
            for band in factor.moving:
                now = now + (10.0 ** (band.share * gain_db(band) / 20.0) - 1.0) * band.weight
            total = total * now
        return (1.0 - self.wet) + self.wet * total


def at_rest(band: MovingGain) -> float:
    """The gain of a band that does not move."""
    return 0.0


def at_full(band: MovingGain) -> float:
    """The gain of a band that moves as far as it can."""
    return band.full_db


def angles(hz: np.ndarray, rate: int) -> np.ndarray:
    """Frequencies in radians a frame, below half the rate."""
    return 2.0 * np.pi * np.minimum(hz, 0.49 * rate) / rate


def whole(points: int, full_db: float, *, dry: float = 0.0, wet: float = 1.0) -> Factor:
    """One gain for all frequencies: `dry` passes, `wet` is moved by the trace."""
    flat = np.ones(points, complex)
    return Factor(flat * (dry + wet), [MovingGain("", flat * wet, full_db)])


class Banded(Protocol):
    """A band with a place and a sharpness."""

    @property
    def shape(self) -> str: ...
    @property
    def hz(self) -> float: ...
    @property
    def q(self) -> float: ...


def band_handle(
    n: int,
    band: Banded,
    *,
    db: float | None = None,
    db_field: str | None = None,
    bent: bool = True,
    of: str = "",
    mark: str = "",
) -> Handle:
    """The handle of the n-th of a move's `bands`; its band reaches to where a bell is half as deep."""
    half = np.arcsinh(0.5 / max(band.q, 0.05)) / np.log(2)
    return Handle(
        f"{band.shape} {n + 1}{of}",
        band.hz,
        f"bands.{n}.hz",
        db,
        None if db_field is None else f"bands.{n}.{db_field}",
        band.q if bent else None,
        f"bands.{n}.q" if bent else None,
        n,
        max(20.0, band.hz * 2**-half),
        min(20000.0, band.hz * 2**half),
        mark,
    )


def moving_factors(trace: str, band: Moving, hz: np.ndarray, rate: int) -> list[Factor]:
    """A moving bell or shelf: one factor for each filter between which its gain is divided."""
    filters = moving_filters(band, rate)
    w = angles(hz, rate)
    share = 1.0 / len(filters)
    return [
        Factor(None, [MovingGain(trace, response(sos, w), band.range_db, share)]) for sos in filters
    ]
