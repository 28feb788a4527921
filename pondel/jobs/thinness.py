"""The thinness guard: what moves took from 120 to 500 Hz over a stretch, of the mix and of each part.

[one.words() for one in thin(desk, document, start, frames)]
"""

from __future__ import annotations

import numpy as np

from pondel.core.document import Part, Session
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.engine.listen import make_plan, plan_region
from pondel.core.judgement.thinness import Taken, Thinned, thinned, thinned_mix
from pondel.core.judgement.tone import warmth_db
from pondel.core.measures.spectrum import average_spectrum
from pondel.core.moves.registry import kind_of
from pondel.jobs.desk import Desk

SILENT_DB = -90.0


def thin(desk: Desk, document: Session, start: int, frames: int) -> list[Thinned]:
    """The mix and the parts that are thin, each with the moves to blame; empty when none is."""
    where = start, frames
    before, after = desk.untreated(document), desk.now(document)
    found = [
        _of_part(desk, document, part, where, before, after) for part in document.parts if part.moves
    ]
    mixes = [
        _warmth(plan_region(make_plan(document, "mix"), one, *where), document)
        for one in (before, after)
    ]
    every = [thinned_mix(mixes[1] - mixes[0]) if min(mixes) > SILENT_DB else None, *found]
    return [one for one in every if one is not None and one.is_thin]


def _warmth(samples: np.ndarray, document: Session) -> float:
    return warmth_db(average_spectrum([samples], document.rate))


def _of_part(
    desk: Desk,
    document: Session,
    part: Part,
    where: tuple[int, int],
    before: ChunkedSession,
    after: ChunkedSession,
) -> Thinned | None:
    """What a part lost at its fader; None where it has nothing there to lose."""
    levels = [
        _warmth(one.region((part.id, "before fader"), *where), document) for one in (before, after)
    ]
    if levels[0] <= SILENT_DB:
        return None
    change = levels[1] - levels[0]
    whole = thinned(part.name, change)
    if not whole.is_thin:
        return whole
    taken = []
    for move in part.moves:
        if move.on:
            sounds = desk.fights.around_move(document, part.id, move.id, where)
            one, other = (_warmth(sound, document) for sound in sounds)
            taken.append(Taken(part.id, move.id, kind_of(move.kind).title, other - one))
    return thinned(part.name, change, taken)
