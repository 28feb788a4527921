"""Which fights matter: the loss of a part that should lead counts more than that of its backing."""

from __future__ import annotations

from dataclasses import dataclass

from pondel.core.document import Role, Session
from pondel.core.hearing.table import WHOLE, HiddenPair, HiddenTable, Scope

PRECEDENCE: tuple[Role, ...] = (
    "voice",
    "lead",
    "kick",
    "snare",
    "bass",
    "keys",
    "guitar",
    "strings",
    "brass",
    "percussion",
    "hats",
    "backing voice",
    "pad",
    "effect",
    "other",
)
"""Who usually leads when two parts meet, first to last."""
BACKING_WEIGHT = 0.4


@dataclass(frozen=True)
class RankedPair:
    """A pair and its weight in the ranking: the hidden share, less where that is as it should be.

    It is where the one that hides leads, as was decided or as it usually does: a voice over a pad.
    """

    pair: HiddenPair
    weight: float
    is_as_it_should_be: bool


def usually_leads(one: Role, other: Role) -> bool:
    """Whether a part of the first role usually leads over one of the second."""
    return PRECEDENCE.index(one) <= PRECEDENCE.index(other)


def ranked(session: Session, table: HiddenTable, scope: Scope = WHOLE) -> list[RankedPair]:
    """All pairs, the fight that matters most first."""
    decided = {(zone.leads, part) for zone in session.zones for part in zone.gives_way}
    found = []
    for pair in table.pairs(scope):
        leads = usually_leads(session.part(pair.hidden).role, session.part(pair.by).role)
        if (pair.hidden, pair.by) in decided or (pair.by, pair.hidden) in decided:
            leads = (pair.hidden, pair.by) in decided
        weight = pair.share * (1.0 if leads else BACKING_WEIGHT)
        found.append(RankedPair(pair, weight, not leads))
    return sorted(found, key=lambda one: (-one.weight, one.pair.hidden, one.pair.by))
