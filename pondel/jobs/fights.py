"""One part against another, and each move between them: what was measured of them, and what it gives.

zone_hz = desk.fights.zone_of(document, leader_id, yielder_id, start, frames)
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

import numpy as np

from pondel.core.advice.lengths import Shorter, lengths_of, which_to_shorten
from pondel.core.document import Part, Session
from pondel.core.dsp.fold import Fold, Side
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.engine.listen import without_moves
from pondel.core.engine.routing import Node
from pondel.core.engine.streams import fader_gains
from pondel.core.errors import BadDocument
from pondel.core.evidence import (
    FightEvidence,
    OnHits,
    drop_on_hits,
    fight_evidence,
)
from pondel.core.families import groups_among
from pondel.core.hearing.recovery import hidden_on_hits, recovery_s
from pondel.core.measured import node_powers, part_small_speakers_lufs
from pondel.core.measures.lowsum import low_sum
from pondel.core.measures.spectrum import average_spectrum, axis_hz
from pondel.core.moves.fight import Fight
from pondel.core.moves.registry import kind_of
from pondel.jobs.analysis import Analysis
from pondel.jobs.loops import Loops
from pondel.jobs.recordings import Recordings

PROPOSAL_S = 10.0
LOWS_BELOW_HZ = 120.0
ANY_ZONE_HZ = (40.0, 160.0)
NARROW_DB, WIDE_DB, NO_SIDES_DB = -15.0, -12.0, -200.0
LEANS_DB, LEAST_POWER = 0.5, 1e-10


class Fights:
    """Measures fights from the sound as it stands. Thread-safe."""

    def __init__(
        self,
        now: Callable[[Session], ChunkedSession],
        recordings: Recordings,
        analysis: Analysis,
        loops: Loops,
    ) -> None:
        self._now, self._recordings = now, recordings
        self._analysis, self._loops = analysis, loops

    def measured(
        self,
        document: Session,
        leader_id: str,
        yielder_id: str,
        start_s: float,
        zone_hz: tuple[float, float] | None = None,
    ) -> Fight:
        """What advice needs to know of a fight, from some seconds of the song near `start_s`."""
        leader, yielder = document.part(leader_id), document.part(yielder_id)
        if leader.id == yielder.id:
            raise BadDocument("a part cannot give way to itself: choose two parts")
        rate = document.rate
        hits = self.hits_s(document, leader)
        later = hits[hits >= start_s]
        begin_s = max(0.0, float(later[0]) - 0.1) if later.size > 4 else 0.0
        start, frames = round(begin_s * rate), round(PROPOSAL_S * rate)
        now = self._now(document)
        key = now.region((leader_id, "source"), start, frames)
        inside = hits[(hits >= begin_s) & (hits < begin_s + PROPOSAL_S - 0.3)] - begin_s
        recording = self._recordings.of(leader.file) if leader.file else None
        sounds = [now.region((part, "before fader"), start, frames) for part in (leader_id, yielder_id)]
        stretch, pair = (start, frames), (leader_id, yielder_id)
        zone_hz = zone_hz or self.zone_of(document, *pair, *stretch)
        recovery, hidden = self._untreated(document, *pair, stretch, inside, zone_hz)
        return Fight(
            leader,
            yielder,
            *zone_hz,
            key,
            inside,
            hits,
            rate,
            document.beats().bpm_at(begin_s),
            recording.home if recording else None,
            self.fall_s(leader),
            low_sum(sounds[0], sounds[1], rate, inside, LOWS_BELOW_HZ),
            recovery,
            own_spectrum=(axis_hz(), 10.0 ** (average_spectrum([sounds[1]], rate) / 10.0)),
            own_hits_s=self.hits_s(document, yielder),
            own_hit_s=self.fall_s(yielder),
            shorter=self._shorter(document, leader, yielder),
            fed=yielder.id == leader.group or any(send.to == yielder.id for send in leader.sends),
            hidden_on_hits=hidden,
            carved_in=self._carved_in(leader, yielder),
            aside=_aside(leader, yielder, *sounds),
        )

    def _carved_in(self, leader: Part, yielder: Part) -> Fold:
        """The middle where the leader lies there and the other is wide; the sides where both are."""
        sides = [self._side_db(part) for part in (leader, yielder)]
        if sides[1] < WIDE_DB:
            return "both"
        return "middle" if sides[0] < NARROW_DB else "sides" if sides[0] >= WIDE_DB else "both"

    def _side_db(self, part: Part) -> float:
        """A recording's sides against its middle; far down for one that has none."""
        if part.file is None:
            return NO_SIDES_DB
        side_db = self._recordings.image(part.file).side_db
        return NO_SIDES_DB if side_db is None else side_db

    def fall_s(self, part: Part) -> float | None:
        """How long one of a part's hits takes to fall by 20 dB."""
        return lengths_of(self._recordings.of(part.file).hits(part)).fall_20_s if part.file else None

    def _shorter(self, document: Session, leader: Part, yielder: Part) -> Shorter | None:
        """The length that parts the yielder's tails from the leader's hits."""
        if leader.file is None or yielder.file is None:
            return None
        hits, notes = (self._recordings.of(part.file).hits(part) for part in (leader, yielder))  # type: ignore[arg-type]
        ways = which_to_shorten(hits, notes, document.known_tempo_bpm)
        return next((way for way in ways if not way.is_leader), None)

    def _untreated(
        self,
        document: Session,
        leader_id: str,
        yielder_id: str,
        stretch: tuple[int, int],
        hits_s: np.ndarray,
        zone_hz: tuple[float, float],
    ) -> tuple[float | None, float | None]:
        """When nothing is done: how long the leader's hits hide the other part, and how much of the
        leader that hides on them."""
        bare = without_moves(document)
        if not self.are_heard(bare, leader_id, yielder_id):
            return None, None
        groups = groups_among(bare, (yielder_id, leader_id))
        heard = {part.id for part in self._analysis.parts(bare)}
        yielder, leader = (
            np.add.reduce(
                [
                    self._loops.power(bare, one, *stretch)
                    for one in groups.get(part_id, [part_id])
                    if one in heard
                ]
            )
            for part_id in (yielder_id, leader_id)
        )
        return (
            recovery_s(yielder, leader, hits_s, zone_hz),
            hidden_on_hits(leader, yielder, hits_s, zone_hz),
        )

    def hits_s(self, document: Session, part: Part) -> np.ndarray:
        """A part's hits in seconds of the song; those of all that feed it for a group."""
        members = groups_among(document, [part.id]).get(part.id, [])
        if not members:
            return self._recordings.hits_s(part)
        return np.unique(
            np.concatenate([self._recordings.hits_s(document.part(one)) for one in members])
        )

    def are_heard(self, document: Session, *part_ids: str) -> bool:
        """Whether the ear tells these parts apart in the mix; a group is what feeds it."""
        heard = {part.id for part in self._analysis.parts(document)}
        groups = groups_among(document, part_ids)
        return all(heard & set(groups.get(one, [one])) for one in part_ids)

    def zone_of(
        self, document: Session, leader_id: str, yielder_id: str, start: int, frames: int
    ) -> tuple[float, float]:
        """The zone in which the pair was decided upon, or where the leader loses most while both are
        untreated.

        Over the whole song if that was heard, else in the stretch: what a move gives is told in one
        zone, whatever the move does to it.
        """
        for zone in document.zones:
            if zone.leads == leader_id and yielder_id in zone.gives_way:
                return zone.low_hz, zone.high_hz
        groups = groups_among(document, (leader_id, yielder_id))
        both = {leader_id, yielder_id, *(one for group in groups.values() for one in group)}
        bare = without_moves(document, both)
        if not self.are_heard(bare, leader_id, yielder_id):
            return ANY_ZONE_HZ
        table = self._analysis.known_table(bare, groups) or self._loops.table(
            bare, start, frames, families=groups
        )
        zones = table.zones(leader_id, yielder_id)
        return (zones[0].low_hz, zones[0].high_hz) if zones else ANY_ZONE_HZ

    def evidence(
        self,
        document: Session,
        leader_id: str,
        yielder_id: str,
        stretch: tuple[int, int],
        move_id: str | None = None,
    ) -> FightEvidence | None:
        """What one move gave and cost in a stretch, or without one how the fight stands.

        None while one of the two is not heard. All other moves are in play, before as after; a move
        in the middle or at the sides alone is judged there.
        """
        if not self.are_heard(document, leader_id, yielder_id):
            return None
        part = document.part(yielder_id)
        move = next((one for one in part.moves if one.id == move_id and one.on), None)
        fold = judged_in(part, move_id)
        groups = groups_among(document, (leader_id, yielder_id))
        after = self._loops.table(document, *stretch, fold, groups)
        before = after
        if move is not None:
            moves = [one for one in part.moves if one.id != move_id]
            without = part.model_copy(update={"moves": moves})
            parts = [without if one.id == yielder_id else one for one in document.parts]
            untreated = document.model_copy(update={"parts": parts})
            before = self._loops.table(untreated, *stretch, fold, groups)
        zone_hz = self.zone_of(document, leader_id, yielder_id, *stretch)
        return fight_evidence(before, after, leader_id, yielder_id, zone_hz)

    def drop_on_hits(
        self,
        document: Session,
        part_id: str,
        move_id: str,
        stretch: tuple[int, int],
        hits_s: np.ndarray,
        zone_hz: tuple[float, float] | None,
    ) -> OnHits:
        """How far one move lowers its part in a zone on hits, in seconds from the stretch's start."""
        node: Node = (part_id, "before fader")
        before, after = (
            node_powers(one, node, *stretch, zone_hz)
            for one in self.sessions_around(document, part_id, move_id)
        )
        move = next(one for one in document.part(part_id).moves if one.id == move_id)
        rises = kind_of(move.kind).rises(move)
        return drop_on_hits(before, after, hits_s, rises=rises)

    def on_small_speakers(
        self, document: Session, part_id: str, move_id: str | None, stretch: tuple[int, int]
    ) -> tuple[float | None, float | None]:
        """A part's loudness on small speakers at its fader, before and after one of its moves.

        Without a move before and after all that are on.
        """
        part = document.part(part_id)
        if any(move.id == move_id for move in part.moves):
            around = self.sessions_around(document, part_id, str(move_id))
        else:
            around = self._now(without_moves(document)), self._now(document)
        before, after = (part_small_speakers_lufs(one, part_id, *stretch) for one in around)
        return before, after

    def around_move(
        self, document: Session, part_id: str, move_id: str, stretch: tuple[int, int]
    ) -> tuple[np.ndarray, np.ndarray]:
        """A part right before and right after one of its moves, float32 (frames, channels).

        Of the chain only what comes before the move is in play, so that it is told by itself.
        """
        before, after = self.sessions_around(document, part_id, move_id)
        node: Node = (part_id, "before fader")
        return before.region(node, *stretch), after.region(node, *stretch)

    def sessions_around(
        self, document: Session, part_id: str, move_id: str
    ) -> tuple[ChunkedSession, ChunkedSession]:
        """The session with a part's chain up to one of its moves, and up to behind it."""
        moves = document.part(part_id).moves
        at = next(n for n, move in enumerate(moves) if move.id == move_id)
        found = []
        for end in (at, at + 1):
            part = document.part(part_id).model_copy(update={"moves": moves[:end]})
            parts = [part if one.id == part_id else one for one in document.parts]
            found.append(self._now(document.model_copy(update={"parts": parts})))
        return found[0], found[1]


def judged_in(part: Part, move_id: str | None) -> Side:
    """Where alone one of a part's moves is judged; on both channels together without one."""
    move = next((one for one in part.moves if one.id == move_id and one.on), None)
    return kind_of(move.kind).judged_in(move) if move else "both"


def _aside(
    leader: Part, yielder: Part, leader_sound: np.ndarray, yielder_sound: np.ndarray
) -> Literal["left", "right"]:
    """The side to which one part leans, seen from another, by their sounds before the fader."""
    pairs = (leader, leader_sound), (yielder, yielder_sound)
    leans = [_leans_db(part, sound) for part, sound in pairs]
    return "left" if leans[1] < leans[0] - LEANS_DB else "right"


def _leans_db(part: Part, sound: np.ndarray) -> float:
    """How much stronger a part is on the right than on the left."""
    left, right = fader_gains(part, sound.shape[1])
    powers = [
        gain**2 * float(np.square(channel, dtype=np.float64).sum()) + LEAST_POWER
        for gain, channel in ((left, sound[:, 0]), (right, sound[:, -1]))
    ]
    return float(10.0 * np.log10(powers[1] / powers[0]))
