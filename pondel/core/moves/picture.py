"""The picture of a move: its gain over frequency as a product of factors, and the handles on it.

    picture.gain(at_full, hz.size)      # complex, from the same coefficients as the sound

A factor stands for one thing in series: |S + sum over n of c_n W_n|, where S is what stands still,
W_n the complex weight of something that moves, and c_n its multiple now: g_n - 1 of its gain, or
what a curve says of it. What moves in one factor lies side by side, as the bands of a crossover do;
factors follow each other and multiply.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Protocol

import numpy as np

from pondel.core.dsp.matched import response
from pondel.core.dsp.moving import Moving, member_curves, moving_filters, still_q


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

    At rest it is at `rest_db`, which is in what stands still. `curve` are its multiples at evenly
    spaced gains from 0 to `full_db`, where they are not the gain less that at rest.
    """

    trace: str
    weight: np.ndarray
    full_db: float
    rest_db: float = 0.0
    curve: tuple[float, ...] = ()

    def multiple(self, gain_db: float) -> float:
        """How much of its weight is added at a gain."""
        if not self.curve:
            return 10.0 ** (gain_db / 20.0) - 10.0 ** (self.rest_db / 20.0)
        reached = gain_db / self.full_db if self.full_db else 0.0
        return float(np.interp(reached, np.linspace(0.0, 1.0, len(self.curve)), self.curve))


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
    asked_db: list[float] = field(default_factory=list)
    """What was asked for, at each frequency, where that may differ from what is done."""

    def traces(self) -> set[str]:
        """The suffixes of all traces it moves with."""
        return {band.trace for factor in self.factors for band in factor.moving}

    def gain(self, gain_db: Callable[[MovingGain], float], points: int) -> np.ndarray:
        """Complex gain at each frequency, with the moving bands at the gains asked for, in dB."""
        total = np.ones(points, complex)
        for factor in self.factors:
            now = np.ones(points, complex) if factor.still is None else factor.still.astype(complex)
            for band in factor.moving:
                now = now + band.multiple(gain_db(band)) * band.weight
            total = total * now
        return (1.0 - self.wet) + self.wet * total


def at_rest(band: MovingGain) -> float:
    """The gain of a band that does not move."""
    return band.rest_db


def at_full(band: MovingGain) -> float:
    """The gain of a band that moves as far as it can."""
    return band.full_db


def angles(hz: np.ndarray, rate: int) -> np.ndarray:
    """Frequencies in radians a frame, below half the rate."""
    return 2.0 * np.pi * np.minimum(hz, 0.49 * rate) / rate


def whole(points: int, full_db: float, rest_db: float = 0.0) -> Factor:
    """One gain for all frequencies, which is moved by the trace."""
    flat = np.ones(points, complex)
    return Factor(flat * 10.0 ** (rest_db / 20.0), [MovingGain("", flat, full_db, rest_db)])


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


def moving_factor(trace: str, band: Moving, hz: np.ndarray, rate: int) -> Factor:
    """A moving bell or shelf."""
    w = angles(hz, rate)
    curves = member_curves(band.shape, band.range_db, still_q(band.shape, band.q))
    filters = moving_filters(band, rate)
    moving = [
        MovingGain(trace, response(sos, w) - 1.0, band.range_db, curve=tuple(curve))
        for sos, curve in zip(filters, curves.tolist(), strict=True)
    ]
    return Factor(None, moving)
