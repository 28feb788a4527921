"""Ways to make room, worked out side by side behind the page that shows them.

tried = desk.tryouts.begin(document, "drum", "tuba", start, frames)
tried.points()           # those that are judged so far
desk.tryouts.document(name)      # the session as it would sound, to be listened to
"""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import partial
from itertools import chain
from typing import Any

from pondel.core.document import Session, content_hash
from pondel.core.dsp.fold import Side
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.engine.routing import check_cycles
from pondel.core.errors import BadDocument, NotFound, PondelError
from pondel.core.families import groups_among
from pondel.core.judgement.better import Search, Stopped
from pondel.core.judgement.judged import Judgement
from pondel.core.judgement.ways import Way, folded_ways, ways
from pondel.core.moves.fight import Fight, Start
from pondel.core.moves.registry import kind_of
from pondel.core.operations.ways import laid_for
from pondel.jobs.fights import Fights
from pondel.jobs.judge import AT_ONCE, Judge, shared_out
from pondel.jobs.leases import BROKEN, GivenUp, LeasedWork, Leases
from pondel.jobs.loops import Loops
from pondel.jobs.niceness import be_nice

log = logging.getLogger("pondel.jobs")
FORGOTTEN = "this way was forgotten: look at the ways again"
OPPOSITE: dict[Side, Side] = {"left": "right", "right": "left"}
MOST_KEPT, MOST_SEARCHES = 8, 16
MOST_TRIES = 40
FOUND = "Turned from there by a search: more room for no more of the part."


@dataclass(frozen=True)
class Point:
    """One way, judged: `name` is that of the session with it."""

    name: str
    way: Way
    judgement: Judgement
    start_s: float
    """Where in the song its fight was measured."""
    brief: str
    """The settings in a few words."""
    better_than: str = ""
    """The name of the one near which it was found; empty for those of the trade's amounts."""
    beyond_db: float | None = None
    """The relief on the other side, where it is judged at the left or the right alone."""


def _pointed(
    way: Way,
    laid: Session,
    judgement: Judgement,
    judge: Judge,
    better_than: str = "",
) -> tuple[Point, Session]:
    """A way that was laid and judged, and the session with it."""
    move = laid.part(way.fight.yielder.id).moves[-1]
    name = content_hash(laid.model_dump_json())[:24]
    brief = kind_of(move.kind).in_brief(move)
    beyond = OPPOSITE.get(way.fold)
    beyond_db = judge.of(laid, beyond).relief_db if beyond else None
    return Point(name, way, judgement, judge.start_s, brief, better_than, beyond_db), laid


@dataclass(eq=False, kw_only=True)
class Looking(LeasedWork):
    """A search for better near a point: how many tries it made, and what it came to."""

    tries: int = 0
    found: bool = False
    """Whether something better was found, once it has finished."""


@dataclass(frozen=True)
class LeftOut:
    """A kind that cannot be tried in a fight, and why."""

    kind: str
    why: str


class Tried(LeasedWork):
    """The ways of one fight; points come in as they are judged. Thread-safe."""

    def __init__(self, document: Session, leader_id: str, yielder_id: str) -> None:
        super().__init__()
        self.document = document
        self.leader, self.yielder = document.part(leader_id), document.part(yielder_id)
        self.fight: Fight | None = None
        """None until it was measured."""
        self.judge: Judge | None = None
        self.searches: dict[str, Looking] = {}
        """By the name of the point near which better is looked for, or was."""
        self._found: dict[str, tuple[Point, Session]] = {}
        self._left_out: dict[str, LeftOut] = {}
        self._lock = threading.Lock()

    @property
    def left_out(self) -> list[LeftOut]:
        """The kinds that could not be tried, each with the first reason."""
        with self._lock:
            return sorted(self._left_out.values(), key=lambda one: one.kind)

    def leave_out(self, kind: str, why: str) -> None:
        with self._lock:
            self._left_out.setdefault(kind, LeftOut(kind, why))

    def add(self, point: Point, document: Session) -> None:
        with self._lock:
            self._found[point.name] = point, document

    def points(self) -> list[Point]:
        """Those judged so far, kind by kind from gentle to strong."""
        with self._lock:
            points = [point for point, _ in self._found.values()]
        return sorted(points, key=lambda one: (one.way.kind, one.way.far, one.better_than))

    @property
    def is_busy(self) -> bool:
        """Whether more points may come."""
        return not all(one.finished.is_set() for one in (self, *self.searches.values()))

    def found(self, name: str) -> tuple[Point, Session] | None:
        """One of them, and the session with it."""
        with self._lock:
            return self._found.get(name)


