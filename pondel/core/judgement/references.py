"""The tone of a mix beside that of reference tracks, at matched loudness, by third octave.

found = beside(mix, [harbour, market], parts)
found.difference_db           # mix less the references' mean, at THIRDS_HZ
found.runs[0].words()         # "150 to 400 Hz: 2.1 dB less than the references, ..."
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from pondel.core.dsp.welch import Welch
from pondel.core.judgement.tone import THIRDS_HZ, level_between_db, thirds_db
from pondel.core.measures.levels import LevelMeter
from pondel.core.measures.spectrum import levels_db
from pondel.core.measures.stereo import StereoMeter

HEARD_DB = 60.0
"""What lies further under the loudest third octave of the references is no part of their tone."""
APART_DB, APART_FROM_ONE_DB = 1.0, 2.0
"""How far outside all references, or away from a single one, a third octave is told."""
LOW_END_HZ = (20.0, 120.0)
LEAST_SHARE, LEAST_CUT = 0.25, 0.1
"""Of what the parts have there, what one must have to be named; and what a move must have taken."""
NAMES_HZ = (
    *(25.0, 31.5, 40.0, 50.0, 63.0, 80.0, 100.0, 125.0, 160.0, 200.0, 250.0, 315.0, 400.0, 500.0),
    *(630.0, 800.0, 1000.0, 1250.0, 1600.0, 2000.0, 2500.0, 3150.0, 4000.0, 5000.0, 6300.0),
    *(8000.0, 10000.0, 12500.0, 16000.0),
)
"""What the middles at `THIRDS_HZ` are called (IEC 61260-1, nominal frequencies)."""


@dataclass(frozen=True)
class Whole:
    """A piece of music as a whole: its spectrum in dBFS at `axis_hz`, how loud, and how wide.

    `side_db` is the power of the sides against the middle; None in silence.
    """

    levels_db: np.ndarray
    lufs: float | None
    side_db: float | None

    @property
    def matched_db(self) -> np.ndarray:
        """Its third octaves at a loudness of 0 LUFS."""
        return thirds_db(self.levels_db) - (self.lufs or 0.0)

    @property
    def low_end_db(self) -> float:
        """The level under 120 Hz against its loudness."""
        return level_between_db(self.levels_db, *LOW_END_HZ) - (self.lufs or 0.0)


@dataclass(frozen=True)
class PartTone:
    """A part as it reaches the mix: its spectrum at `axis_hz` without its moves, and with them."""

    name: str
    before_db: np.ndarray
    after_db: np.ndarray


@dataclass(frozen=True)
class Run:
    """Neighbouring third octaves in which a mix lies outside the references; `why` names parts."""

    low_hz: float
    high_hz: float
    difference_db: float
    references: int
    cut: tuple[str, ...]
    loudest: tuple[str, ...]

    def words(self) -> str:
        """As a mixer is told."""
        where = f"{_said(self.low_hz)}" if self.low_hz == self.high_hz else self._range()
        side = "less" if self.difference_db < 0 else "more"
        than = "the references, more than they differ" if self.references > 1 else "the reference"
        told = f"{where}: {abs(self.difference_db):.1f} dB {side} than {than}"
        if self.difference_db < 0 and self.cut:
            are = "are" if len(self.cut) > 1 else "is"
            return f"{told}; {' and '.join(self.cut)} {are} cut there most"
        if self.difference_db > 0 and self.loudest:
            are = "are" if len(self.loudest) > 1 else "is"
            return f"{told}; {' and '.join(self.loudest)} {are} loudest there"
        return told

    def _range(self) -> str:
        low, high = _said(self.low_hz), _said(self.high_hz)
        same_unit = low.split()[1] == high.split()[1]
        return f"{low.split()[0] if same_unit else low} to {high}"


@dataclass(frozen=True)
class Beside:
    """A mix beside references, in dB at `THIRDS_HZ`; nan where the references have nothing.

    `difference_db` is the mix less the references' mean, each row of `ticks_db` one reference less
    that mean: what lies between the ticks is as far off as the references are from each other.
    """

    difference_db: np.ndarray
    ticks_db: np.ndarray
    runs: tuple[Run, ...]


def whole_of(blocks: Iterable[np.ndarray], rate: int) -> Whole:
    """Measure music that comes in blocks, stereo float32 (frames, 2)."""
    levels, stereo, welch = LevelMeter(rate, 2), StereoMeter(rate), Welch(rate)
    for block in blocks:
        for meter in (levels, stereo, welch):
            meter.write(block)
    return Whole(levels_db(welch), levels.levels().integrated_lufs, stereo.image(welch).side_db)


def beside(mix: Whole, references: Sequence[Whole], parts: Sequence[PartTone] = ()) -> Beside:
    """Compare a mix with at least one reference; none of them is silent."""
    every = np.array([one.matched_db for one in references])
    mean = every.mean(axis=0)
    heard = mean > mean.max() - HEARD_DB
    difference = np.where(heard, mix.matched_db - mean, np.nan)
    ticks = np.where(heard, every - mean, np.nan)
    return Beside(difference, ticks, tuple(_runs(difference, ticks, parts)))


def _runs(difference: np.ndarray, ticks: np.ndarray, parts: Sequence[PartTone]) -> list[Run]:
    apart_db = APART_DB if ticks.shape[0] > 1 else APART_FROM_ONE_DB
    sign = np.zeros(difference.size, int)
    sign[difference > np.nan_to_num(ticks.max(axis=0)) + apart_db] = 1
    sign[difference < np.nan_to_num(ticks.min(axis=0)) - apart_db] = -1
    found, first = [], 0
    for n in range(1, sign.size + 1):
        if n < sign.size and sign[n] == sign[first]:
            continue
        if sign[first]:
            found.append(_run(first, n - 1, difference, ticks.shape[0], parts))
        first = n
    return sorted(found, key=lambda run: -abs(run.difference_db))


def _run(first: int, last: int, difference: np.ndarray, count: int, parts: Sequence[PartTone]) -> Run:
    edges_hz = THIRDS_HZ[first] * 2 ** (-1 / 6), THIRDS_HZ[last] * 2 ** (1 / 6)
    before, after = (
        {one.name: level_between_db(levels(one), *edges_hz) for one in parts}
        for levels in (lambda one: one.before_db, lambda one: one.after_db)
    )
    powers = {name: 10 ** (db / 10) for name, db in after.items()}
    least = LEAST_CUT * sum(powers.values())
    taken = {name: 10 ** (db / 10) - powers[name] for name, db in before.items()}
    taken = {name: power for name, power in taken.items() if power >= least > 0.0}
    mean_db = float(difference[first : last + 1].mean())
    return Run(NAMES_HZ[first], NAMES_HZ[last], mean_db, count, _most(taken), _most(powers))


def _most(powers: dict[str, float]) -> tuple[str, ...]:
    """The one or two names with most, each with a share that counts."""
    whole = sum(powers.values())
    order = sorted(powers, key=lambda name: -powers[name])[:2]
    return tuple(name for name in order if whole > 0 and powers[name] >= LEAST_SHARE * whole)


def _said(hz: float) -> str:
    return f"{hz:g} Hz" if hz < 1000 else f"{hz / 1000:g} kHz"
