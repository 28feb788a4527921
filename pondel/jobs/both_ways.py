"""Both ways to part the lows of two parts, compared behind the page before either is built.

split = LowEndSplits(desk).begin(document, "bass-drum", "tuba", start, frames)
split.finished.wait(); found = split.found
found.ways[0].title, found.ways[0].sides[0].subs_db      # "Bass drum owns the subs", (2.1, 4.3)
"""

from __future__ import annotations

from dataclasses import dataclass

from pondel.core.document import Session, content_hash
from pondel.core.errors import BadDocument
from pondel.core.families import groups_among
from pondel.core.hearing.table import HiddenTable, Scope
from pondel.core.operations.ways import PartLows
from pondel.jobs.desk import Desk
from pondel.jobs.leases import LeasedWork, Leases

SUBS_FROM_HZ, MIDS_UP = 25.0, 3.0
MOST_KEPT = 4


@dataclass(frozen=True)
class Side:
    """One of the two parts: how far it is clear in the subs and in the low mids, and what it lost."""

    name: str
    subs_db: tuple[float | None, float | None]
    mids_db: tuple[float | None, float | None]
    lost_share: float
    """Of its own loudness, 0 to 1 (negative: gained)."""


@dataclass(frozen=True)
class WayApart:
    """One of both: who owns the subs; `name` is that of the session with it, by which it is heard."""

    name: str
    title: str
    operation: PartLows
    document: Session
    sides: tuple[Side, Side]


@dataclass(frozen=True)
class BothWays:
    """Both, and where subs and low mids part."""

    parted_hz: float
    ways: tuple[WayApart, WayApart]


@dataclass(eq=False)
class LowEndSplit(LeasedWork):
    """A comparison of both ways, None until it is known."""

    found: BothWays | None = None


class LowEndSplits:
    """The comparisons of a desk. Thread-safe."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._splits = Leases[LowEndSplit]("comparisons of the low end", MOST_KEPT)

    def begin(self, document: Session, leader: str, part: str, start: int, frames: int) -> LowEndSplit:
        """The comparison over a stretch: begun, or as far as it has come.

        BadDocument while one of the two is not heard in the mix.
        """
        for one in (leader, part):
            if not self._desk.fights.are_heard(document, one):
                name = document.part(one).name
                raise BadDocument("it is not heard in the mix: there is no way to compare", where=name)

        def compare(split: LowEndSplit) -> None:
            split.found = both_ways(self._desk, document, leader, part, start, frames)

        key = content_hash([document.model_dump_json(), leader, part, start, frames])
        return self._splits.take(key, LowEndSplit, compare)

    def stop(self) -> None:
        """Give up what is under way, and wait until it has ended."""
        self._splits.stop()


def both_ways(
    desk: Desk, document: Session, leader: str, part: str, start: int, frames: int
) -> BothWays:
    """Lay both in turn and hear them over a stretch, each part in the subs and in the low mids."""
    groups = groups_among(document, (leader, part))
    start_s = start / document.rate
    fight = desk.fight(document, leader, part, start_s)
    at_hz = fight.lows_part_hz
    zones = (SUBS_FROM_HZ, at_hz), (at_hz, MIDS_UP * at_hz)
    before = desk.loops.table(document, start, frames, families=groups)

    def way(subs: str) -> WayApart:
        zone = {"low_hz": fight.low_hz, "high_hz": fight.high_hz}
        asked = PartLows(part=part, leader=leader, subs=subs, start_s=start_s, **zone)
        done = asked.apply(document, desk)
        after = desk.loops.table(done.document, start, frames, families=groups)
        sides = (
            _side(document.part(leader).name, leader, before, after, zones),
            _side(document.part(part).name, part, before, after, zones),
        )
        name = content_hash(done.document.model_dump_json())[:24]
        desk.hold(name, done.document)
        return WayApart(name, done.title, asked, done.document, sides)

    return BothWays(at_hz, (way(leader), way(part)))


def _side(
    name: str,
    part: str,
    before: HiddenTable,
    after: HiddenTable,
    zones: tuple[tuple[float, float], tuple[float, float]],
) -> Side:
    subs, mids = (
        (before.clear_db(part, Scope(zone_hz=zone)), after.clear_db(part, Scope(zone_hz=zone)))
        for zone in zones
    )
    alone = float(before.alone(part).sum())
    lost = 1.0 - float(after.alone(part).sum()) / alone if alone > 0 else 0.0
    return Side(name, subs, mids, lost)