class Tryouts:
    """Works out ways and judges them over a stretch."""

    def __init__(self, now: Callable[[Session], ChunkedSession], loops: Loops, fights: Fights) -> None:
        self._now, self._loops, self._fights = now, loops, fights
        self._pool = ThreadPoolExecutor(AT_ONCE, "pondel-tryouts", initializer=be_nice)
        self._tried = Leases[Tried]("ways to make room", MOST_KEPT)
        self._searches = Leases[Looking]("searches for better ways", MOST_SEARCHES)

    def begin(
        self, document: Session, leader_id: str, yielder_id: str, start: int, frames: int
    ) -> Tried:
        """The ways of a fight over a stretch: begun, or as far as they have come.

        BadDocument where one of the two parts is not heard in the mix.
        """
        if leader_id == yielder_id:
            raise BadDocument("a part cannot make room for itself: choose two parts")
        for one in (leader_id, yielder_id):
            if not self._fights.are_heard(document, one):
                name = document.part(one).name
                raise BadDocument("it is not heard in the mix: there is no way to judge", where=name)
        key = content_hash([document.model_dump_json(), leader_id, yielder_id, start, frames])
        tried = self._tried.take(
            key,
            lambda: Tried(document, leader_id, yielder_id),
            lambda tried: self._work(tried, (start, frames)),
        )
        for search in tried.searches.values():
            search.renew()
        return tried

    def point(self, name: str) -> Point:
        """A way that was tried; NotFound when it was forgotten."""
        return self._found(name)[0]

    def document(self, name: str) -> Session:
        """The session with a way that was tried; NotFound when it was forgotten."""
        return self._found(name)[1]

    def made_from(self, name: str) -> Session:
        """The session for which a way was worked out; NotFound when it was forgotten."""
        return self._of(name).document

    def _found(self, name: str) -> tuple[Point, Session]:
        found = self._of(name).found(name)
        if found is None:
            raise NotFound(FORGOTTEN)
        return found

    def _of(self, name: str) -> Tried:
        for tried in self._tried.held():
            if tried.found(name) is not None:
                return tried
        raise NotFound(FORGOTTEN)

    def look_for_better(self, name: str) -> None:
        """Begin to look for more relief at no more cost near a point."""
        tried = self._of(name)
        if tried.judge is None:
            raise NotFound(FORGOTTEN)
        if name not in tried.searches:
            do = partial(self._search, tried, name)
            tried.searches[name] = self._searches.take(name, Looking, do)

    def stop_looking(self, name: str) -> None:
        """End a search near a point: what it found until now stands."""
        looking = self._of(name).searches.get(name)
        if looking is not None:
            looking.stopped.set()

    def _search(self, tried: Tried, name: str, looking: Looking) -> None:
        point, _ = self._found(name)
        found = _search(tried, point, looking)
        if found is not None:
            tried.add(*found)
            looking.found = True

    def stop(self) -> None:
        """Give up what is under way, and wait until it has ended."""
        self._searches.stop()
        self._tried.stop()

    def _work(self, tried: Tried, stretch: tuple[int, int]) -> None:
        document, pair = tried.document, (tried.leader.id, tried.yielder.id)
        start_s = stretch[0] / document.rate
        self._check_sounds(document, pair, stretch)
        fight = self._fights.measured(document, *pair, start_s)
        tried.fight = fight
        judge = Judge(self._now, self._loops, self._fights, document, fight, stretch)
        tried.judge = judge

        def one(way: Way) -> None:
            try:
                laid = laid_for(document, way.fight, way.start, judge.start_s)
                check_cycles(laid)
                tried.add(*_pointed(way, laid, judge.of(laid, way.fold), judge))
            except GivenUp:
                raise
            except PondelError as error:
                tried.leave_out(way.kind, error.message)
            except Exception:
                log.exception("%s could not be tried", way.kind)
                tried.leave_out(way.kind, BROKEN)

        shared_out(chain(ways(fight), folded_ways(fight)), one, self._pool)

    def _check_sounds(self, document: Session, pair: tuple[str, str], stretch: tuple[int, int]) -> None:
        """BadDocument where one of the two is silent in the stretch."""
        families = groups_among(document, pair)
        table = self._loops.table(document, *stretch, families=families)
        for one in pair:
            if not table.loudness_sone(one):
                name = document.part(one).name
                raise BadDocument(
                    "it is silent in the loop: move the loop to where it plays", where=name
                )


def _search(tried: Tried, point: Point, looking: Looking) -> tuple[Point, Session] | None:
    """A point that gives more for no more, near one that is known, and the session with it.

    What was found until the search is stopped stands.
    """
    judge = tried.judge
    assert judge is not None, "a point was judged"
    way, start_s = point.way, judge.start_s

    def started(settings: dict[str, Any]) -> Start:
        return Start(settings, [*way.start.reasons, FOUND])

    def laid(settings: dict[str, Any]) -> Session:
        return laid_for(tried.document, way.fight, started(settings), start_s)

    def judged_with(settings: dict[str, Any]) -> Judgement | None:
        try:
            document = laid(settings)
            check_cycles(document)
            return judge.of(document, way.fold)
        except BadDocument:
            return None
        except GivenUp as error:
            raise Stopped from error

    def go_on() -> bool:
        looking.tries += 1
        return not looking.stopped.is_set()

    found = Search(way.start.settings).run(judged_with, point.judgement, MOST_TRIES, go_on)
    if found is None:
        return None
    better = replace(way, start=started(found.settings))
    return _pointed(better, laid(found.settings), found.judgement, judge, point.name)
