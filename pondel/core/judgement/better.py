"""Looking for better near a way: more relief at no more cost, by a bounded search.

    search = Search(settings)
    found = search.run(lambda settings: judge.of(...), at_most=48)
    found.settings, found.judgement      # None when nothing better was found

The search is that of Nelder and Mead (1965) as scipy has it, bounded, from the same start each time:
the same question has the same answer.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from contextlib import suppress
from copy import deepcopy
from dataclasses import dataclass
from typing import Any

import numpy as np

from pondel.core.judgement.judged import Judgement

FACTORS = {
    "attack_ms": 3.0,
    "hold_ms": 2.5,
    "release_ms": 2.5,
    "length_ms": 2.0,
    "range_db": 1.5,
    "depth_db": 1.5,
    "difference_db": 1.5,
    "gain_db": 1.5,
    "hz": 1.25,
    "low_hz": 1.4,
    "high_hz": 1.4,
    "crossovers_hz": 1.4,
    "q": 1.6,
}
"""How far each value may go, as a factor up or down; a threshold by so many dB."""
THRESHOLD, THRESHOLD_DB = "threshold_db", 6.0
WORTH_DB = 0.1
COST_WEIGHT, UNSTEADY_WEIGHT = 200.0, 0.5
COST_SLACK, UNSTEADY_SLACK_DB = 0.0005, 0.3


@dataclass(frozen=True)
class Better:
    """Settings that give more for no more."""

    settings: dict[str, Any]
    judgement: Judgement


class Stopped(Exception):
    """Somebody stopped the search."""


def _is_number(value: Any) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and value != 0.0


def turned(settings: dict[str, Any]) -> list[tuple[list[str | int], str]]:
    """The paths of the values that a search turns, each with its name."""
    found: list[tuple[list[str | int], str]] = []

    def look(value: Any, path: list[str | int], name: str) -> None:
        if isinstance(value, dict):
            if value.get("on") is False:
                return
            for key, one in value.items():
                if key not in ("key", "points"):
                    look(one, [*path, key], key)
        elif isinstance(value, list):
            for n, one in enumerate(value):
                look(one, [*path, n], name)
        elif (name in FACTORS or name == THRESHOLD) and _is_number(value):
            found.append((path, name))

    look(settings, [], "")
    return found


class Search:
    """Turns the values of a way within bounds."""

    def __init__(self, settings: dict[str, Any]) -> None:
        self._settings = settings
        self.paths = turned(settings)

    def at(self, x: np.ndarray) -> dict[str, Any]:
        """The settings at a place, each value from -1 (its least) over 0 (as it was) to 1."""
        made = deepcopy(self._settings)
        for (path, name), turn in zip(self.paths, np.clip(x, -1.0, 1.0), strict=True):
            place: Any = made
            for step in path[:-1]:
                place = place[step]
            was = place[path[-1]]
            place[path[-1]] = round(
                was + THRESHOLD_DB * float(turn)
                if name == THRESHOLD
                else was * FACTORS[name] ** float(turn),
                2,
            )
        return made

    def run(
        self,
        judge: Callable[[dict[str, Any]], Judgement | None],
        first: Judgement,
        at_most: int,
        go_on: Callable[[], bool] = lambda: True,
    ) -> Better | None:
        """The best that was found, None when nothing is better by a tenth of a decibel.

        `judge` gives None for settings that are none; `go_on` is asked before each try.
        """
        from scipy.optimize import minimize

        if not self.paths:
            return None
        cap, steady = first.fight.cost_share, first.unsteady_db
        best: list[Better] = []

        def worse(x: np.ndarray) -> float:
            if not go_on():
                raise Stopped
            settings = self.at(x)
            found = judge(settings)
            if found is None or not math.isfinite(found.relief_db):
                return 100.0
            over = max(0.0, found.fight.cost_share - cap)
            shakes = max(0.0, found.unsteady_db - steady - UNSTEADY_SLACK_DB)
            within = over <= COST_SLACK and shakes == 0.0
            if within and found.relief_db > (best[-1].judgement if best else first).relief_db:
                best.append(Better(settings, found))
            return -found.relief_db + COST_WEIGHT * over + UNSTEADY_WEIGHT * shakes

        count = len(self.paths)
        corners = np.vstack([np.zeros(count), 0.4 * np.eye(count)])
        options = {"maxfev": at_most, "initial_simplex": corners, "xatol": 0.02, "fatol": 0.01}
        # What was found until it was stopped stands.
        with suppress(Stopped):
            minimize(
                worse, np.zeros(count), method="Nelder-Mead", bounds=[(-1, 1)] * count, options=options
            )
        if not best or best[-1].judgement.relief_db < first.relief_db + WORTH_DB:
            return None
        return best[-1]
