"""The thinness guard: what moves took over a stretch, of the mix and of each part.

Warmth lies between 120 and 500 Hz; a part's own lowest octave is told where a cut took it.

[one.words() for one in desk.thinness.thin(document, start, frames)]
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from pondel.core.document import Part, Session
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.engine.listen import make_plan, plan_region, without_moves
from pondel.core.hearing.excitation import excitation_of
from pondel.core.hearing.loudness import partial_loudness
from pondel.core.hearing.scale import places_between
from pondel.core.hearing.spectra import ear_spectrum
from pondel.core.judgement.thinness import Taken, Thinned, lowest_octave, thinned, thinned_mix
from pondel.core.judgement.tone import WARMTH_HZ, level_between_db
from pondel.core.measures.home import Home
from pondel.core.measures.spectrum import average_spectrum
from pondel.core.moves.registry import kind_of
from pondel.jobs.fights import Fights

SILENT_DB = -90.0
Range = tuple[float, float]


@dataclass(frozen=True)
class Thinness:
    """The guard: what it hears sessions with, and where a part's energy lies."""

    now: Callable[[Session], ChunkedSession]
    fights: Fights
    home: Callable[[Part], Home | None]

    def thin(self, document: Session, start: int, frames: int) -> list[Thinned]:
        """The mix and the parts that are thin, each with the moves to blame; empty when none is."""
        where = start, frames
        before, after = self.now(without_moves(document)), self.now(document)
        mixes = [plan_region(make_plan(document, "mix"), one, *where) for one in (before, after)]
        found = [thinned_mix(*both) if (both := _warmth(document, mixes)) else None]
        for part in document.parts:
            if any(move.on for move in part.moves):
                sounds = [one.region((part.id, "before fader"), *where) for one in (before, after)]
                found += self._of_part(document, part, where, sounds)
        return [one for one in found if one is not None and one.is_thin]

    def _of_part(
        self, document: Session, part: Part, where: tuple[int, int], sounds: list[np.ndarray]
    ) -> list[Thinned]:
        """What a part lost at its fader; nothing where it has nothing there to lose."""

        def taken(hz: Range) -> list[Taken]:
            return self._taken(document, part, where, lambda sound: _level_db(document, sound, hz))

        found = []
        warmth = _warmth(document, sounds)
        if warmth is not None:
            whole = thinned(part.name, *warmth)
            found.append(thinned(part.name, *warmth, taken(WARMTH_HZ)) if whole.is_thin else whole)
        home = self.home(part)
        told = any(one.is_thin for one in found) and home is not None and home.low_hz >= WARMTH_HZ[0]
        if home is not None and not told:
            octave = home.low_hz, 2.0 * home.low_hz
            change_db = _change_db(document, sounds, octave)
            if change_db is not None and lowest_octave(part.name, home.low_hz, change_db).is_thin:
                found.append(lowest_octave(part.name, home.low_hz, change_db, taken(octave)))
        return found

    def _taken(
        self,
        document: Session,
        part: Part,
        where: tuple[int, int],
        level_db: Callable[[np.ndarray], float],
    ) -> list[Taken]:
        """What each of a part's moves takes by itself."""
        found = []
        for move in part.moves:
            if move.on:
                one, other = map(level_db, self.fights.around_move(document, part.id, move.id, where))
                found.append(Taken(part.id, move.id, kind_of(move.kind).title, other - one))
        return found


def _warmth(document: Session, sounds: list[np.ndarray]) -> tuple[float, float] | None:
    """The change of warmth in dB, and what share of its loudness was lost; None in silence."""
    change_db = _change_db(document, sounds, WARMTH_HZ)
    if change_db is None:
        return None
    before, after = (_loudness(document, sound, WARMTH_HZ) for sound in sounds)
    return change_db, 1.0 - after / before if before > 0 else 0.0


def _change_db(document: Session, sounds: list[np.ndarray], hz: Range) -> float | None:
    before, after = (_level_db(document, sound, hz) for sound in sounds)
    return after - before if min(before, after) > SILENT_DB else None


def _level_db(document: Session, samples: np.ndarray, hz: Range) -> float:
    return level_between_db(average_spectrum([samples], document.rate), *hz)


def _loudness(document: Session, samples: np.ndarray, hz: Range) -> float:
    """Specific loudness in a range by itself, summed over the frames of the ear."""
    heard = ear_spectrum([samples], document.rate)
    power = excitation_of(heard, document.listening_level_db_spl).power
    return float(partial_loudness(power)[:, places_between(*hz)].sum())
