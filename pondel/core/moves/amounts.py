"""How far a first setting goes: the trade's amounts, and what of them a fight needs.

    amount = amount_for(fight, "band")
    amount.wanted_db        # 5.0
    amount.why              # "5 dB on the hits: usual for a bass under a kick."

A first setting is one that a mixer would keep, not the one that wins most. Where two rows of the table
fit, the smaller amount wins; a small fight needs less than a large one.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal, Protocol

import numpy as np

from pondel.core.moves.fight import Named
from pondel.core.units import say

HowFar = Literal["gentle", "usual", "strong"]
Reach = Literal["whole", "band", "drawn", "bell", "spectral", "cut", "difference"]
"""What of a part gives way: all of it, a band, a drawn curve, a bell that moves, narrow bands, a bell
that stands still, or two bells that stand apart by so much."""
STEPS: dict[str, float] = {"gentle": 0.0, "usual": 1.0, "strong": 2.0}
WHOLE_OR_BAND = ("whole", "band", "drawn")
LEADERS = ("voice", "lead")
UNCOUNTED = ("hats", "percussion", "keys", "brass", "strings")
ENOUGH_HIDDEN = 0.25
"""A fight that hides this share of the leader on its hits is worth the whole amount."""
LEAST_SCALE = 0.3


@dataclass(frozen=True)
class Row:
    """One row of the trade's table: gentle, usual and strong, in dB, and whom it is usual for."""

    amounts_db: tuple[float, float, float]
    words: str

    def at(self, far: float, scale: float = 1.0) -> float:
        """The amount at 0 (gentle) to 2 (strong)."""
        return scale * float(np.interp(far, (0.0, 1.0, 2.0), self.amounts_db))


BASS_UNDER_KICK = Row((3.0, 5.0, 9.0), "a bass under a kick")
KICK_UNDER_BASS = Row((1.5, 2.5, 4.5), "a kick under a bass")
OTHER_PARTS = Row((1.5, 3.0, 5.0), "{role} under another part")
UNDER_LEAD = Row((2.0, 3.0, 6.0), "what lies under a {leader}, in its zone")
BELL = Row((2.0, 4.0, 6.0), "a bell that moves")
SPECTRAL = Row((4.0, 6.0, 10.0), "the deepest of many narrow bands")
CUT = Row((1.5, 3.0, 5.0), "a still cut")
DIFFERENCE = Row((2.0, 4.0, 6.0), "a difference between two parts")
RETURN = Row((5.0, 9.0, 15.0), "a return under the part that feeds it")


def far_words(far: float) -> str:
    """How far something goes, in a word or four."""
    below = [name for name, at in STEPS.items() if at <= far]
    above = [name for name, at in STEPS.items() if at >= far]
    return below[-1] if below[-1] == above[0] else f"between {below[-1]} and {above[0]}"


class Sized(Protocol):
    """What of a fight decides how far to go."""

    @property
    def leader(self) -> Named: ...
    @property
    def yielder(self) -> Named: ...
    @property
    def fed(self) -> bool: ...
    @property
    def far(self) -> float: ...
    @property
    def hidden_on_hits(self) -> float | None: ...


@dataclass(frozen=True)
class Amount:
    """How many decibels a first setting takes, and why."""

    wanted_db: float
    why: str


def amount_for(fight: Sized, reach: Reach) -> Amount:
    """The amount for a fight, by what gives way."""
    if fight.fed:
        return Amount(
            RETURN.at(fight.far), f"{say(RETURN.at(fight.far), 'dB')}: {_usual(RETURN, fight)}."
        )
    row = min(_rows(fight, reach), key=lambda one: one.at(fight.far))
    table_db, scale = row.at(fight.far), scale_of(fight)
    wanted_db = float(round(2.0 * table_db * scale) / 2.0) or 0.5
    if wanted_db > table_db - 0.25:
        return Amount(table_db, f"{say(table_db, 'dB')}: {_usual(row, fight)}.")
    share = f"{100 * (fight.hidden_on_hits or 0.0):.0f} %"
    instead = f"{say(wanted_db, 'dB')}, not the {say(table_db, 'dB')} that are {_usual(row, fight)}"
    return Amount(
        wanted_db, f"{instead}: only {share} of {fight.leader.name} are hidden there on its hits."
    )


def scale_of(fight: Sized) -> float:
    """What of the amount a fight needs, from 0.3 to 1, by how much it hides."""
    if fight.hidden_on_hits is None:
        return 1.0
    return float(np.clip(fight.hidden_on_hits / ENOUGH_HIDDEN, LEAST_SCALE, 1.0))


def _rows(fight: Sized, reach: Reach) -> Iterator[Row]:
    if reach in WHOLE_OR_BAND:
        yield _by_role(fight)
    if reach in ("band", "bell", "spectral") and fight.leader.role in LEADERS:
        yield UNDER_LEAD
    own = {"bell": BELL, "spectral": SPECTRAL, "cut": CUT, "difference": DIFFERENCE}
    if reach in own:
        yield own[reach]


def _by_role(fight: Sized) -> Row:
    roles = fight.leader.role, fight.yielder.role
    if roles == ("kick", "bass"):
        return BASS_UNDER_KICK
    return KICK_UNDER_BASS if roles == ("bass", "kick") else OTHER_PARTS


def _usual(row: Row, fight: Sized) -> str:
    leader = "voice" if fight.leader.role == "voice" else "lead"
    return (
        f"{far_words(fight.far)} for {row.words.format(role=_one(fight.yielder.role), leader=leader)}"
    )


def _one(role: str) -> str:
    """A role as one of its kind: "a pad", "an effect", "brass"."""
    if role in UNCOUNTED:
        return role
    return "a part" if role == "other" else f"{'an' if role[0] in 'aeiou' else 'a'} {role}"
