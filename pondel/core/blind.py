"""A test in which nobody sees what is played: sides in hidden order, told apart by ear alone.

    test = Blind.drawn(["untreated", "A"], "A", rounds=10, seed=7)
    test = test.answered(0)             # "the first of them is A"
    test.chance                         # how likely so many are right by guessing; None until the end

The number of rounds is fixed beforehand and the result is told after the last, so that nobody stops
where luck has run well. The chance is the upper tail of the binomial distribution.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from random import Random
from typing import Any

from pondel.core.errors import BadDocument

FEWEST_ROUNDS, USUAL_ROUNDS, MOST_ROUNDS = 5, 10, 30
MOST_SIDES = 3
SURE = 0.05
"""What happens by guessing less often than this is taken for heard."""


@dataclass(frozen=True)
class Blind:
    """One test: in each round `orders` has the sides as they are played, first to last.

    Which of them is `target` is the question of every round; `answers` are places in the order.
    `kept` is the side that was liked best in the end, told after the result.
    """

    sides: tuple[str, ...]
    target: str
    orders: tuple[tuple[str, ...], ...]
    answers: tuple[int, ...] = ()
    kept: str | None = None

    @classmethod
    def drawn(cls, sides: Sequence[str], target: str, rounds: int, seed: int | None = None) -> Blind:
        """A test with its orders drawn; BadDocument when it cannot be held."""
        if not 2 <= len(set(sides)) == len(sides) <= MOST_SIDES:
            raise BadDocument(f"a blind test has two or {MOST_SIDES} sides that are not the same")
        if target not in sides:
            raise BadDocument("choose the side that is looked for among those that are played")
        if not FEWEST_ROUNDS <= rounds <= MOST_ROUNDS:
            raise BadDocument(f"choose from {FEWEST_ROUNDS} to {MOST_ROUNDS} rounds")
        draw = Random(seed)
        orders = tuple(tuple(draw.sample(list(sides), len(sides))) for _ in range(rounds))
        return cls(tuple(sides), target, orders)

    @property
    def rounds(self) -> int:
        return len(self.orders)

    @property
    def is_over(self) -> bool:
        return len(self.answers) == self.rounds

    def answered(self, place: int) -> Blind:
        """With the answer of the present round: at which place the target was heard."""
        if self.is_over:
            raise BadDocument("this test is over")
        if not 0 <= place < len(self.sides):
            raise BadDocument("choose one of those that were played")
        return replace(self, answers=(*self.answers, place))

    def keeping(self, side: str) -> Blind:
        """With the side that one would keep, once the result is told."""
        if not self.is_over:
            raise BadDocument("that is asked when the last round is over")
        if side not in self.sides:
            raise BadDocument("choose one of the sides that were played")
        return replace(self, kept=side)

    @property
    def right(self) -> int | None:
        """How many rounds were told right; None until the end."""
        if not self.is_over:
            return None
        pairs = zip(self.orders, self.answers, strict=True)
        return sum(order[place] == self.target for order, place in pairs)

    @property
    def chance(self) -> float | None:
        """How likely so many or more are right by guessing; None until the end."""
        from scipy.stats import binom

        right = self.right
        if right is None:
            return None
        return float(binom.sf(right - 1, self.rounds, 1.0 / len(self.sides)))

    @property
    def is_heard(self) -> bool:
        """Whether it was told apart: guessing does as well less than once in twenty times."""
        chance = self.chance
        return chance is not None and chance < SURE

    def told(self) -> str:
        """The result in a sentence; empty until the end."""
        right, chance = self.right, self.chance
        if right is None or chance is None:
            return ""
        odds = 1.0 / max(chance, 1e-9)
        by_luck = (
            f"by guessing that happens once in {odds:,.0f} tests"
            if odds >= 2.0
            else "by guessing that happens in most tests"
        )
        verdict = (
            "You hear it." if self.is_heard else "That may be luck: it is not shown that you hear it."
        )
        return f"{right} of {self.rounds} right; {by_luck}. {verdict}"

    def as_json(self) -> dict[str, Any]:
        return {
            "sides": self.sides,
            "target": self.target,
            "orders": self.orders,
            "answers": self.answers,
            "kept": self.kept,
        }

    @classmethod
    def of(cls, body: Any) -> Blind:
        """From what `as_json` gave."""
        orders = tuple(tuple(order) for order in body["orders"])
        return cls(
            tuple(body["sides"]), body["target"], orders, tuple(body["answers"]), body.get("kept")
        )
