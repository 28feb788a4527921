"""Who hides whom: the table of all parts against all others."""

from __future__ import annotations

from dataclasses import asdict, dataclass

import numpy as np

from pondel.core.hearing.excitation import CAM_STEP, CENTRES_HZ, Excitation
from pondel.core.hearing.hidden import (
    AUDIBLE_SONE,
    hidden,
    near_hits,
    partial_loudness,
    worst_zone,
)


@dataclass(frozen=True)
class HiddenPart:
    """How much of a part all others together hide, and how loud it is by itself."""

    hidden_share: float
    loudness_sone: float


@dataclass(frozen=True)
class HiddenPair:
    """What one part hides of another.

    `share` is its part of all that is hidden in the whole mix, given to the hiders in
    proportion to their excitation; `alone_share` is what it would hide by itself.
    """

    hidden: str
    by: str
    share: float
    alone_share: float
    sone: float
    low_hz: float
    high_hz: float
    on_hits: float

    def as_json(self) -> dict:
        return {k: round(v, 4) if isinstance(v, float) else v for k, v in asdict(self).items()}


LEAST_SHARE = 0.01


def hidden_table(
    excitations: dict[str, Excitation], hits_s: dict[str, np.ndarray]
) -> tuple[dict[str, HiddenPart], list[HiddenPair]]:
    """Each part against all others together and one by one; pairs worst first, in sones."""
    frames = max((e.power.shape[0] for e in excitations.values()), default=0)
    powers = {part: _padded(e.power, frames) for part, e in excitations.items()}
    total = sum(powers.values(), np.zeros((frames, CENTRES_HZ.size), np.float32))
    parts, pairs = {}, []
    for part, power in powers.items():
        others = np.maximum(total - power, 0.0)
        alone = partial_loudness(power, 0.0)
        sounds = alone.sum(axis=1) * CAM_STEP > AUDIBLE_SONE
        if not sounds.any():
            parts[part] = HiddenPart(0.0, 0.0)
            continue
        alone, heard = alone[sounds], power[sounds]
        lost = alone - np.minimum(partial_loudness(heard, others[sounds]), alone)
        whole = float(alone.sum())
        parts[part] = HiddenPart(float(lost.sum()) / whole, whole * CAM_STEP / len(alone))
        lost_per_power = lost / np.maximum(others[sounds], 1e-12)
        for other, masker in powers.items():
            if other == part:
                continue
            share = float((lost_per_power * masker[sounds]).sum()) / whole
            if share >= LEAST_SHARE:
                pairs.append(_pair(part, other, Excitation(power), Excitation(masker), share, hits_s))
    pairs.sort(key=lambda pair: -pair.sone)
    return parts, pairs


def _padded(power: np.ndarray, frames: int) -> np.ndarray:
    return np.pad(power, ((0, frames - power.shape[0]), (0, 0)))


def _pair(
    part: str,
    other: str,
    own: Excitation,
    masker: Excitation,
    share: float,
    hits_s: dict[str, np.ndarray],
) -> HiddenPair:
    found = hidden(own, masker)
    at = near_hits(hits_s.get(part, np.empty(0)), own.power.shape[0])
    zone = worst_zone(found)
    return HiddenPair(
        hidden=part,
        by=other,
        share=share,
        alone_share=found.share,
        sone=found.sone * share / max(found.share, share, 1e-9),
        low_hz=zone.low_hz if zone else 0.0,
        high_hz=zone.high_hz if zone else 0.0,
        on_hits=hidden(own, masker, at).share if at.any() else 0.0,
    )
