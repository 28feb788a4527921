"""Builds the streams of a session, from recordings to the mix."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from functools import partial

import numpy as np

from pondel.core.audio.media import Media, Reader
from pondel.core.document import Move, Part, Session
from pondel.core.dsp.decibels import to_amplitude
from pondel.core.dsp.tone import EXCERPT_S, PINK, Excerpt, Tone
from pondel.core.engine import routing
from pondel.core.engine.hits import followed_hits_s
from pondel.core.engine.routing import Node
from pondel.core.engine.streams import (
    Branch,
    Centred,
    Faded,
    KeyStream,
    Limited,
    LimitedInput,
    RecordingStream,
    RingingOn,
    Silence,
    Stream,
    Sum,
    Tee,
    Treated,
)
from pondel.core.errors import BadRecording
from pondel.core.moves.base import Place, Remembering, Ringing, TraceLog
from pondel.core.moves.describe import Tap
from pondel.core.moves.registry import kind_of


class TraceLogs(dict[tuple[str, str], TraceLog]):
    """Traces by part and move, "move/band" for a band; `begun` makes the log of one."""

    begun: type[TraceLog] = TraceLog


class _Logs:
    """Writes a move's traces, one log for the whole of it and one for each of its bands."""

    def __init__(self, traces: TraceLogs, part: str, move: str, rate: int) -> None:
        self._traces, self._part, self._move, self._rate = traces, part, move, rate
        self.lag = 0

    def __call__(self, values: np.ndarray, band: int | str | None = None) -> None:
        name = (self._part, self._move if band is None else f"{self._move}/{band}")
        log = self._traces.get(name)
        if log is None:
            log = self._traces[name] = self._traces.begun(self._rate, self.lag)
        log.write(values)


class Graph:
    """All streams of a session from one position on.

    Each node, and each key with equal settings, is computed once however many listen to it.
    `borrow`, when given, may supply a node's sound from elsewhere (a cache); it is asked for
    every node but `own`. `traces` are filled from `trace_from` frames after the position on. With
    `chain_from` the moves of `own` begin behind so many of them, with what left those.
    """

    def __init__(
        self,
        session: Session,
        media: Media,
        position: int = 0,
        *,
        traces: TraceLogs | None = None,
        trace_from: int = 0,
        own: Node | None = None,
        chain_from: tuple[int, Stream] | None = None,
        borrow: Callable[[Node, int], Stream | None] = lambda node, position: None,
    ) -> None:
        self._session = session
        self._media = media
        self._position = position
        self._traces = traces
        self._trace_from = trace_from
        self._own = own
        self._chain_from = chain_from
        self._borrow = borrow
        self._tees: dict[Node, Tee] = {}
        self._keys: dict[str, Tee] = {}
        self.remembering: list[Remembering] = []
        """The processors among those built so far whose state may be of any age."""
        self.ringing: dict[str, Ringing] = {}
        """Those built so far that sound on for seconds, by the move that each is."""

    def node(self, node: Node) -> Branch:
        """One more reader of the sound at a node."""
        if node not in self._tees:
            borrowed = None if node == self._own else self._borrow(node, self._position)
            self._tees[node] = Tee(borrowed or self._build(node))
        return self._tees[node].branch()

    def mix(self) -> Stream:
        """The sum of all audible parts, stereo."""
        parts: list[Stream] = [self.node((part.id, "after fader")) for part in self._session.summed()]
        return Sum(parts) if parts else Faded(Silence(), Part(id="none", name="none", file=""))

    def key(self, part: Part, move: Move) -> Stream | None:
        """What the move's detector hears; None when it listens to its own part."""
        key = routing.key_of(self._session, move)
        if key is None:
            return None
        if not self._session.has_part(key.source):
            return Silence()
        settings = key.model_dump_json()
        if settings not in self._keys:
            keyed = KeyStream(self.node((key.source, key.tap)), key, self._session.rate)
            self._keys[settings] = Tee(keyed)
        return self._keys[settings].branch()

    def _build(self, node: Node) -> Stream:
        part_id, tap = node
        part = self._session.part(part_id)
        if tap == "after fader":
            # Without moves nothing is before the fader but the source, which need not be kept twice.
            before: Tap = "before fader" if routing.active_moves(part) else "source"
            return Faded(self.node((part_id, before)), part)
        if tap == "source":
            return self._source(part)
        begun = self._chain_from if node == self._own else None
        done, stream = begun or (0, self.node((part_id, "source")))
        for move in routing.active_moves(part)[done:]:
            stream = self._treated(stream, part, move)
        return stream

    def _source(self, part: Part) -> Stream:
        if part.source == "file":
            first = round(part.start_s * self._session.rate)
            reader = open_part(self._media, part)
            return RecordingStream(reader, first, part.trim_db, self._position)
        sends = routing.senders(self._session, part.id)
        if not sends:
            return Silence()
        gains = [float(to_amplitude(level_db + part.trim_db)) for _, _, level_db in sends]
        return Sum([self.node((sender.id, tap)) for sender, tap, _ in sends], gains)

    def _treated(self, stream: Stream, part: Part, move: Move) -> Stream:
        treated = self._at_work(stream, part, move)
        return treated if treated.channels == stream.channels else Centred(treated)

    def _at_work(self, stream: Stream, part: Part, move: Move) -> Stream:
        rate = self._session.rate
        log = None if self._traces is None else _Logs(self._traces, part.id, move.id, rate)
        processor = kind_of(move.kind).at_work(move, rate, stream.channels, log)
        if isinstance(processor, Remembering):
            self.remembering.append(processor)
        if isinstance(processor, Ringing):
            self.ringing[move.id] = processor
        if log is not None:
            log.lag = self._trace_from + processor.latency
        start_at = getattr(processor, "start_at", None)
        if start_at is not None:
            hits_s = followed_hits_s(self._session, self._media, part, move)
            tone = partial(part_tone, self._session, self._media, part)
            start_at(Place(self._position, self._session.beats(), hits_s, tone))
        kind, limits = kind_of(move.kind), routing.limits_of(self._session, move)
        channels = kind.channels_out(move, stream.channels)
        key = self.key(part, move)
        if limits is None:
            return Treated(stream, processor, key, channels)
        if kind.limits_input:
            fade = round(routing.CROSSFADE_S * rate)
            limited = LimitedInput(stream, self._position, limits, fade)
            return RingingOn(Treated(limited, processor, key, channels), limited)
        treated = Treated(stream, processor, key, channels, keeps_untreated=True)
        fade = round(routing.CROSSFADE_S * rate)
        beside = kind.in_phase(move, rate, stream.channels)
        return Limited(treated, beside, self._position, limits, fade)


