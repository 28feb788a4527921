"""Variants side by side, worked out behind the page: over the loop, a section or the song.

compared = desk.sides.begin([("untreated", bare), ("A", a), ("B", b)], a, Where(start, frames))
compared.finished.wait(); compared.sides[1].mix.loudness_lufs
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

import numpy as np

from pondel.core.document import Session, content_hash
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.engine.listen import make_plan, plan_region
from pondel.core.engine.routing import active_moves
from pondel.core.errors import BadDocument
from pondel.core.evidence import FightEvidence, LeaderHeard, Led, fight_evidence, led_moves, within
from pondel.core.families import groups_among
from pondel.core.hearing.table import HiddenTable
from pondel.core.judgement.judged import low_end_db
from pondel.core.judgement.sides import (
    Contest,
    MixFigures,
    contests,
    decided,
    families_of,
    fight_stands,
    mix_figures,
)
from pondel.core.judgement.steadiness import gain_moves_db
from pondel.core.moves.registry import kind_of
from pondel.jobs.analysis import Analysis
from pondel.jobs.fights import Fights
from pondel.jobs.leases import LeasedWork, Leases, checkpoint
from pondel.jobs.loops import Loops, why_nothing_is_heard

PIECE_S = 8.0
LOWS_UNDER_HZ = 200.0
"""A decided fight that begins under this is one of the low end."""
LOW_ROLES = ("kick", "bass")
MOST_KEPT, LEAST_MOVED_DB = 8, 0.05
Segments = tuple[int, ...] | None


@dataclass(frozen=True)
class Where:
    """A stretch of the song in frames: the loop, a `section` of it, or all of it."""

    start: int
    frames: int
    section: str | None = None
    is_song: bool = False

    @property
    def is_loop(self) -> bool:
        return self.section is None and not self.is_song

    def segments(self, document: Session) -> Segments:
        """Which segments of a whole song's table it is; None for all of them."""
        if self.section is None:
            return None
        return tuple(n for n, one in enumerate(document.sections) if one.id == self.section)


@dataclass(frozen=True)
class MoveTold:
    """A move that follows another part, and what it alone gave and cost; None where it is not heard."""

    led: Led
    found: FightEvidence | None


@dataclass(frozen=True)
class Side:
    """One state of the session over the stretch.

    `stands` are the contests, None where one of the two is not heard.

    `low_end_db` is the level of the low-end fight's both parts on the hits, `gain_moves` the part
    whose gain moves most between hits, and by how many dB rms.
    """

    name: str
    stands: list[LeaderHeard | None]
    mix: MixFigures
    low_end_db: float | None
    gain_moves: tuple[str, float] | None
    moves: list[MoveTold]


@dataclass(eq=False)
class Compared(LeasedWork):
    """A comparison as far as it has come. Its lists are replaced, never changed."""

    name: str
    asked: list[tuple[str, Session]]
    deciding: Session
    where: Where
    step: str = ""
    done: int = 0
    contests: list[Contest] = field(default_factory=list)
    sides: list[Side] = field(default_factory=list)

    @property
    def total(self) -> int:
        return 2 * len(self.asked)


