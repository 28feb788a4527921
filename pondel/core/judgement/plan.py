"""A plan for the whole mix: which way to take in each fight, and which fights to leave, and why.

    best = best_of(points)                # the most room for the least cost; None when there is none
    left_why(claim, names, best, ...)     # "too small to hear: at most +0.6 dB"

A plan takes few moves, never a fader, and says of each fight that it leaves what keeps it from it.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from pondel.core.hearing.clear import SMALLEST_CHANGE_DB
from pondel.core.judgement.judged import Judgement
from pondel.core.judgement.ways import Way
from pondel.core.moves.registry import kind_of
from pondel.core.units import change, signed

MOST_MOVES = 6
MOST_COST_SHARE = 0.15
"""What takes more of a part than this is too dear."""
PERCENT_A_DB = 4.0
"""A decibel of room is worth this much of the other part's loudness."""
UNSTEADY_WEIGHT, WARMTH_WEIGHT = 0.3, 0.5
SECOND_MOVE_DB = 1.0
"""A way that changes the leader too is to be better by this than one that leaves it as it is."""
MIX_BEARS_DB = 1.0
"""A plan changes the mix's loudness and its warmth by no more than this."""


@dataclass(frozen=True)
class Candidate:
    """A way that could be taken, and what it gives and costs by itself."""

    way: Way
    judgement: Judgement

    @property
    def moves(self) -> int:
        """How many moves it lays."""
        return 2 if kind_of(self.way.kind).pair is not None else 1

    @property
    def worth_db(self) -> float:
        """Its relief, less what it costs."""
        judgement = self.judgement
        cost = max(judgement.fight.cost_share, 0.0)
        return (
            judgement.relief_db
            - 100.0 * cost / PERCENT_A_DB
            - UNSTEADY_WEIGHT * judgement.unsteady_db
            - WARMTH_WEIGHT * max(-judgement.tone.warmth_db, 0.0)
            - SECOND_MOVE_DB * (self.moves - 1)
        )

    @property
    def is_worth_it(self) -> bool:
        """Whether anyone would hear it, and nobody would miss what it takes."""
        judgement = self.judgement
        return (
            judgement.relief_db >= SMALLEST_CHANGE_DB and judgement.fight.cost_share <= MOST_COST_SHARE
        )


def best_of(candidates: Iterable[Candidate], moves_left: int = MOST_MOVES) -> Candidate | None:
    """The way with the most room for the least cost; None when none is worth it."""
    fit = [one for one in candidates if one.is_worth_it and one.moves <= moves_left]
    return max(fit, key=lambda one: one.worth_db, default=None)


def left_why(candidates: list[Candidate], would_win_db: float | None, leader: str, yielder: str) -> str:
    """Why a fight is left as it is: too small to hear, too dear, or a matter of arrangement.

    `would_win_db` is how much clearer the leader would stand were the other part not there.
    """
    if would_win_db is not None and would_win_db < SMALLEST_CHANGE_DB:
        return (
            f"a matter of arrangement: without {yielder} {leader} would stand only "
            f"{signed(would_win_db, 'dB')} clearer, others lie there too"
        )
    most = max(candidates, key=lambda one: one.judgement.relief_db, default=None)
    if most is None:
        return "no kind of move does anything here"
    if most.judgement.relief_db < SMALLEST_CHANGE_DB:
        return f"too small to hear: at most {signed(most.judgement.relief_db, 'dB')}"
    heard = [one for one in candidates if one.judgement.relief_db >= SMALLEST_CHANGE_DB]
    least = min(heard, key=lambda one: one.judgement.fight.cost_share)
    cost = change(-least.judgement.fight.cost_share)
    return f"too dear: {cost} of {yielder}'s own loudness at the least"
