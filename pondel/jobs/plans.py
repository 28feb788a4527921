"""Plans for the whole mix, worked out behind the page that shows them, before anything is changed.

planned = desk.plans.begin(document)
planned.finished.wait(); planned.lines, planned.left
desk.plans.whole(planned, struck=frozenset({2}))     # what all but the third line give
desk.do(session_id, [planned.operation(struck)])
"""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

from pondel.core.document import Session, content_hash
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.errors import NotFound
from pondel.jobs.analysis import Analysis
from pondel.jobs.fights import Fights
from pondel.jobs.judge import AT_ONCE
from pondel.jobs.leases import Leases
from pondel.jobs.loops import Loops
from pondel.jobs.niceness import be_nice
from pondel.jobs.planned import Planned, Weighing, WholePlan
from pondel.jobs.planner import Planner
from pondel.jobs.thinness import Thinness
from pondel.jobs.whole_mix import WholeMix

MOST_KEPT, MOST_WEIGHED = 4, 16


class Plans:
    """The plans of a desk. Thread-safe."""

    def __init__(
        self,
        now: Callable[[Session], ChunkedSession],
        analysis: Analysis,
        loops: Loops,
        fights: Fights,
        whole_mix: WholeMix,
        thinness: Thinness,
    ) -> None:
        pool = ThreadPoolExecutor(AT_ONCE, "pondel-plan", initializer=be_nice)
        self._planner = Planner(now, analysis, loops, fights, whole_mix, thinness, pool)
        self._plans = Leases[Planned]("plans", MOST_KEPT)
        self._weighings = Leases[Weighing]("plans with lines struck", MOST_WEIGHED)

    def begin(self, document: Session) -> Planned:
        """The plan for a session: begun, or as far as it has come."""
        key = content_hash(document.model_dump_json())[:24]
        return self._plans.take(key, lambda: Planned(key, document), self._planner.work)

    def named(self, name: str) -> Planned:
        """A plan that was begun; NotFound when it was forgotten."""
        found = self._plans.get(name)
        if found is None:
            raise NotFound("this plan was forgotten: look at it again")
        return found

    def whole(self, planned: Planned, struck: frozenset[int] = frozenset()) -> WholePlan:
        """What the lines that were not struck give together, over the whole song."""
        return planned.whole if planned.whole and not struck else self._planner.whole(planned, struck)

    def weighing(self, planned: Planned, struck: frozenset[int]) -> Weighing:
        """The same behind the page: known, or as far as it has come."""
        if not struck:
            return Weighing(is_complete=True, whole=planned.whole)

        def weigh(weighing: Weighing) -> None:
            weighing.whole = self._planner.whole(planned, struck)

        key = f"{planned.name} without {sorted(struck)}"
        return self._weighings.take(key, Weighing, weigh)

    def document(self, name: str) -> Session | None:
        """The session with a plan that was weighed, to be listened to; None when it was forgotten."""
        weighed = [one.whole for one in self._plans.held()]
        weighed += [one.whole for one in self._weighings.held()]
        return next((one.document for one in weighed if one and one.name == name), None)

    def stop(self) -> None:
        """Give up what is under way, and wait until it has ended."""
        self._weighings.stop()
        self._plans.stop()
