"""Starting points for a fight: from the kind that is asked for, or the one that suits it best."""

from __future__ import annotations

import numpy as np

from pondel.core.document import Part
from pondel.core.errors import BadDocument
from pondel.core.moves.fight import Fight, Start
from pondel.core.moves.registry import KINDS, kind_of


def propose(fight: Fight, kind: str | None = None) -> Start:
    """Starting values for a move of a fight; the usual kind when none is named."""
    chosen = kind_of(kind or best_kind(fight))
    if chosen.start is None:
        raise BadDocument(f"a {chosen.in_words} makes no room for another part: add it plain")
    return chosen.start(fight)


def best_kind(fight: Fight) -> str:
    """The kind that usually solves such a fight."""
    return max(KINDS.values(), key=lambda kind: kind.suits(fight)).name


def usual_kind(leader: Part, yielder: Part, zone_hz: tuple[float, float]) -> str:
    """The kind that usually solves a fight of two parts in a zone, told before it is measured."""
    nothing = np.empty(0)
    return best_kind(Fight(leader, yielder, *zone_hz, nothing, nothing, nothing, 48_000, 120.0))
