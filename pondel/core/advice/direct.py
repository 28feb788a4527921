"""Of several recordings of one thing the most direct: a close microphone before a room.

part, why = most_direct(document, document.part("snare-room"), facts)
part.id, why        # "snare-close", "Keyed by Snare close: its hits fall by 20 dB in 90 ms, ..."
"""

from __future__ import annotations

from collections.abc import Collection
from typing import Protocol

import numpy as np

from pondel.core.document import Part, Session
from pondel.core.units import say

SAME_WITHIN_S, SAME_SHARE = 0.02, 0.8
SHORTER = 0.8
"""Only what falls in less than so much of the time is more direct."""


class Struck(Protocol):
    """What is asked of the sound of a part."""

    def hits_s(self, part: Part) -> np.ndarray:
        """Its hits in seconds of the song."""
        ...

    def fall_s(self, part: Part) -> float | None:
        """How long one of them takes to fall by 20 dB."""
        ...


def most_direct(
    document: Session, leader: Part, facts: Struck, giving: Collection[str] = ()
) -> tuple[Part, str]:
    """The part with the same hits whose sound is over first, and why; the leader itself without one.

    Those that give way themselves are not asked.
    """
    fall_s = facts.fall_s(leader)
    if fall_s is None:
        return leader, ""
    hits = facts.hits_s(leader)
    found, least_s = leader, SHORTER * fall_s
    for part in document.parts:
        if (
            part.id in (leader.id, *giving)
            or part.file is None
            or part.reference
            or part.role != leader.role
        ):
            continue
        own_s = facts.fall_s(part)
        if own_s is not None and own_s < least_s and _are_the_same(hits, facts.hits_s(part)):
            found, least_s = part, own_s
    if found is leader:
        return leader, ""
    return found, (
        f"Keyed by {found.name}: its hits fall by 20 dB in {say(1000 * least_s, 'ms', 0)}, those of "
        f"{leader.name} in {say(1000 * fall_s, 'ms', 0)}."
    )


def _are_the_same(hits: np.ndarray, others: np.ndarray) -> bool:
    """Whether most hits of one are hits of the other."""
    if not hits.size or not others.size:
        return False
    nearest = np.abs(hits[:, None] - others[None, :]).min(axis=1)
    return float(np.mean(nearest <= SAME_WITHIN_S)) >= SAME_SHARE
