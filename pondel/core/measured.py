"""What is measured of a stretch of a session, once however often a screen asks.

    part_spectrum(chunked, "tuba", start, frames)     # dBFS at `axis_hz`
    plan_loudness_lufs(plan, chunked, start, frames)

It is kept among the chunks under the fingerprint of its sound: after an edit what did not change is
not measured again.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from pondel.core.dsp.fold import Fold, Side, folded, monitored
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.engine.listen import Plan, make_plan, plan_hash, plan_region
from pondel.core.engine.routing import Node
from pondel.core.engine.streams import fader_gains
from pondel.core.evidence import power_steps, small_speakers_lufs
from pondel.core.measures.hit_average import steps_db
from pondel.core.measures.loudness import loudness_lufs
from pondel.core.measures.metering import Metered, lead_frames, metered
from pondel.core.measures.spectrum import average_spectrum, moving_spectrum
from pondel.core.survival import sound_of


def part_spectrum(
    chunked: ChunkedSession,
    part_id: str,
    start: int,
    frames: int,
    fold: Side = "both",
    *,
    peak: bool = False,
) -> np.ndarray:
    """Average spectrum of a part as it sounds in the mix, dBFS at `axis_hz`; or its highest.

    `fold` is "both" (mean power of the channels), "middle", "sides", "left" or "right".
    """
    node: Node = (part_id, "after fader")

    def make() -> np.ndarray:
        blocks = folded(chunked.blocks(node, start, frames), fold)
        return average_spectrum(blocks, chunked.session.rate, peak=peak)

    return chunked.kept(("spectrum", chunked.fingerprint(node), start, frames, fold, peak), make)


def part_now(
    chunked: ChunkedSession, part_id: str, start: int, frames: int, fold: Side, at_s: np.ndarray
) -> np.ndarray:
    """Spectra of a part around moments of a stretch: dBFS, (moments, points of `axis_hz`)."""
    node: Node = (part_id, "after fader")

    def make() -> np.ndarray:
        blocks = folded(chunked.blocks(node, start, frames), fold)
        return moving_spectrum(np.concatenate(list(blocks)), chunked.session.rate, at_s)

    where = (start, frames, fold, tuple(at_s.tolist()))
    return chunked.kept(("moving spectrum", chunked.fingerprint(node), *where), make)


def plan_spectrum(
    plan: Plan, chunked: ChunkedSession, start: int, frames: int, fold: Fold, *, peak: bool
) -> np.ndarray:
    """The average or highest of something that the deck plays, such as two parts together, or the
    mix."""

    def make() -> np.ndarray:
        blocks = folded([plan_region(plan, chunked, start, frames)], fold)
        return average_spectrum(blocks, chunked.session.rate, peak=peak)

    return chunked.kept(("spectrum", plan_hash(plan, chunked), start, frames, fold, peak), make)


def plan_loudness_lufs(plan: Plan, chunked: ChunkedSession, start: int, frames: int) -> float | None:
    """Integrated loudness of what the deck plays; None where it is silent."""
    return _number(
        chunked,
        ("loudness", plan_hash(plan, chunked), start, frames),
        lambda: loudness_lufs(plan_region(plan, chunked, start, frames), chunked.session.rate),
    )


def matching_gain_db(
    plan: Plan, now: ChunkedSession, untreated: ChunkedSession, start: int, frames: int
) -> tuple[float, float | None]:
    """Gain in dB that makes the untreated sound as loud as the treated one, and the LUFS of that.

    A reference is made as loud as the mix. By integrated loudness of what is played; a gain of 0 when
    either is silent.
    """
    louder = make_plan(now.session, "mix") if plan.hear == "reference" else plan
    after = plan_loudness_lufs(louder, now, start, frames)
    before = plan_loudness_lufs(plan, untreated, start, frames)
    gain_db = after - before if after is not None and before is not None else 0.0
    return gain_db, after


def plan_metered(plan: Plan, chunked: ChunkedSession, start: int, frames: int, fold: str) -> Metered:
    """What meters show while a plan plays, in one of `MONITOR_FOLDS`."""
    rate = chunked.session.rate
    lead = lead_frames(rate)
    first = max(0, start - lead)

    def make() -> np.ndarray:
        sound = sound_of(plan, chunked, first, start + frames - first)
        before = np.zeros((lead - (start - first), 2), np.float32)
        found = metered(np.concatenate([before, monitored(sound, fold)]), rate)
        return np.stack([found.peak_dbfs, found.momentary_lufs, found.correlation])

    key = ("meters", plan_hash(plan, chunked), start, frames, fold)
    return Metered(*chunked.kept(key, make))


def part_small_speakers_lufs(
    chunked: ChunkedSession, part_id: str, start: int, frames: int
) -> float | None:
    """Loudness on small speakers of a part at its fader, muted or not."""
    node: Node = (part_id, "before fader")
    part = chunked.session.part(part_id)

    def make() -> float | None:
        sound = chunked.region(node, start, frames)
        heard = sound * np.array(fader_gains(part, sound.shape[1]), np.float32)
        return small_speakers_lufs(heard, chunked.session.rate)

    key = ("small speakers", chunked.fingerprint(node), start, frames, part.fader_db, part.pan)
    return _number(chunked, key, make)


def node_steps_db(chunked: ChunkedSession, node: Node, start: int, frames: int) -> np.ndarray:
    """Peak level of a node in dB every 2 ms."""
    return chunked.kept(
        ("peaks", chunked.fingerprint(node), start, frames),
        lambda: steps_db(chunked.region(node, start, frames), chunked.session.rate),
    )


def node_powers(
    chunked: ChunkedSession,
    node: Node,
    start: int,
    frames: int,
    zone_hz: tuple[float, float] | None = None,
) -> np.ndarray:
    """Power of a node around every 5 ms, of what lies in a zone or of all of it."""
    return chunked.kept(
        ("powers", chunked.fingerprint(node), start, frames, zone_hz),
        lambda: power_steps(chunked.region(node, start, frames), chunked.session.rate, zone_hz),
    )


def _number(
    chunked: ChunkedSession, key: tuple[object, ...], make: Callable[[], float | None]
) -> float | None:
    """A number, or none, kept as an array."""

    def in_array() -> np.ndarray:
        found = make()
        return np.array([np.nan if found is None else found])

    found = float(chunked.kept(key, in_array)[0])
    return None if np.isnan(found) else found
