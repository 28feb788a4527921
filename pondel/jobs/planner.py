"""Works a plan out: tries every fight by itself, then lays the best ways one on top of another."""

from __future__ import annotations

import logging
from collections.abc import Callable
from concurrent.futures import Executor
from dataclasses import dataclass, replace

import numpy as np

from pondel.core.advice.claims import Claim, claims
from pondel.core.document import Session
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.engine.routing import check_cycles
from pondel.core.errors import BadDocument, PondelError
from pondel.core.evidence import led_moves
from pondel.core.families import groups_among
from pondel.core.hearing.scale import places_between
from pondel.core.hearing.spectra import FRAME_S
from pondel.core.hearing.table import Scope
from pondel.core.hearing.timemap import worst_stretch
from pondel.core.judgement.plan import MIX_BEARS_DB, MOST_MOVES, Candidate, best_of, left_why
from pondel.core.judgement.ways import Way, ways
from pondel.core.moves.registry import kind_of
from pondel.core.operations.ways import laid_for, limited
from pondel.jobs.analysis import Analysis
from pondel.jobs.fights import Fights
from pondel.jobs.judge import Judge, shared_out
from pondel.jobs.leases import GivenUp, checkpoint
from pondel.jobs.loops import Loops, why_nothing_is_heard
from pondel.jobs.planned import STRETCH_S, Line, Planned, WholePlan
from pondel.jobs.thinness import Thinness
from pondel.jobs.weighing import table_for, weighed
from pondel.jobs.whole_mix import WholeMix

log = logging.getLogger("pondel.jobs")
MOST_TRIED = 24
USUAL, GENTLE = 1.0, 0.0


@dataclass(frozen=True)
class _Tried:
    """A fight and every way that was tried in it."""

    claim: Claim
    start_s: float
    where: str
    candidates: list[Candidate]

    @property
    def worth_db(self) -> float:
        best = best_of(self.candidates)
        return best.worth_db if best else 0.0


