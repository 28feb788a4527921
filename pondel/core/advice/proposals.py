"""Starting points for a fight: from the kind that is asked for, or the one that suits it best."""

from __future__ import annotations

from pondel.core.moves.fight import Fight, Start
from pondel.core.moves.registry import KINDS, kind_of


def propose(fight: Fight, kind: str | None = None) -> Start:
    """Starting values for a move of a fight; the usual kind when none is named."""
    return kind_of(kind or best_kind(fight)).start(fight)


def best_kind(fight: Fight) -> str:
    """The kind that usually solves such a fight."""
    return max(KINDS.values(), key=lambda kind: kind.suits(fight)).name
