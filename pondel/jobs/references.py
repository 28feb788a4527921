"""The mix of a session beside its references: their tone, low end and width, at matched loudness.

desk.references.compare(document, Where(start, frames)).beside.runs
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from pondel.core.document import Part, Session, content_hash
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.engine.listen import Plan, make_plan, plan_hash, plan_region, without_moves
from pondel.core.engine.routing import active_moves
from pondel.core.judgement.references import Beside, PartTone, Whole, beside, whole_of
from pondel.core.made_by import made_by
from pondel.core.measures.spectrum import average_spectrum
from pondel.jobs.sides import Where
from pondel.store.measures import Measures

PIECE_S = 4.0


class _NotMeasured(Exception):
    """Something of a comparison was not measured before."""


@dataclass(frozen=True)
class Told:
    """A mix beside the references that sound; nothing is compared where one of both is silent."""

    mix: Whole
    references: list[tuple[Part, Whole]]
    beside: Beside | None


class References:
    """Compares mixes with references. Thread-safe; calls `step` between pieces."""

    def __init__(
        self,
        measures: Measures,
        now: Callable[[Session], ChunkedSession],
        step: Callable[[], None],
    ) -> None:
        self._measures, self._now, self._step = measures, now, step

    def compare(self, document: Session, where: Where) -> Told:
        """Compare the mix over a stretch with each whole reference; kept by what is heard."""
        return self._told(document, where, self._measure)

    def known(self, document: Session, where: Where) -> Told | None:
        """The same if all of it was measured before, else None."""
        try:
            return self._told(document, where, _not_known)
        except _NotMeasured:
            return None

    def _told(
        self,
        document: Session,
        where: Where,
        otherwise: Callable[[Session, Plan, Where], Whole],
    ) -> Told:
        def whole(session: Session, plan: Plan, stretch: Where) -> Whole:
            key = self._key(session, plan, stretch)
            body = self._measures.get(key)
            if body is None:
                found = otherwise(session, plan, stretch)
                self._measures.keep(key, _as_json(found))
                return found
            return Whole(np.array(body["levels_db"]), body["lufs"], body["side_db"])

        mix = whole(document, make_plan(document, "mix"), where)
        references = []
        for part in references_of(document):
            plan = make_plan(document, "reference", [part.id])
            first = round(part.start_s * document.rate)
            length = self._now(document).recording_frames(part)
            found = whole(document, plan, Where(first, length))
            if found.lufs is not None:
                references.append((part, found))
        if mix.lufs is None or not references:
            return Told(mix, references, None)
        parts = []
        for part in document.summed():
            plan = make_plan(document, "part", [part.id])
            after = whole(document, plan, where).levels_db
            is_treated = bool(active_moves(part))
            bare = without_moves(document) if is_treated else document
            before = whole(bare, plan, where).levels_db if is_treated else after
            parts.append(PartTone(part.name, before, after))
        return Told(mix, references, beside(mix, [one for _, one in references], parts))

    def _measure(self, document: Session, plan: Plan, where: Where) -> Whole:
        if plan.hear == "part":
            blocks = self._blocks(document, plan, where)
            return Whole(average_spectrum(blocks, document.rate), None, None)
        return whole_of(self._blocks(document, plan, where), document.rate)

    def _blocks(self, document: Session, plan: Plan, where: Where) -> Iterator[np.ndarray]:
        now, piece = self._now(document), round(PIECE_S * document.rate)
        for first in range(0, where.frames, piece):
            self._step()
            yield plan_region(plan, now, where.start + first, min(piece, where.frames - first))

    def _key(self, document: Session, plan: Plan, where: Where) -> str:
        name = plan_hash(plan, self._now(document))
        stretch = content_hash([where.start, where.frames])[:16]
        return f"whole:{made_by('pondel.core.measures')}:{name}:{stretch}"


def references_of(document: Session) -> list[Part]:
    """The tracks that are heard beside the mix."""
    return [part for part in document.parts if part.reference and part.file is not None]


def _not_known(document: Session, plan: Plan, where: Where) -> Whole:
    raise _NotMeasured


def _as_json(whole: Whole) -> dict:
    levels = np.round(whole.levels_db, 3).tolist()
    return {"levels_db": levels, "lufs": whole.lufs, "side_db": whole.side_db}