@dataclass(frozen=True)
class Planner:
    """What a plan is worked out with."""

    now: Callable[[Session], ChunkedSession]
    analysis: Analysis
    loops: Loops
    fights: Fights
    whole_mix: WholeMix
    thinness: Thinness
    pool: Executor

    def work(self, planned: Planned) -> None:
        """Fill a plan; GivenUp when nobody wants it any more."""
        document = planned.document
        if not self.analysis.parts(document):
            raise BadDocument(why_nothing_is_heard(document))
        found = claims(document, self.analysis.whole_table(document))
        planned.is_draft = not any(claim.is_decided for claim in found)
        for claim in found[MOST_TRIED:]:
            planned.leave(claim, f"{MOST_TRIED} fights are tried at once, and others lose more")
        planned.total = len(found[:MOST_TRIED]) + 1
        asked = (self._tried(planned, claim) for claim in found[:MOST_TRIED])
        tried = [one for one in asked if one is not None]
        self._lay_all(planned, sorted(tried, key=lambda one: (one.claim.tier, -one.worth_db)))
        planned.done = planned.total

    def _lay_all(self, planned: Planned, tried: list[_Tried]) -> None:
        """Lay the best ways within the bounds; the place of a line that goes is another one's."""
        while tried:
            before = len(tried)
            tried = self._lay(planned, tried)
            planned.step = "weighing all of it, section by section"
            has_place = self._keep_within_bounds(planned)
            if not has_place or len(tried) == before:
                break
        for one in tried:
            planned.leave(one.claim, _no_place(planned, one))

    def whole(self, planned: Planned, struck: frozenset[int] = frozenset()) -> WholePlan:
        """What the lines that were not struck give together."""
        lines, before = planned.kept(struck), planned.document
        after = before
        for line in lines:
            after = _laid(after, line.claim, line.way, line.start_s)
        return weighed(self.analysis, self.whole_mix, self.thinness, before, after, lines)

    def _tried(self, planned: Planned, claim: Claim) -> _Tried | None:
        """Every way in one fight; None where none is worth it, which is then told."""
        checkpoint()
        document = planned.document
        leader, yielder = (document.part(one).name for one in (claim.leader, claim.yielder))
        planned.step = f"{yielder} under {leader}"
        why = self._why_not_asked(document, claim)
        if not why:
            start_s, where = self._busiest(document, claim)
            candidates = self._candidates(planned, claim, start_s)
            if best_of(candidates) is not None:
                planned.done += 1
                return _Tried(claim, start_s, where, candidates)
            table = table_for(self.analysis, document, claim)
            would_win_db = table.would_win_db(claim.leader, claim.yielder, Scope(zone_hz=claim.zone_hz))
            why = left_why(candidates, would_win_db, leader, yielder)
        planned.leave(claim, why)
        planned.done += 1
        return None

    def _candidates(self, planned: Planned, claim: Claim, start_s: float) -> list[Candidate]:
        """Every kind at its usual amount, judged where the fight is worst."""
        document = planned.document
        fight = self.fights.measured(document, claim.leader, claim.yielder, start_s, claim.zone_hz)
        waiting = [way for way in ways(fight, (USUAL,)) if not kind_of(way.kind).only_level]
        if not waiting:
            return []
        judge = self._judge(document, waiting[0], start_s)
        found: list[Candidate] = []

        def one(way: Way) -> None:
            try:
                laid = _laid(document, claim, way, start_s)
                check_cycles(laid)
                found.append(Candidate(way, judge.of(laid)))
            except GivenUp:
                raise
            except PondelError:
                return
            except Exception:
                log.exception("%s could not be tried", way.kind)

        shared_out(iter(waiting), one, self.pool)
        return sorted(found, key=lambda one: one.way.kind)

    def _lay(self, planned: Planned, tried: list[_Tried]) -> list[_Tried]:
        """Each fight's best way on top of the lines above it, judged again there.

        Those for which no move is left are handed back.
        """
        document = planned.document
        for line in planned.lines:
            document = _laid(document, line.claim, line.way, line.start_s)
        no_place: list[_Tried] = []
        for one in tried:
            checkpoint()
            above = next((line for line in planned.lines if _does_for(line.claim, one.claim)), None)
            if above is not None:
                leader = document.part(above.claim.leader).name
                planned.leave(one.claim, f"it makes room there already, for {leader}")
                continue
            best = best_of(one.candidates, MOST_MOVES - planned.moves)
            if best is None:
                no_place.append(one)
                continue
            laid = _laid(document, one.claim, best.way, one.start_s)
            again = Candidate(best.way, self._judge(document, best.way, one.start_s).of(laid))
            if not again.is_worth_it:
                planned.leave(one.claim, "the lines above make room enough there")
                continue
            document = laid
            line = Line(one.claim, again, one.start_s, one.where, _brief(laid, one.claim))
            planned.lines = [*planned.lines, line]
        return no_place

    def _keep_within_bounds(self, planned: Planned) -> bool:
        """Where all lines together take too much of the mix, the dearest goes less far, or goes.

        Whether a line went.
        """
        has_gone = False
        while planned.lines:
            checkpoint()
            planned.whole = whole = self.whole(planned)
            if abs(whole.loudness_db or 0.0) < MIX_BEARS_DB and whole.warmth_db > -MIX_BEARS_DB:
                return has_gone
            dearest = max(planned.lines, key=lambda one: one.candidate.judgement.fight.cost_share)
            gentler = self._gentler(planned.document, dearest)
            if gentler is None:
                planned.leave(dearest.claim, "too dear with all others: the mix would lose over 1 dB")
                has_gone = True
            changed = {id(dearest): [gentler] if gentler else []}
            planned.lines = [new for line in planned.lines for new in changed.get(id(line), [line])]
        planned.whole = None
        return has_gone

    def _gentler(self, document: Session, line: Line) -> Line | None:
        """The same at its gentle amount; None where it is gentle already, or nobody would hear it."""
        if line.way.far <= GENTLE:
            return None
        way = next((w for w in ways(line.way.fight, (GENTLE,)) if w.kind == line.way.kind), None)
        if way is None:
            return None
        laid = _laid(document, line.claim, way, line.start_s)
        found = Candidate(way, self._judge(document, way, line.start_s).of(laid))
        return (
            replace(line, candidate=found, brief=_brief(laid, line.claim))
            if found.is_worth_it
            else None
        )

    def _judge(self, document: Session, way: Way, start_s: float) -> Judge:
        where = round(start_s * document.rate), round(STRETCH_S * document.rate)
        return Judge(self.now, self.loops, self.fights, document, way.fight, where)

    def _why_not_asked(self, document: Session, claim: Claim) -> str:
        """Why nothing is tried in a fight; empty where something is."""
        for one in (claim.leader, claim.yielder):
            if not self.fights.are_heard(document, one):
                return f"{document.part(one).name} is not heard in the mix"
        leader = document.part(claim.leader).name
        for move in document.part(claim.yielder).moves:
            if move.on and move.began is not None and move.began.leader == claim.leader:
                return f"it makes room for {leader} already, by its {kind_of(move.kind).in_words}"
        for led in led_moves(document):
            if (led.leader.id, led.yielder.id) == (claim.leader, claim.yielder):
                return f"its {kind_of(led.move.kind).in_words} listens to {leader} already"
        return ""

    def _busiest(self, document: Session, claim: Claim) -> tuple[float, str]:
        """Where in the song the leader loses most to the other part, and the section that is in."""
        losses = self._losses(document, claim)
        if claim.sections:
            inside = np.zeros(losses.size, bool)
            for section in (one for one in document.sections if one.id in claim.sections):
                inside[round(section.start_s / FRAME_S) : round(section.end_s / FRAME_S)] = True
            losses = np.where(inside, losses, 0.0)
        start_s = worst_stretch(losses, round(STRETCH_S / FRAME_S)) * FRAME_S
        middle_s = start_s + 0.5 * STRETCH_S
        names = (one.name for one in document.sections if one.start_s <= middle_s < one.end_s)
        return round(start_s, 3), next(names, "")

    def _losses(self, document: Session, claim: Claim) -> np.ndarray:
        """What falls to the other part in each frame of the song, in sones."""
        groups, places = (
            groups_among(document, (claim.leader, claim.yielder)),
            places_between(*claim.zone_hz),
        )
        sides = [groups.get(one, [one]) for one in (claim.leader, claim.yielder)]
        found = [
            self.analysis.losses(document, one, other, places) for one in sides[0] for other in sides[1]
        ]
        longest = max(one.size for one in found)
        return np.sum([np.pad(one, (0, longest - one.size)) for one in found], axis=0)


def _laid(document: Session, claim: Claim, way: Way, start_s: float) -> Session:
    """A session with one more line, limited to the sections of its decision."""
    return laid_for(document, way.fight, limited(way.start, claim.sections), start_s)


def _no_place(planned: Planned, one: _Tried) -> str:
    """Why a fight that could be treated has no line: how many moves are laid, and how many it wants."""
    left = MOST_MOVES - planned.moves
    if left <= 0:
        return f"{MOST_MOVES} moves are laid, as many as one step takes: plan again once they are kept"
    best = best_of(one.candidates)
    wants = best.moves if best else 1
    return (
        f"it takes {wants} moves, and {planned.moves} of at most {MOST_MOVES} are laid: "
        "plan again once they are kept"
    )


def _does_for(above: Claim, claim: Claim) -> bool:
    """Whether a line makes the same part give way in the same range, for another leader."""
    return above.yielder == claim.yielder and above.covers(claim)


def _brief(document: Session, claim: Claim) -> str:
    move = document.part(claim.yielder).moves[-1]
    return kind_of(move.kind).in_brief(move)