def open_part(media: Media, part: Part) -> Reader:
    """A part's recording; BadRecording, naming the part, when it is not there as it should be."""
    try:
        return media.open(part.file or "")
    except BadRecording as error:
        raise BadRecording(error.message, where=part.name) from error


def part_tone(session: Session, media: Media, part: Part) -> Tone:
    """The average spectrum of a part's recording and its loudest seconds, trimmed.

    That of pink noise where it has none.
    """
    if part.file is None:
        return PINK
    try:
        tone = media.tone(part.file, session.rate)
    except BadRecording as error:
        raise BadRecording(error.message, where=part.name) from error
    first, frames = round(tone.loudest_s * session.rate), round(EXCERPT_S * session.rate)
    gain = np.float32(to_amplitude(part.trim_db))

    def read() -> np.ndarray:
        return open_part(media, part).read(first, frames).mean(axis=1) * gain

    power = float(tone.left.sum() + tone.right.sum())
    return replace(tone, excerpt=Excerpt(f"{part.file} {part.trim_db} {power}", read))


def song_frames(session: Session, media: Media, *, readable: bool = False) -> int:
    """Frames from the start of the song to the end of its longest part, moved later or not.

    References do not count: they are not of the song.

    A recording that cannot be read raises BadRecording, or counts for nothing where only those that
    are `readable` are asked for.
    """
    later_s: dict[str, float] = {}
    longest = 0
    for part in session.parts:
        if part.file is None or part.reference:
            continue
        try:
            frames = media.frames(part.file)
        except BadRecording as error:
            if not readable:
                raise BadRecording(error.message, where=part.name) from error
            continue
        end_s = part.start_s + _later_s(session, part, later_s)
        longest = max(longest, math.ceil(end_s * session.rate - 1e-6) + frames)
    return longest


def _later_s(session: Session, part: Part, known: dict[str, float]) -> float:
    """How much later a part's end is heard, by its own moves and those of what it feeds."""
    if part.id not in known:
        fed = [send.to for send in part.sends] + ([part.group] if part.group else [])
        own = sum(kind_of(move.kind).later_s(move) for move in routing.active_moves(part))
        beyond = max((_later_s(session, session.part(one), known) for one in fed), default=0.0)
        known[part.id] = own + beyond
    return known[part.id]
