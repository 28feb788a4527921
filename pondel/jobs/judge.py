"""Judges sessions that differ in one fight's two parts: the others are heard once.

judge = Judge(now, loops, fights, document, fight, stretch)
judge.of(document_with_a_move).relief_db        # 2.4
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from concurrent.futures import Executor
from contextvars import copy_context

import numpy as np

from pondel.core.document import Session
from pondel.core.dsp.fold import Side
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.engine.listen import Plan, make_plan, plan_region
from pondel.core.evidence import within
from pondel.core.families import groups_among
from pondel.core.hearing.hidden import near_hits
from pondel.core.hearing.in_the_mix import in_the_mix
from pondel.core.hearing.loudness import partial_loudness
from pondel.core.hearing.scale import CAM_STEP
from pondel.core.hearing.table_maker import TableMaker
from pondel.core.judgement.judged import HeardStretch, Judgement, heard_stretch, judged
from pondel.core.judgement.ways import Way
from pondel.core.moves.fight import Fight
from pondel.jobs.fights import Fights
from pondel.jobs.leases import checkpoint
from pondel.jobs.loops import Loops

AT_ONCE = 2
REST = "all others"


def shared_out(waiting: Iterator[Way], work: Callable[[Way], None], pool: Executor) -> None:
    """Each way of an iterator is worked at once, by a few threads that share them."""
    lock = threading.Lock()

    def one(_: int) -> None:
        while True:
            with lock:
                checkpoint()
                way = next(waiting, None)
            if way is None:
                return
            work(way)

    shares = [pool.submit(copy_context().run, one, n) for n in range(AT_ONCE)]
    for share in shares:
        share.result()


class Judge:
    """Judges sessions that differ in one fight's two parts, over one stretch."""

    def __init__(
        self,
        now: Callable[[Session], ChunkedSession],
        loops: Loops,
        fights: Fights,
        document: Session,
        fight: Fight,
        stretch: tuple[int, int],
    ) -> None:
        self._now, self._loops, self._fights = now, loops, fights
        self._pair = fight.leader.id, fight.yielder.id
        self._zone_hz = fight.low_hz, fight.high_hz
        self._stretch, self._rate = stretch, document.rate
        self.start_s = stretch[0] / document.rate
        self._groups = groups_among(document, self._pair)
        self._heard = [part.id for part in loops.parts(document)]
        self._document = document
        hits = fights.hits_s(document, document.part(fight.leader.id))
        self._hits_s = within(hits, *stretch, document.rate)
        self._around: np.ndarray | None = None
        self._rests: dict[Side, np.ndarray] = {}
        self._befores: dict[Side, HeardStretch] = {}
        self._lock = threading.Lock()
        self._before("both")

    def of(self, document: Session, fold: Side = "both") -> Judgement:
        """What a session has over the one before; with a `fold` on one side alone."""
        before, after = self._before(fold), self._hear(document, fold)
        return judged(before, after, self._pair, self._zone_hz, self._hits_s, self._rate)

    def _before(self, fold: Side) -> HeardStretch:
        with self._lock:
            if fold not in self._befores:
                self._rests[fold] = self._rest(fold)
                self._befores[fold] = self._hear(self._document, fold)
            return self._befores[fold]

    def _rest(self, fold: Side) -> np.ndarray:
        """All other parts together."""
        inside = {one for side in self._pair for one in self._groups.get(side, [side])}
        others = [one for one in self._heard if one not in inside]
        if not others:
            return np.zeros_like(self._sum(self._now(self._document), self._pair[0], fold))
        powers = (self._loops.power(self._document, one, *self._stretch, fold) for one in others)
        return sum(powers)  # type: ignore[return-value]

    def _sum(self, now: ChunkedSession, side: str, fold: Side) -> np.ndarray:
        """Excitation by one side of the fight; what is only tried leaves nothing behind."""
        as_before = self._now(self._document)
        total: np.ndarray | None = None
        for one in self._groups.get(side, [side]):
            if one not in self._heard:
                continue
            if now.in_the_mix(one).facts(fold) == as_before.in_the_mix(one).facts(fold):
                power = self._loops.power(self._document, one, *self._stretch, fold)
            else:
                power = in_the_mix(now, one, *self._stretch, fold).power
            total = power if total is None else total + power
        assert total is not None, "a fight is between parts that are heard"
        return total

    def _mix(self, document: Session, now: ChunkedSession, pair: list[np.ndarray]) -> np.ndarray:
        """Stereo float32 (frames, 2); what lies around the pair is added up once if it stays so."""
        reaching = make_plan(document, "mix").parts
        others = tuple(part for part in reaching if part not in self._pair)
        as_before = self._now(self._document)
        same = all(
            now.fingerprint((part, "after fader")) == as_before.fingerprint((part, "after fader"))
            for part in others
        )
        if not same or len(others) + len(self._pair) != len(reaching):
            return plan_region(make_plan(document, "mix"), now, *self._stretch)
        if self._around is None:
            self._around = plan_region(Plan("mix", others), now, *self._stretch)
        return self._around + pair[0] + pair[1]

    def _hear(self, document: Session, fold: Side) -> HeardStretch:
        now = self._now(document)
        if document is not self._document:
            now = now.in_passing()
        leader, yielder = (self._sum(now, side, fold) for side in self._pair)
        powers = np.stack([leader, yielder, self._rests[fold]]).astype(np.float32)
        on_hits = np.zeros(powers.shape[:2], bool)
        on_hits[0] = near_hits(self._hits_s, powers.shape[1])
        maker = TableMaker([*self._pair, REST], only_hiding=[REST])
        maker.add(0, powers, on_hits)
        sounds = [now.region((side, "after fader"), *self._stretch) for side in self._pair]
        sone = partial_loudness(np.ascontiguousarray(powers[1])).sum(axis=1) * CAM_STEP
        mix = self._mix(document, now, sounds)
        return heard_stretch(maker.table(), sounds[0], sounds[1], mix, sone, self._hits_s, self._rate)
