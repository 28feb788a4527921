"""The gain of every dynamic move of a part, frame by frame, and the responses of still ones.

gains_db(session, media, "tuba", 0, frames)      # {"m1": float32 (frames,), "m1/0": ...}
impulse(session, move, rate, 2)                  # float32 (frames, channels)
"""

from __future__ import annotations

import math
from functools import partial

import numpy as np

from pondel.core.audio.media import Media
from pondel.core.document import Move, Part, Session
from pondel.core.engine import render
from pondel.core.engine.graph import TraceLogs, part_tone
from pondel.core.moves.base import Place, TraceLog
from pondel.core.moves.registry import kind_of

MOST_BANDS, CHANNELS = 8, 2
LONGEST_IMPULSE_S = 10.0
LEAST_IMPULSE_S = 0.05


class _EveryFrame(TraceLog):
    """Keeps every frame as it comes."""

    def write(self, values: np.ndarray) -> None:
        dropped = min(self.lag, values.size)
        self.lag -= dropped
        self.mean.append(np.asarray(values[dropped:], np.float32).copy())


class _EveryFrames(TraceLogs):
    begun = _EveryFrame


def gains_db(
    session: Session, media: Media, part: str, start: int, frames: int
) -> dict[str, np.ndarray]:
    """What each move at work on a part does to it, in dB, by the move's id; bands by "id/number".

    float32 (frames,), negative where it takes, mix and make-up counted. Bells that only serve one
    another are left out.
    """
    logs = _EveryFrames()
    for _ in render.blocks(session, media, [(part, "before fader")], start, frames, traces=logs):
        pass
    found = {}
    for (of, name), log in logs.items():
        band = name.partition("/")[2]
        if of == part and (not band or (band.isdecimal() and int(band) < MOST_BANDS)):
            whole = np.concatenate(log.mean)[:frames] if log.mean else np.empty(0, np.float32)
            found[name] = np.pad(-whole, (0, frames - whole.size))
    return found


def impulse(session: Session, media: Media, part: Part, move: Move) -> np.ndarray | None:
    """What a still move makes of an impulse, float32 (frames, 2), its latency taken out.

    None for a move that moves, that acts on one channel or on the middle or the sides alone.
    """
    kind, rate = kind_of(move.kind), session.rate
    if not kind.is_still(move) or kind.judged_in(move) != "both":
        return None
    processor = kind.at_work(move, rate, CHANNELS)
    start_at = getattr(processor, "start_at", None)
    if start_at is not None:
        start_at(Place(0, session.beats(), tone=partial(part_tone, session, media, part)))
    seconds = min(max(kind.settle_s(move), kind.rings_s(move), LEAST_IMPULSE_S), LONGEST_IMPULSE_S)
    frames = math.ceil(seconds * rate)
    sound = np.zeros((frames + processor.latency, CHANNELS), np.float32)
    sound[0] = 1.0
    return processor.process(sound, None)[processor.latency :]
