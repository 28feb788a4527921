"""Thin: what all moves together took from the warmth between 120 and 500 Hz, and which to blame.

found = thinness(mix, parts)
found.words()        # ["The mix lost 1.4 dB between 120 and 500 Hz.", "Tuba lost 2.9 dB: ..."]
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from pondel.core.units import say

MIX_BEARS_DB, PART_BEARS_DB = 1.0, 2.0
"""More than this off the mix, or off a part, is heard as thin."""
BLAMED_DB = 0.2


@dataclass(frozen=True)
class Taken:
    """What one move took from the warmth of its part by itself."""

    part: str
    move: str
    name: str
    warmth_db: float


@dataclass(frozen=True)
class Thinned:
    """What a part, or the mix, lost of its warmth; `blamed` are its moves, the most first."""

    name: str
    warmth_db: float
    is_thin: bool
    blamed: tuple[Taken, ...] = ()

    def words(self) -> str:
        """In a sentence, with its moves."""
        text = f"{self.name} lost {say(-self.warmth_db, 'dB')} between 120 and 500 Hz"
        if not self.blamed:
            return f"{text}."
        by = ", ".join(f"{one.name} {say(-one.warmth_db, 'dB')}" for one in self.blamed)
        return f"{text}: {by}."


def thinned(name: str, warmth_db: float, taken: Sequence[Taken] = ()) -> Thinned:
    """A part's change of warmth, with what its moves took each by themselves."""
    blamed = sorted(
        (one for one in taken if one.warmth_db <= -BLAMED_DB), key=lambda one: one.warmth_db
    )
    return Thinned(name, warmth_db, warmth_db < -PART_BEARS_DB, tuple(blamed))


def thinned_mix(warmth_db: float) -> Thinned:
    """The mix's change of warmth."""
    return Thinned("The mix", warmth_db, warmth_db < -MIX_BEARS_DB)