class Sides:
    """The comparisons of a desk. Thread-safe."""

    def __init__(
        self,
        now: Callable[[Session], ChunkedSession],
        analysis: Analysis,
        loops: Loops,
        fights: Fights,
    ) -> None:
        self._now, self._analysis, self._loops, self._fights = now, analysis, loops, fights
        self._compared = Leases[Compared]("comparisons of variants", MOST_KEPT)

    def begin(self, asked: list[tuple[str, Session]], deciding: Session, where: Where) -> Compared:
        """Begin to compare sides, or say how far that has come; the first is the untreated one.

        Which fights are decided is `deciding`'s to say.
        """
        every = [*asked, ("", deciding)]
        key = content_hash([[name, one.model_dump_json()] for name, one in every] + [repr(where)])[:24]
        return self._compared.take(key, lambda: Compared(key, asked, deciding, where), self._fill)

    def stop(self) -> None:
        """Give up what is under way, and wait until it has ended."""
        self._compared.stop()

    def _fill(self, compared: Compared) -> None:
        where, deciding = compared.where, compared.deciding
        tables = []
        for name, document in compared.asked:
            self._step(compared, f"listening to {name}")
            if not self._analysis.parts(document):
                raise BadDocument(why_nothing_is_heard(document), where=name)
            tables.append(self._table(document, deciding, where))
        compared.contests = contests(deciding, tables, where.segments(deciding))
        bare = compared.asked[0][1]
        found = []
        for (name, document), table in zip(compared.asked, tables, strict=True):
            self._step(compared, f"weighing {name}")
            found.append(self._side(compared, name, document, bare, table))
        compared.sides = found
        compared.done = compared.total

    def _step(self, compared: Compared, step: str) -> None:
        checkpoint()
        compared.done += bool(compared.step)
        compared.step = step

    def _table(self, document: Session, deciding: Session, where: Where) -> HiddenTable:
        groups = families_of(deciding)
        if where.is_loop:
            return self._loops.table(document, where.start, where.frames, families=groups)
        return self._analysis.whole_table(document, groups)

    def _side(
        self, compared: Compared, name: str, document: Session, bare: Session, table: HiddenTable
    ) -> Side:
        where = compared.where
        segments = where.segments(document)
        stands = [
            fight_stands(table, one, segments) if {one.leader, one.yielder} <= set(table.ids) else None
            for one in compared.contests
        ]
        return Side(
            name,
            stands,
            mix_figures(self._mix(compared, document), document.rate),
            self._low_end_db(document, compared.deciding, where),
            self._gain_moves(document, bare, where),
            [MoveTold(led, self._move(document, led, where)) for led in led_moves(document)],
        )

    def _mix(self, compared: Compared, document: Session) -> Iterator[np.ndarray]:
        plan, now, where = make_plan(document, "mix"), self._now(document), compared.where
        piece = round(PIECE_S * document.rate)
        for first in range(0, where.frames, piece):
            checkpoint()
            size = min(piece, where.frames - first)
            yield plan_region(plan, now, where.start + first, size)

    def _hits_s(self, document: Session, part: str, where: Where) -> np.ndarray:
        hits = self._fights.hits_s(document, document.part(part))
        return within(hits, where.start, where.frames, document.rate)

    def _low_end_db(self, document: Session, deciding: Session, where: Where) -> float | None:
        sides = _of_the_lows(deciding)
        if not sides or not all(document.has_part(one) for one in sides):
            return None
        now = self._now(document)
        one, other = (now.region((side, "after fader"), where.start, where.frames) for side in sides)
        return low_end_db(one, other, document.rate, self._hits_s(document, sides[0], where))

    def _gain_moves(self, document: Session, bare: Session, where: Where) -> tuple[str, float] | None:
        led = {one.yielder.id: one.leader.id for one in led_moves(document)}
        found = []
        for part in document.parts:
            if not active_moves(part) or not part.sounds or not bare.has_part(part.id):
                continue
            before, after = (
                self._now(one).region((part.id, "after fader"), where.start, where.frames)
                for one in (bare, document)
            )
            hits = self._hits_s(document, led.get(part.id, part.id), where)
            found.append((part.name, gain_moves_db(before, after, document.rate, hits)))
        most = max(found, key=lambda one: one[1], default=None)
        return most if most and most[1] >= LEAST_MOVED_DB else None

    def _move(self, document: Session, led: Led, where: Where) -> FightEvidence | None:
        pair = led.leader.id, led.yielder.id
        stretch = where.start, where.frames
        if where.is_loop:
            return self._fights.evidence(document, *pair, stretch, led.move.id)
        if not self._fights.are_heard(document, *pair):
            return None
        if kind_of(led.move.kind).judged_in(led.move) != "both":
            return None
        before, after = (
            self._analysis.whole_table(one, groups_among(one, pair))
            for one in (_without(document, led), document)
        )
        zone_hz = self._fights.zone_of(document, *pair, *stretch)
        return fight_evidence(before, after, *pair, zone_hz, where.segments(document))


def _of_the_lows(document: Session) -> list[str]:
    """Both parts of the decided fight of the low end; else kick and bass by their roles."""
    for one in decided(document):
        if one.zone_hz[0] < LOWS_UNDER_HZ:
            return [one.leader, one.yielder]
    by_role = [next((one.id for one in document.parts if one.role == role), "") for role in LOW_ROLES]
    return by_role if all(by_role) else []


def _without(document: Session, led: Led) -> Session:
    """The session without one move."""
    moves = [one for one in led.yielder.moves if one.id != led.move.id]
    part = led.yielder.model_copy(update={"moves": moves})
    parts = [part if one.id == part.id else one for one in document.parts]
    return document.model_copy(update={"parts": parts})
