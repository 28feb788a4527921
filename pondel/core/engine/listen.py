"""What the deck can play, and how it is put together from chunks."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from typing import Literal

import numpy as np

from pondel.core.document import Session, content_hash
from pondel.core.dsp import filters
from pondel.core.dsp.cascade import Cascade
from pondel.core.dsp.compiled import plain
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.engine.routing import Node, key_of
from pondel.core.engine.streams import fader_gains
from pondel.core.errors import BadDocument
from pondel.core.moves.registry import kind_of
from pondel.core.reading import parse_session, to_json

Hear = Literal[
    "mix",
    "pair",
    "part",
    "zone",
    "key",
    "reference",
    "heard",
    "heard in place",
    "lost",
    "lost in place",
]
HEARS: tuple[Hear, ...] = Hear.__args__  # type: ignore[attr-defined]
SUMMED = ("pair", "part", "zone")
SURVIVING = HEARS[6:]
"""Of a part what is heard in the mix, or lost; by itself, or in its place: `survival.py` plays them."""
ZONE_SLOPE_DB_OCT = 24
HIGHEST_ZONE_HZ = 24_000.0


@dataclass(frozen=True)
class Plan:
    """One thing to listen to.

    For a key, `parts` is the part it drives and `move` its move; a zone is the parts' sum between
    the frequencies of `zone_hz`.
    """

    hear: Hear
    parts: tuple[str, ...] = ()
    move: str | None = None
    zone_hz: tuple[float, float] | None = None


def without_moves(session: Session, of: Collection[str] | None = None) -> Session:
    """The session as it was before any treatment: every move off, or those of some parts alone.

    The hall or the echo on a return that is fed by sends is no treatment: without it, what is sent
    there would sound once more.
    """
    sent_to = {send.to for part in session.parts for send in part.sends} - session.groups()
    data = to_json(session)
    for part in data["parts"]:
        for move in part["moves"] if of is None or part["id"] in of else []:
            if part["id"] not in sent_to or not kind_of(move["kind"]).is_space:
                move["on"] = False
    return parse_session(data)


def without_contrast(session: Session) -> Session:
    """The session with every move off that stands on spectra taken from it."""
    parts = [
        part.model_copy(
            update={
                "moves": [
                    move.model_copy(update={"on": False}) if kind_of(move.kind).takes_spectra else move
                    for move in part.moves
                ]
            }
        )
        for part in session.parts
    ]
    return session.model_copy(update={"parts": parts})


def make_plan(
    session: Session,
    hear: str,
    parts: list[str] | None = None,
    move: str | None = None,
    zone_hz: tuple[float, float] | None = None,
) -> Plan:
    """A plan that fits the session; BadDocument or NotFound when it does not."""
    if hear not in HEARS:
        raise BadDocument(f"the deck can play {', '.join(HEARS)}, not {hear!r}")
    if hear == "mix":
        return Plan("mix", tuple(part.id for part in session.summed()))
    chosen = tuple(dict.fromkeys(session.part(part_id).id for part_id in parts or []))
    if not chosen:
        raise BadDocument("choose a part to hear first")
    if hear == "key":
        moves = [m for m in session.part(chosen[0]).moves if m.id == move]
        if not moves or key_of(session, moves[0]) is None:
            raise BadDocument("this move listens to its own part: choose a key first")
        return Plan("key", chosen[:1], move)
    if hear == "zone":
        if zone_hz is None or not 10 <= zone_hz[0] < zone_hz[1] <= HIGHEST_ZONE_HZ:
            raise BadDocument("choose a zone to hear first")
        return Plan("zone", chosen, None, zone_hz)
    if hear == "reference" and not session.part(chosen[0]).reference:
        raise BadDocument("this part is no reference", where=session.part(chosen[0]).name)
    return Plan(hear, chosen if hear == "pair" else chosen[:1])


def plan_hash(plan: Plan, chunked: ChunkedSession) -> str:
    """Names the sound of a plan: equal hashes mean equal sound."""
    facts: list = [plan.hear, chunked.session.rate, plan.zone_hz]
    if plan.hear == "key":
        part = chunked.session.part(plan.parts[0])
        move = next(m for m in part.moves if m.id == plan.move)
        key = key_of(chunked.session, move)
        facts += [key.model_dump(mode="json") if key else None]
        if key and chunked.session.has_part(key.source):
            facts.append(chunked.fingerprint((key.source, key.tap)))
    elif plan.hear in SURVIVING:
        every = [part.id for part in chunked.session.parts]
        facts += [chunked.fingerprint((part, "after fader")) for part in every]
        facts += [plan.parts, chunked.session.listening_level_db_spl]
    elif plan.hear == "mix":
        facts += [chunked.fingerprint((part, "after fader")) for part in plan.parts]
    else:
        facts += [chunked.fingerprint((part, "before fader")) for part in plan.parts]
        facts += [[chunked.session.part(p).fader_db, chunked.session.part(p).pan] for p in plan.parts]
    return content_hash(facts)


def plan_nodes(plan: Plan) -> list[Node]:
    """What a plan is the sum of; nothing where it is made in another way."""
    if plan.hear == "mix":
        return [(part, "after fader") for part in plan.parts]
    return [(part, "before fader") for part in plan.parts] if plan.hear in SUMMED else []


def plan_region(plan: Plan, chunked: ChunkedSession, start: int, frames: int) -> np.ndarray:
    """Stereo float32 (frames, 2) of a plan.

    A part or a pair is heard at its fader even when it is muted in the mix. A reference that ends
    before the song begins again.
    """
    if plan.hear == "reference":
        return _repeated(plan.parts[0], chunked, start, frames)
    if plan.hear == "key":
        driven, move = plan.parts[0], plan.move or ""
        size = chunked.frames
        first, last = start // size, -(-(start + frames) // size)
        heard = np.concatenate([chunked.key_heard(driven, move, i) for i in range(first, last)])
        heard = heard[start - first * size :][:frames]
        return np.repeat(heard, 2, axis=1) if heard.shape[1] == 1 else heard
    if plan.zone_hz is not None:
        return _zone_region(plan, chunked, start, frames)
    total = np.zeros((frames, 2), np.float32)
    for part_id in plan.parts:
        if plan.hear == "mix":
            total += chunked.region((part_id, "after fader"), start, frames)
            continue
        part = chunked.session.part(part_id)
        sound = chunked.region((part_id, "before fader"), start, frames)
        total += sound * np.array(fader_gains(part, sound.shape[1]), np.float32)
    return total


def _repeated(part_id: str, chunked: ChunkedSession, start: int, frames: int) -> np.ndarray:
    """A recording from its beginning, again and again; stereo float32 (frames, 2)."""
    part = chunked.session.part(part_id)
    first, length = round(part.start_s * chunked.session.rate), chunked.recording_frames(part)
    found = np.zeros((frames, 2), np.float32)
    if not length:
        return found
    gains, at = None, 0
    while at < frames:
        within = (start + at - first) % length
        count = min(frames - at, length - within)
        sound = chunked.region((part_id, "before fader"), first + within, count)
        gains = np.array(fader_gains(part, sound.shape[1]), np.float32) if gains is None else gains
        found[at : at + count] = sound * gains
        at += count
    return found


def in_zone(sound: np.ndarray, zone_hz: tuple[float, float], rate: int) -> np.ndarray:
    """What of float32 (frames, channels) lies between a low cut and a high cut of 24 dB per octave."""
    low, high = zone_hz
    for sos in (
        filters.low_cut(low, ZONE_SLOPE_DB_OCT, rate),
        filters.high_cut(high, ZONE_SLOPE_DB_OCT, rate),
    ):
        sound = Cascade(sos, sound.shape[1]).process(plain(sound))
    return sound


def _zone_region(plan: Plan, chunked: ChunkedSession, start: int, frames: int) -> np.ndarray:
    """The plan's parts in its zone, begun early enough for the cuts to settle."""
    assert plan.zone_hz is not None
    rate = chunked.session.rate
    lead = min(start, round(rate * filters.settle_s(plan.zone_hz[0], ZONE_SLOPE_DB_OCT)))
    sound = plan_region(Plan("pair", plan.parts), chunked, start - lead, frames + lead)
    return in_zone(sound, plan.zone_hz, rate)[lead:]


def plan_chunk(plan: Plan, chunked: ChunkedSession, index: int) -> np.ndarray:
    """Chunk `index` of a plan, stereo float32."""
    return plan_region(plan, chunked, index * chunked.frames, chunked.frames)
