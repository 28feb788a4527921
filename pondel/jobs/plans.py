"""Plans for the whole mix, worked out behind the page that shows them, before anything is changed.

planned = desk.plans.begin(document)
planned.finished.wait(); planned.lines, planned.left
desk.plans.whole(planned, struck=frozenset({2}))     # what all but the third line give
desk.do(session_id, [planned.operation(struck)])
"""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import partial

from pondel.core.document import Session, content_hash
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.errors import NotFound
from pondel.jobs.analysis import Analysis
from pondel.jobs.behind import give_up, run_behind
from pondel.jobs.fights import Fights
from pondel.jobs.judge import AT_ONCE
from pondel.jobs.loops import Loops
from pondel.jobs.planned import Planned, WholePlan
from pondel.jobs.planner import Planner
from pondel.jobs.turns import be_nice
from pondel.jobs.whole_mix import WholeMix

MOST_KEPT = 4


class Plans:
    """The plans of a desk. Thread-safe."""

    def __init__(
        self,
        now: Callable[[Session], ChunkedSession],
        analysis: Analysis,
        loops: Loops,
        fights: Fights,
        whole_mix: WholeMix,
    ) -> None:
        pool = ThreadPoolExecutor(AT_ONCE, "pondel-plan", initializer=be_nice)
        self._planner = Planner(now, analysis, loops, fights, whole_mix, pool)
        self._plans: OrderedDict[str, Planned] = OrderedDict()
        self._lock = threading.Lock()

    def begin(self, document: Session) -> Planned:
        """The plan for a session: begun, or as far as it has come."""
        key = content_hash(document.model_dump_json())[:24]
        with self._lock:
            found = self._plans.get(key)
            if found is not None and found.trouble is None and not found.stopped.is_set():
                self._plans.move_to_end(key)
                return found
            for older in self._plans.values():
                if not older.finished.is_set():
                    older.stopped.set()
            planned = self._plans[key] = Planned(key, document)
            while len(self._plans) > MOST_KEPT:
                self._plans.popitem(last=False)
        run_behind(partial(self._planner.work, planned), planned, "planning")
        return planned

    def named(self, name: str) -> Planned:
        """A plan that was begun; NotFound when it was forgotten."""
        with self._lock:
            found = self._plans.get(name)
        if found is None:
            raise NotFound("this plan was forgotten: look at it again")
        return found

    def whole(self, planned: Planned, struck: frozenset[int] = frozenset()) -> WholePlan:
        """What the lines that were not struck give together, over the whole song."""
        return self._planner.whole(planned, struck)

    def weighed(self, planned: Planned, struck: frozenset[int]) -> WholePlan | None:
        """The same if it is known; else it is begun behind the page, and None."""
        found = planned.weighed.get(struck)
        if found is None and planned.finished.is_set() and planned.trouble is None:
            with self._lock:
                is_new = struck not in planned.being_weighed
                planned.being_weighed.add(struck)
            if is_new:
                run_behind(partial(self._weigh, planned, struck), planned, "weighing a plan")
        return found

    def _weigh(self, planned: Planned, struck: frozenset[int]) -> None:
        try:
            self._planner.whole(planned, struck)
        finally:
            planned.being_weighed.discard(struck)

    def document(self, name: str) -> Session | None:
        """The session with a plan that was weighed, to be listened to; None when it was forgotten."""
        with self._lock:
            wholes = [one for planned in self._plans.values() for one in planned.weighed.values()]
        return next((one.document for one in wholes if one.name == name), None)

    def stop(self) -> None:
        """Give up what is under way, and wait until it is."""
        with self._lock:
            under_way = list(self._plans.values())
        give_up(under_way)
