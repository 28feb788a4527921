"""Ways to make room, worked out side by side behind the page that shows them.

tried = desk.tryouts.begin(document, "drum", "tuba", start, frames)
tried.points()           # those that are judged so far
desk.tryouts.document(name)      # the session as it would sound, to be listened to
"""

from __future__ import annotations

import logging
import threading
from collections import OrderedDict
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from functools import partial
from itertools import chain
from typing import Any

from pondel.core.document import Session, content_hash
from pondel.core.dsp.fold import Side
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.errors import BadDocument, NotFound, PondelError
from pondel.core.judgement.better import Search
from pondel.core.judgement.judged import Judgement
from pondel.core.judgement.ways import Way, folded_ways, ways
from pondel.core.moves.fight import Fight, Start
from pondel.core.moves.registry import kind_of
from pondel.core.operations.ways import laid_for
from pondel.jobs.behind import BROKEN, give_up
from pondel.jobs.fights import Fights
from pondel.jobs.judge import AT_ONCE, Judge, shared_out
from pondel.jobs.loops import Loops
from pondel.jobs.turns import be_nice

log = logging.getLogger("pondel.jobs")
FORGOTTEN = "this way was forgotten: look at the ways again"
OPPOSITE: dict[Side, Side] = {"left": "right", "right": "left"}
MOST_KEPT = 8
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


@dataclass
class Looking:
    """A search for better near a point: how many tries it made, and what it came to."""

    tries: int = 0
    found: bool | None = None
    """Whether better was found; None while it is looked for."""
    stopped: threading.Event = field(default_factory=threading.Event)


class Tried:
    """The ways of one fight; points come in as they are judged. Thread-safe."""

    def __init__(self, document: Session, fight: Fight) -> None:
        self.document, self.fight = document, fight
        self.stopped = threading.Event()
        self.finished = threading.Event()
        self.is_whole = False
        """Whether all ways were worked out, rather than given up for another fight."""
        self.trouble: PondelError | None = None
        self.judge: Judge | None = None
        self.searches: dict[str, Looking] = {}
        """By the name of the point near which better is looked for, or was."""
        self._found: dict[str, tuple[Point, Session]] = {}
        self._lock = threading.Lock()

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
        return not self.finished.is_set() or any(one.found is None for one in self.searches.values())

    def found(self, name: str) -> tuple[Point, Session] | None:
        """One of them, and the session with it."""
        with self._lock:
            return self._found.get(name)


class Tryouts:
    """Works out ways and judges them over a stretch."""

    def __init__(self, now: Callable[[Session], ChunkedSession], loops: Loops, fights: Fights) -> None:
        self._now, self._loops, self._fights = now, loops, fights
        self._pool = ThreadPoolExecutor(AT_ONCE, "pondel-tryouts", initializer=be_nice)
        self._tried: OrderedDict[str, Tried] = OrderedDict()
        self._lock = threading.Lock()

    def begin(
        self, document: Session, leader_id: str, yielder_id: str, start: int, frames: int
    ) -> Tried:
        """The ways of a fight over a stretch: begun, or as far as they have come."""
        key = content_hash([document.model_dump_json(), leader_id, yielder_id, start, frames])
        with self._lock:
            found = self._tried.get(key)
            if found is not None and found.trouble is not None:
                self._tried.pop(key)
                raise found.trouble
            if found is not None and (found.is_whole or not found.stopped.is_set()):
                self._tried.move_to_end(key)
                return found
        for one in (leader_id, yielder_id):
            if not self._fights.are_heard(document, one):
                name = document.part(one).name
                raise BadDocument("it is not heard in the mix: there is no way to judge", where=name)
        fight = self._fights.measured(document, leader_id, yielder_id, start / document.rate)
        with self._lock:
            for older in self._tried.values():
                older.stopped.set()
            tried = self._tried[key] = Tried(document, fight)
            while len(self._tried) > MOST_KEPT:
                self._tried.popitem(last=False)
        work = partial(self._work, tried, document, (start, frames))
        threading.Thread(target=work, name="pondel-tryouts", daemon=True).start()
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
        with self._lock:
            for tried in reversed(self._tried.values()):
                if tried.found(name) is not None:
                    return tried
        raise NotFound(FORGOTTEN)

    def look_for_better(self, name: str) -> None:
        """Begin to look for more relief at no more cost near a point."""
        tried = self._of(name)
        with self._lock:
            if tried.judge is None:
                raise NotFound(FORGOTTEN)
            if name in tried.searches:
                return
            tried.searches[name] = Looking()
            tried.stopped.clear()
        threading.Thread(
            target=partial(self._search, tried, name), name="pondel-better", daemon=True
        ).start()

    def stop_looking(self, name: str) -> None:
        """End a search near a point: what it found until now stands."""
        looking = self._of(name).searches.get(name)
        if looking is not None:
            looking.stopped.set()

    def _search(self, tried: Tried, name: str) -> None:
        be_nice()
        judge, looking, found = tried.judge, tried.searches[name], None
        point, _ = tried.found(name) or (None, None)
        try:
            if judge is not None and point is not None:
                found = _search(tried, judge, point, looking)
                if found is not None:
                    tried.add(*found)
        except PondelError as error:
            tried.trouble = error
        finally:
            looking.found = found is not None

    def stop(self) -> None:
        """Give up what is under way, and wait until it is."""
        with self._lock:
            under_way = list(self._tried.values())
        give_up(under_way)

    def _work(self, tried: Tried, document: Session, stretch: tuple[int, int]) -> None:
        try:
            judge = Judge(self._now, self._loops, self._fights, document, tried.fight, stretch)
            tried.judge = judge

            def one(way: Way) -> None:
                laid = laid_for(document, way.fight, way.start, judge.start_s)
                tried.add(*_pointed(way, laid, judge.of(laid, way.fold), judge))

            waiting = chain(ways(tried.fight), folded_ways(tried.fight))
            shared_out(_not_stopped(waiting, tried), one, self._pool)
            tried.is_whole = not tried.stopped.is_set()
        except PondelError as error:
            tried.trouble = error
        except Exception:
            log.exception("the ways of %s could not be worked out", tried.fight.yielder.name)
            tried.trouble = PondelError(BROKEN)
        finally:
            tried.finished.set()


def _search(tried: Tried, judge: Judge, point: Point, looking: Looking) -> tuple[Point, Session] | None:
    """A point that gives more for no more, near one that is known, and the session with it."""
    way, start_s = point.way, judge.start_s

    def started(settings: dict[str, Any]) -> Start:
        return Start(settings, [*way.start.reasons, FOUND])

    def laid(settings: dict[str, Any]) -> Session:
        return laid_for(tried.document, way.fight, started(settings), start_s)

    def judged_with(settings: dict[str, Any]) -> Judgement | None:
        try:
            return judge.of(laid(settings), way.fold)
        except BadDocument:
            return None

    def go_on() -> bool:
        looking.tries += 1
        return not (tried.stopped.is_set() or looking.stopped.is_set())

    found = Search(way.start.settings).run(judged_with, point.judgement, MOST_TRIES, go_on)
    if found is None:
        return None
    better = replace(way, start=started(found.settings))
    return _pointed(better, laid(found.settings), found.judgement, judge, point.name)


def _not_stopped(found: Iterator[Way], tried: Tried) -> Iterator[Way]:
    for way in found:
        if tried.stopped.is_set():
            return
        yield way
