"""The desk: a library with an engine. Everything the command line and the screens ask for."""

from __future__ import annotations

import math
import threading
from collections import OrderedDict
from collections.abc import Callable, Iterable
from functools import lru_cache
from pathlib import Path

import numpy as np

from pondel.core.advice.checks import Advice, check
from pondel.core.advice.lengths import lengths_of
from pondel.core.audio import files
from pondel.core.document import Part, Session, move_of
from pondel.core.dsp.decibels import to_db
from pondel.core.engine import render, routing
from pondel.core.engine.chunks import ChunkCache, ChunkedSession
from pondel.core.engine.graph import song_frames
from pondel.core.engine.listen import (
    Plan,
    make_plan,
    plan_hash,
    without_moves,
)
from pondel.core.engine.spill import Spill
from pondel.core.errors import BadDocument, NotFound
from pondel.core.evidence import FightEvidence, OnHits, drop_on_hits, fight_evidence
from pondel.core.hearing.recovery import recovery_s
from pondel.core.made_by import made_by
from pondel.core.measures.levels import Levels
from pondel.core.measures.lowsum import low_sum
from pondel.core.measures.outline import Outline
from pondel.core.moves.base import Traced, key_in
from pondel.core.moves.checking import Heard
from pondel.core.moves.fight import Fight
from pondel.core.moves.picture import Picture
from pondel.core.moves.registry import kind_of
from pondel.core.operations import Done, Operation, apply_all
from pondel.core.survival import chunk_of, sound_of
from pondel.jobs.analysis import Analysis
from pondel.jobs.loops import Loops
from pondel.jobs.recordings import Recording, Recordings
from pondel.store.library import Library, nobody_waits
from pondel.store.prints import Order
from pondel.store.revisions import Revision

MAX_PLANS = 256
PROPOSAL_S = 10.0
LOWS_BELOW_HZ = 120.0
ANY_ZONE_HZ = (40.0, 160.0)
WHOLE_HZ = np.array([1000.0])


@lru_cache(maxsize=64)
def _untreated(session_json: str) -> Session:
    return without_moves(Session.model_validate_json(session_json))


