"""Hearing what survives of a part in the mix, or what is lost: a listening aid, never printed.

    plan = make_plan(session, "heard", ["tuba"])
    sound_of(plan, chunked, start, frames)      # of the tuba, what is heard in the mix

Each place on the ear's scale is played, moment by moment, at 10 log2 of the share of its loudness that
is left: nine tenths hidden are 33 dB down. Of what is lost, at that of the share that is lost.
"""

from __future__ import annotations

import numpy as np

from pondel.core.dsp.scale import cam_of
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.engine.ears import heard_parts
from pondel.core.engine.listen import SURVIVING, Plan, plan_region
from pondel.core.hearing.in_the_mix import in_the_mix
from pondel.core.hearing.loudness import partial_loudness
from pondel.core.hearing.scale import PLACES_CAM
from pondel.core.hearing.spectra import FRAME_S

AROUND_S = 0.3
"""Before and after a stretch, so that it does not matter where it was cut out."""
HOPS = 4
"""Windows of 40 ms, one with each frame of the ear."""
LEAST_SHARE = 2.0**-6
"""60 dB down; so is what is silent by itself."""


def sound_of(plan: Plan, chunked: ChunkedSession, start: int, frames: int) -> np.ndarray:
    """Stereo float32 (frames, 2) of any plan."""
    if plan.hear in SURVIVING:
        return _surviving(plan, chunked, start, frames)
    return plan_region(plan, chunked, start, frames)


def chunk_of(plan: Plan, chunked: ChunkedSession, index: int) -> np.ndarray:
    """Chunk `index` of a plan, stereo float32."""
    return sound_of(plan, chunked, index * chunked.frames, chunked.frames)


def _surviving(plan: Plan, chunked: ChunkedSession, start: int, frames: int) -> np.ndarray:
    part, rate = plan.parts[0], chunked.session.rate
    # Windows begin at the same frames of the song, whichever stretch is asked for.
    hop = round(FRAME_S * rate)
    first = max(0, (start - round(AROUND_S * rate)) // hop * hop)
    size = start + frames + round(AROUND_S * rate) - first
    sound = _stereo(chunked.region((part, "after fader"), first, size))
    played = kept(sound, gains_of(chunked, part, first, size, is_lost="lost" in plan.hear), rate)
    inside = slice(start - first, start - first + frames)
    if "in place" not in plan.hear:
        return played[inside]
    mix = Plan("mix", tuple(one.id for one in chunked.session.summed()))
    return plan_region(mix, chunked, start, frames) + (played - sound)[inside]


def gains_of(
    chunked: ChunkedSession, part: str, start: int, frames: int, *, is_lost: bool
) -> np.ndarray:
    """Gains with which a part is played, float32 (frames of 10 ms, places)."""
    own = in_the_mix(chunked, part, start, frames).power
    others = np.zeros_like(own)
    for other in heard_parts(chunked.session):
        if other.id != part:
            others += in_the_mix(chunked, other.id, start, frames).power
    alone = partial_loudness(own)
    left = np.minimum(partial_loudness(own, others), alone)
    share = np.where(alone > 0.0, left / np.maximum(alone, 1e-9), 0.0)
    share = np.maximum(1.0 - share if is_lost else share, LEAST_SHARE)
    # 10 log2(share) dB, as a factor of amplitude.
    return (10.0 ** (0.5 * np.log2(share))).astype(np.float32)


def kept(sound: np.ndarray, gains: np.ndarray, rate: int) -> np.ndarray:
    """A sound (frames, channels) through gains (frames of 10 ms, places), float32."""
    from scipy.signal import istft, stft

    hop = round(FRAME_S * rate)
    hz, at_s, bins = stft(sound.T, rate, nperseg=HOPS * hop, noverlap=(HOPS - 1) * hop)
    rows = np.minimum(np.arange(at_s.size), gains.shape[0] - 1)
    place = np.interp(cam_of(np.maximum(hz, 1.0)), PLACES_CAM, np.arange(PLACES_CAM.size))
    below = np.minimum(place.astype(int), PLACES_CAM.size - 2)
    part = (place - below).astype(np.float32)
    chosen = gains[rows]
    factors = chosen[:, below] * (1 - part) + chosen[:, below + 1] * part
    _, out = istft(bins * factors.T, rate, nperseg=HOPS * hop, noverlap=(HOPS - 1) * hop)
    return out.T[: sound.shape[0]].astype(np.float32)


def _stereo(sound: np.ndarray) -> np.ndarray:
    return sound if sound.shape[1] == 2 else np.repeat(sound, 2, axis=1)
