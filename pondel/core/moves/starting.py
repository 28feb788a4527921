"""What starting points share: releases, holds, and the threshold that reaches a wanted reduction.

Bass takes more than guitars, keys or voices; attacks are short but not clicks; the return is over
before the next hit; a bell is as wide as its zone.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from pondel.core.dsp.decibels import to_db
from pondel.core.moves.base import MoveBase, Processor, Trace
from pondel.core.moves.fight import Fight
from pondel.core.units import say

AFTER_HIT_S = 0.3
RELEASE_MS = (40.0, 400.0)
NO_HITS_RELEASE_MS = 150.0
Make = Callable[[Any, int, int, Trace | None], Processor]


def manner(fight: Fight) -> str:
    if fight.firm:
        return "a bass takes a firm duck"
    return f"{fight.yielder.role} forgives less than a bass"


def key_of(fight: Fight) -> dict[str, Any]:
    return {"source": fight.leader.id, "tap": "source"}


def release_for(fight: Fight, hold_ms: float = 0.0) -> tuple[float, str]:
    """A tenth of the reduction is left after ln 10 = 2.3 time constants.

    By then the part would be heard again of itself (`recovery_s`), or the next hit is near: the hit
    itself is over its first third of the gap, or the hold.
    """
    gap = fight.gap_s
    if gap is None:
        text = f"Release {NO_HITS_RELEASE_MS:.0f} ms: no regular hits were found to time it by."
        return NO_HITS_RELEASE_MS, text
    room_ms = min(gap * 1000.0 * 2.0 / 3.0, 0.8 * (gap * 1000.0 - hold_ms))
    recovery = fight.recovery_s
    if recovery is not None and 1000.0 * recovery - hold_ms < room_ms:
        release_ms = _release_ms(1000.0 * recovery - hold_ms)
        return release_ms, (
            f"Release {release_ms:.0f} ms: {fight.leader.name} hides {fight.yielder.name} there for "
            f"{recovery * 1000:.0f} ms after a hit, and no longer."
        )
    release_ms = _release_ms(room_ms)
    return release_ms, (
        f"Release {release_ms:.0f} ms: hits follow each other after {gap * 1000:.0f} ms, "
        "and the gain is back before the next one."
    )


def _release_ms(room_ms: float) -> float:
    return float(round(float(np.clip(room_ms / np.log(10.0), *RELEASE_MS))))


def hold_ms_for(fight: Fight) -> float:
    """Most of the time in which a hit falls by 20 dB, so that its body is heard too.

    At most half of the time for which it hides the other part.
    """
    if fight.hit_s is None:
        return 0.0
    most_ms = 300.0 if fight.recovery_s is None else 500.0 * fight.recovery_s
    return float(round(min(800.0 * fight.hit_s, most_ms)))


def reduction_reached(fight: Fight, move: Any, make: Make) -> float:
    """The median of the deepest reduction after each hit, or nine tenths of all without hits."""
    traced: list[np.ndarray] = []

    def note(values: np.ndarray, band: int | str | None = None) -> None:
        if band is None:
            traced.append(values)

    make(move, fight.rate, fight.key.shape[1], note).process(fight.key, fight.key)
    reduction = np.abs(np.concatenate(traced))
    window = round(AFTER_HIT_S * fight.rate)
    starts = [round(hit * fight.rate) for hit in fight.hits_s if hit * fight.rate < reduction.size]
    if not starts:
        return float(np.quantile(reduction, 0.9))
    return float(np.median([reduction[first : first + window].max() for first in starts]))


def fitted(
    fight: Fight,
    params: type[MoveBase],
    make: Make,
    settings_at: Callable[[float], dict[str, Any]],
    wanted_db: float,
) -> tuple[float, float]:
    """The highest threshold with which half of the hits reach a reduction, and what they reach.

    `settings_at(threshold)` are the settings of a move of the kind that `params` and `make` are of.
    """

    def reached(threshold: float) -> float:
        move = params.model_validate({"id": "proposed", **settings_at(threshold)})
        return reduction_reached(fight, move, make)

    low, high = -80.0, min(0.0, float(np.ceil(to_db(np.abs(fight.key).max(initial=0.0)))))
    if high <= low:
        return low, 0.0
    while high - low > 0.5:
        middle = (low + high) / 2
        if reached(middle) >= wanted_db:
            low = middle
        else:
            high = middle
    threshold = float(np.floor(2 * low) / 2)
    return threshold, reached(threshold)


def threshold_words(threshold: float, reached: float) -> str:
    return f"Threshold {say(threshold, 'dB')}: half of the hits give {say(reached, 'dB')} or more."