class Desk:
    """Renders, measures and advises on the sessions of one library. Thread-safe.

    Long work calls `step` between its chunks, where it may have to wait for the sound. Where
    `eager`, recordings are measured when they are asked for; else NotYet is raised.
    """

    def __init__(
        self, library: Library, step: Callable[[], None] = lambda: None, *, eager: bool = True
    ) -> None:
        self.library = library
        self._cache = ChunkCache(spill=Spill(library.folder.place("chunks")))
        self._plans: OrderedDict[str, tuple[Plan, ChunkedSession]] = OrderedDict()
        self.recordings = self.media = Recordings(library, step, eager=eager)
        self.analysis = Analysis(library, self.recordings, step)
        self.loops = Loops(self.now, self.analysis.parts, self.hits_s, step)
        self._step = step
        self._lock = threading.Lock()

    def now(self, document: Session) -> ChunkedSession:
        """The session as it stands, in chunks."""
        return ChunkedSession(document, self.media, self._cache, self._step)

    def untreated(self, document: Session) -> ChunkedSession:
        """The session with all moves off, in chunks."""
        return self.now(_untreated(document.model_dump_json()))

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
        sounds = self.around_move(document, part_id, move_id, stretch)
        move = next(one for one in document.part(part_id).moves if one.id == move_id)
        rises = kind_of(move.kind).rises(move)
        return drop_on_hits(*sounds, document.rate, hits_s, zone_hz, rises=rises)

    def around_move(
        self, document: Session, part_id: str, move_id: str, stretch: tuple[int, int]
    ) -> tuple[np.ndarray, np.ndarray]:
        """A part right before and right after one of its moves, float32 (frames, channels).

        Of the chain only what comes before the move is in play, so that it is told by itself.
        """
        moves = document.part(part_id).moves
        at = next(n for n, move in enumerate(moves) if move.id == move_id)
        sounds = []
        for end in (at, at + 1):
            part = document.part(part_id).model_copy(update={"moves": moves[:end]})
            parts = [part if one.id == part_id else one for one in document.parts]
            chunked = self.now(document.model_copy(update={"parts": parts}))
            sounds.append(chunked.region((part_id, "before fader"), *stretch))
        return sounds[0], sounds[1]

    def frames(self, document: Session) -> int:
        """Length of the song in frames, at least one."""
        return max(1, song_frames(document, self.media, readable=True))

    def recording(self, file: str) -> Recording:
        """The measures of a recording, taken once and kept."""
        return self.recordings.of(file)

    def hits_s(self, part: Part) -> np.ndarray:
        """A part's hits in seconds from the start of the song."""
        return self.recordings.hits_s(part)

    def levels(self, part: Part) -> Levels | None:
        """The levels of a part's recording; None without one that can be read."""
        recording = self.recordings.readable(part.file) if part.file else None
        return recording.levels if recording else None

    def do(
        self,
        session_id: str,
        operations: list[Operation],
        *,
        base: int | None = None,
        gesture: str | None = None,
        prepare: Callable[[Revision, Done], None] = nobody_waits,
    ) -> Revision:
        """Apply operations to a session, all of them or none; the new state is on disk."""
        return self.library.edit(
            session_id,
            base,
            lambda document: apply_all(operations, document, self),
            gesture=gesture,
            prepare=prepare,
        )

    def plan(
        self,
        document: Session,
        hear: str,
        parts: list[str],
        move: str | None,
        zone_hz: tuple[float, float] | None = None,
        *,
        treated: bool,
    ) -> tuple[str, Plan]:
        """Prepare something to be heard; its sound is then served by the hash."""
        plan = make_plan(document, hear, parts, move, zone_hz)
        chunked = self.now(document) if treated or hear == "key" else self.untreated(document)
        name = plan_hash(plan, chunked)
        with self._lock:
            self._plans[name] = (plan, chunked)
            self._plans.move_to_end(name)
            while len(self._plans) > MAX_PLANS:
                self._plans.popitem(last=False)
        return name, plan

    def sound(self, name: str, index: int) -> np.ndarray:
        """Chunk `index` of a prepared plan, stereo float32; NotFound when it was forgotten."""
        with self._lock:
            found = self._plans.get(name)
        if found is None:
            raise NotFound("this sound is not prepared any more: ask for it again")
        plan, chunked = found
        return self._cache.get(("plan", name, index), lambda: chunk_of(plan, chunked, index))

    def mix_outline(self, document: Session, columns: int) -> list[list[float]]:
        """Lowest and highest sample of the mix in each column over the whole song."""
        plan, chunked = make_plan(document, "mix"), self.now(document)
        frames = self.frames(document)
        collected = Outline(-(-frames // columns))
        for index in range(-(-frames // chunked.frames)):
            self._step()
            collected.write(chunk_of(plan, chunked, index))
        body = np.round(collected.columns(), 4).tolist()
        self.library.measures.keep(self._outline_key(document, columns), body)
        return body

    def known_outline(self, document: Session, columns: int) -> list[list[float]] | None:
        """The mix's outline if it is known, else None."""
        return self.library.measures.get(self._outline_key(document, columns))

    def _outline_key(self, document: Session, columns: int) -> str:
        name = plan_hash(make_plan(document, "mix"), self.now(document))
        return f"mix-outline:{made_by('pondel.core.measures.outline')}:{name}:{columns}"

    def fight(
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
        hits = self.hits_s(leader)
        later = hits[hits >= start_s]
        begin_s = max(0.0, float(later[0]) - 0.1) if later.size > 4 else 0.0
        start, frames = round(begin_s * rate), round(PROPOSAL_S * rate)
        now = self.now(document)
        key = now.region((leader_id, "source"), start, frames)
        inside = hits[(hits >= begin_s) & (hits < begin_s + PROPOSAL_S - 0.3)] - begin_s
        recording = self.recording(leader.file) if leader.file else None
        lengths = lengths_of(recording.hits(leader)) if recording else None
        sounds = [now.region((part, "before fader"), start, frames) for part in (leader_id, yielder_id)]
        stretch, pair = (start, frames), (leader_id, yielder_id)
        zone_hz = zone_hz or self.zone_of(document, *pair, *stretch)
        return Fight(
            leader,
            yielder,
            *zone_hz,
            key,
            inside,
            hits,
            rate,
            document.tempo_bpm,
            recording.home if recording else None,
            lengths.fall_20_s if lengths else None,
            low_sum(*sounds, rate, inside, LOWS_BELOW_HZ),
            self._recovery_s(document, *pair, stretch, inside, zone_hz),
            self.hits_s(yielder),
        )

    def _recovery_s(
        self,
        document: Session,
        leader_id: str,
        yielder_id: str,
        stretch: tuple[int, int],
        hits_s: np.ndarray,
        zone_hz: tuple[float, float],
    ) -> float | None:
        """How long the leader's hits hide the other part when nothing is done."""
        bare = without_moves(document)
        if not self.are_heard(bare, leader_id, yielder_id):
            return None
        powers = [self.loops.power(bare, part, *stretch) for part in (yielder_id, leader_id)]
        return recovery_s(*powers, hits_s, zone_hz)

    def are_heard(self, document: Session, *part_ids: str) -> bool:
        """Whether the ear tells these parts apart in the mix."""
        return set(part_ids) <= {part.id for part in self.analysis.parts(document)}

    def zone_of(
        self, document: Session, leader_id: str, yielder_id: str, start: int, frames: int
    ) -> tuple[float, float]:
        """The zone in which the pair was decided upon, or where the leader loses most untreated.

        Over the whole song if that was heard, else in the stretch: what a move gives is told in one
        zone, whatever the move does to it.
        """
        for zone in document.zones:
            if zone.leads == leader_id and yielder_id in zone.gives_way:
                return zone.low_hz, zone.high_hz
        bare = without_moves(document)
        if not self.are_heard(bare, leader_id, yielder_id):
            return ANY_ZONE_HZ
        table = self.analysis.known_table(bare) or self.loops.table(bare, start, frames)
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
        fold = kind_of(move.kind).fold(move) if move else "both"
        after = self.loops.table(document, *stretch, fold)
        before = after
        if move is not None:
            moves = [one for one in part.moves if one.id != move_id]
            without = part.model_copy(update={"moves": moves})
            parts = [without if one.id == yielder_id else one for one in document.parts]
            before = self.loops.table(document.model_copy(update={"parts": parts}), *stretch, fold)
        zone_hz = self.zone_of(document, leader_id, yielder_id, *stretch)
        return fight_evidence(before, after, leader_id, yielder_id, zone_hz)

    def findings(
        self,
        document: Session,
        part_id: str,
        move_id: str,
        start: int,
        frames: int,
        leader_id: str | None = None,
    ) -> list[Advice]:
        """What is wrong with a move over a stretch of the song, in words, with a leader in view."""
        part = document.part(part_id)
        move = move_of(part, move_id)
        now = self.now(document)
        trace = now.reductions(part_id, start, frames).get(move_id)
        key = key_in(move)
        heard_db, source_db, hit_s, gap = -200.0, -200.0, None, None
        if key is None:
            heard_db = source_db = _peak_db(now.region((part_id, "source"), start, frames))
        elif document.has_part(key.source):
            leader = document.part(key.source)
            plan = Plan("key", (part_id,), move_id)
            heard_db = _peak_db(sound_of(plan, now, start, frames))
            source_db = _peak_db(now.region((key.source, key.tap), start, frames))
            if leader.file:
                lengths = lengths_of(self.recording(leader.file).hits(leader))
                hit_s, gap = lengths.fall_20_s, lengths.gap_s
        limits = routing.limits_of(document, move)
        end = start + frames
        leader = document.part(leader_id) if leader_id and document.has_part(leader_id) else None
        return check(
            document,
            part,
            move,
            Heard(
                heard_db,
                source_db,
                _peak_db(now.region((part_id, "source"), start, frames)),
                *_moved_db(trace, kind_of(move.kind).drawn(move, WHOLE_HZ, document.rate)),
                hit_s,
                gap,
                limits is None or any(first < end and last > start for first, last in limits),
                _mean_db(trace),
            ),
            leader,
        )

    def print_to(
        self,
        document: Session,
        folder: Path,
        order: Order,
        *,
        start_s: float = 0.0,
        end_s: float | None = None,
        progress: Callable[[float], None] = lambda share: None,
    ) -> list[Path]:
        """Render what was ordered into files in `folder`, in bounded memory.

        Parts are printed as they sound in the mix: those in no group, groups and returns, so that
        their sum is the mix.
        """
        files.check_target(order.format, order.bits)
        targets = self._targets(document, order.what)
        rate = document.rate
        song = song_frames(document, self.media)
        start, end = _stretch(start_s, end_s, song, rate)
        paths = [folder / f"{name}.{order.format}" for name in targets]
        writers: list[files.Writer] = []
        done = 0
        try:
            for path in paths:
                writers.append(files.Writer(path, rate, 2, order.format, order.bits, end - start))
            for blocks in render.blocks(
                document, self.media, list(targets.values()), start, end - start
            ):
                for writer, block in zip(writers, blocks, strict=True):
                    writer.write(block)
                done += blocks[0].shape[0]
                progress(done / (end - start))
            for writer in writers:
                writer.close()
        finally:
            for writer in writers:
                writer.abandon()
        return paths

    def print_bytes(self, document: Session, order: Order) -> int:
        """Bytes that a print of the whole song takes, at most."""
        files_wanted = len(self._targets(document, order.what))
        return files_wanted * files.wav_bytes(song_frames(document, self.media), 2)

    def _targets(self, document: Session, what: str) -> dict[str, render.Target]:
        targets: dict[str, render.Target] = {}
        if what in ("mix", "both"):
            targets["mix"] = render.MIX
        chosen = document.summed() if what in ("parts", "both") else []
        if what not in ("mix", "parts", "both"):
            chosen = [document.part(what)]
        for part in chosen:
            targets[_free_name(files.safe_name(part.name), targets)] = (part.id, "after fader")
        if not targets:
            raise BadDocument("there is no part to print yet: bring in some files first")
        return targets


def _stretch(start_s: float, end_s: float | None, song: int, rate: int) -> tuple[int, int]:
    """The frames to print: within the song; BadDocument when there is nothing between."""
    for name, value in (("start", start_s), ("end", end_s)):
        if value is not None and not 0.0 <= value < math.inf:
            raise BadDocument(f"{value:g} s is not a place in the song", where=f"the {name}")
    start = round(min(start_s, song / rate) * rate)
    end = song if end_s is None else round(min(end_s, song / rate) * rate)
    if end_s is not None and end_s <= start_s:
        raise BadDocument("the stretch to print ends before it starts")
    if end <= start:
        raise BadDocument(f"the song ends at {song / rate:.2f} s, before the stretch to print starts")
    return start, end


def _free_name(name: str, taken: Iterable[str]) -> str:
    """A name that no other file has, also where small and capital letters are one."""
    lower = {one.lower() for one in taken}
    if name.lower() not in lower:
        return name
    return next(f"{name} {n}" for n in range(2, len(lower) + 3) if f"{name} {n}".lower() not in lower)


def _moved_db(trace: Traced | None, picture: Picture) -> tuple[float, float]:
    """How far a gain moves from where it rests, at most and at least."""
    if trace is None or not trace.high.size:
        return 0.0, 0.0
    moving = [band for factor in picture.factors for band in factor.moving if not band.trace]
    rest_db = -moving[0].rest_db if moving else 0.0
    low, high = float(trace.low.min()) - rest_db, float(trace.high.max()) - rest_db
    least = 0.0 if low <= 0.0 <= high else min(abs(low), abs(high))
    return max(abs(low), abs(high)), least


def _mean_db(trace: Traced | None) -> float:
    return float(trace.mean.mean()) if trace is not None and trace.mean.size else 0.0


def _peak_db(samples: np.ndarray) -> float:
    return float(to_db(np.abs(samples).max(initial=0.0)))
