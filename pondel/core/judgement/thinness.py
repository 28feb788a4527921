"""Thin: what all moves together took from the warmth, or from a part's own lowest octave.

found = thinned("Tuba", change_db, loudness_share, taken)
found.words()    # "Tuba lost 2.9 dB between 120 and 500 Hz, −14 % of its loudness there: EQ 2.4 dB."
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from pondel.core.units import change, say, say_hz

MIX_BEARS_DB, PART_BEARS_DB, LOWEST_BEARS_DB = 1.0, 2.0, 3.0
"""More than this off the mix, off a part, or off a part's own lowest octave, is heard as thin."""
BLAMED_DB = 0.2
WARMTH = "between 120 and 500 Hz"


@dataclass(frozen=True)
class Taken:
    """What one move took from its part by itself, in the same range."""

    part: str
    move: str
    name: str
    change_db: float


@dataclass(frozen=True)
class Thinned:
    """What a part, or the mix, lost in a range; `blamed` are its moves, the most first."""

    name: str
    change_db: float
    is_thin: bool
    lost_share: float | None = None
    """Of its loudness in that range, 0 to 1."""
    blamed: tuple[Taken, ...] = ()
    where: str = WARMTH

    def words(self) -> str:
        """In a sentence, with its moves."""
        text = f"{self.name} lost {say(-self.change_db, 'dB')} {self.where}"
        if self.lost_share is not None:
            text += f", {change(-self.lost_share)} of its loudness there"
        if not self.blamed:
            return f"{text}."
        by = ", ".join(f"{one.name} {say(-one.change_db, 'dB')}" for one in self.blamed)
        return f"{text}: {by}."


def thinned(
    name: str, change_db: float, lost_share: float | None = None, taken: Sequence[Taken] = ()
) -> Thinned:
    """A part's change of warmth, with what its moves took each by themselves."""
    return Thinned(name, change_db, change_db < -PART_BEARS_DB, lost_share, _blamed(taken))


def thinned_mix(change_db: float, lost_share: float | None = None) -> Thinned:
    """The mix's change of warmth."""
    return Thinned("The mix", change_db, change_db < -MIX_BEARS_DB, lost_share)


def lowest_octave(name: str, low_hz: float, change_db: float, taken: Sequence[Taken] = ()) -> Thinned:
    """What low cuts took of the octave in which a part's own sound begins."""
    where = f"of its own lowest octave, {say_hz(low_hz)} to {say_hz(2.0 * low_hz)}"
    return Thinned(name, change_db, change_db < -LOWEST_BEARS_DB, None, _blamed(taken), where)


def _blamed(taken: Sequence[Taken]) -> tuple[Taken, ...]:
    found = [one for one in taken if one.change_db <= -BLAMED_DB]
    return tuple(sorted(found, key=lambda one: one.change_db))
