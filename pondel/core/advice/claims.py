"""Which fights a plan for the whole mix is about: the decided ones, else those that roles ask for.

for claim in claims(document, table):
    claim.leader, claim.yielder, claim.low_hz, claim.high_hz
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from pondel.core.advice.fights import ranked, usually_leads
from pondel.core.document import Role, Session
from pondel.core.hearing.clear import CLEAR_DB, SMALLEST_CHANGE_OF_SHARE
from pondel.core.hearing.table import HiddenTable, Scope

MOST_DRAFTED = 8
LEADING: dict[Role, int] = {"voice": 0, "lead": 1, "kick": 2, "snare": 2, "bass": 2}
"""Who leads in a first draft: the voice over the lead over drums and bass over the rest."""


@dataclass(frozen=True)
class Claim:
    """One part is to lead over another in a range; empty sections: in the whole song."""

    leader: str
    yielder: str
    low_hz: float
    high_hz: float
    sections: tuple[str, ...] = ()
    is_decided: bool = True
    tier: int = 0
    """Claims of a lower tier come first."""

    @property
    def zone_hz(self) -> tuple[float, float]:
        return self.low_hz, self.high_hz

    def covers(self, other: Claim) -> bool:
        """Whether more than half of another one's range, on a logarithmic axis, lies in this one."""
        shared = min(self.high_hz, other.high_hz) / max(self.low_hz, other.low_hz)
        return shared > 1.0 and math.log(shared) > 0.5 * math.log(other.high_hz / other.low_hz)


def claims(document: Session, table: HiddenTable) -> list[Claim]:
    """The decided fights, the one that loses most first; without any, a first draft from roles."""
    found = _decided(document) or _drafted(document, table)
    return sorted(found, key=lambda one: (one.tier, -_lost(table, one)))


def _decided(document: Session) -> list[Claim]:
    return [
        Claim(zone.leads, yielder, zone.low_hz, zone.high_hz, tuple(zone.sections))
        for zone in document.zones
        for yielder in zone.gives_way
    ]


def _drafted(document: Session, table: HiddenTable) -> list[Claim]:
    """Where a part that usually leads does not stand clear of one that usually does not."""
    found = []
    for one in ranked(document, table):
        pair = one.pair
        roles = document.part(pair.hidden).role, document.part(pair.by).role
        if roles[0] not in LEADING or roles[0] == roles[1] or not usually_leads(*roles):
            continue
        if pair.share < SMALLEST_CHANGE_OF_SHARE:
            continue
        clear_db = table.clear_db(pair.hidden, Scope(zone_hz=(pair.low_hz, pair.high_hz)))
        if clear_db is not None and clear_db < CLEAR_DB:
            zone = pair.low_hz, pair.high_hz
            tier = LEADING[roles[0]]
            found.append(Claim(pair.hidden, pair.by, *zone, is_decided=False, tier=tier))
    return sorted(found, key=lambda one: one.tier)[:MOST_DRAFTED]


def _lost(table: HiddenTable, claim: Claim) -> float:
    """What the leader loses to the other part in the zone, in sones."""
    if not {claim.leader, claim.yielder} <= set(table.ids):
        return 0.0
    return table.sone(claim.leader, claim.yielder, Scope(zone_hz=claim.zone_hz))
