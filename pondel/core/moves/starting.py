"""What starting points share: attack, hold and release, and the threshold that reaches an amount.

The amount is the trade's (`amounts.py`); the gain is back when the part would be heard again, and
before nine of ten next hits; what of the leader is to come through sets attack, hold and knee.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial
from itertools import pairwise
from typing import Any

import numpy as np

from pondel.core.dsp.decibels import to_db
from pondel.core.dsp.scale import cam_of, hz_of
from pondel.core.moves.base import MoveBase, Processor, Trace
from pondel.core.moves.fight import Fight
from pondel.core.units import say

AFTER_HIT_S = 0.2
FIT_S = 5.0
BACK_DB = 1.0
NINE_OF_TEN = 0.9
EARLY = 0.95
RELEASE_MS = (20.0, 400.0)
HELD_ATTACK_MS, HELD_RELEASE_MS = 8.0, 160.0
RINGS = 1.5
"""What falls by 20 dB in a time has fallen by 30 dB in half as long again."""
RANGE = 1.5
"""Louder hits than the usual one take at most so much of the amount."""
LOWEST_CUT_HZ, HIGHEST_CUT_HZ = 20.0, 18_000.0
NEAR_DB, TRIES, ROUNDS = 0.2, 8, 6
TOLD = 0.4
LOWEST_DB, USUAL_SLOPE, LEAST_SLOPE = -80.0, -0.7, -0.15
LATE, HARDLY_SOONER = 1.2, 0.95
Make = Callable[[Any, int, int, Trace | None], Processor]


@dataclass(frozen=True)
class Through:
    """What of the leader is to come through, and what that asks of a detector."""

    attack_ms: float
    knee_db: float
    hold_share: float
    """Of the time until the gain is back."""
    words: str


THROUGH = {
    "snap": Through(1.0, 3.0, 0.15, "at once, for the snap"),
    "body": Through(3.0, 6.0, 0.5, "short enough to catch the hit, long enough not to click"),
    "ring": Through(15.0, 9.0, 0.6, "late: the snap is heard already, its ring needs the room"),
}
OUTSIDE_CAM = 1.25
"""So far outside a zone, in critical bandwidths, its edges are masked from too."""
SNAP_S = 0.1
BELL_DB = 4.0


@dataclass(frozen=True)
class Timing:
    """How a gain moves; `due_s` is when it is to be back, after a hit."""

    attack_ms: float
    hold_ms: float
    release_ms: float
    knee_db: float
    due_s: float | None

    def values(self, *names: str) -> dict[str, float]:
        """The named fields as settings."""
        return {name: getattr(self, name) for name in names}

    def why(self, fight: Fight, back_s: float | None = None) -> list[str]:
        """A sentence for the attack and one for the return, which was found to take `back_s`."""
        said = f"Attack {say(self.attack_ms, 'ms')}: {THROUGH[fight.comes_through].words}."
        times = f"Release {say(self.release_ms, 'ms')}"
        if self.hold_ms:
            times = f"Hold {say(self.hold_ms, 'ms')}, release {say(self.release_ms, 'ms')}"
        back_s = back_s or self.due_s or 0.0
        if self.due_s is None:
            return [said, f"{times}: {fight.leader.name} holds its notes, and the gain follows them."]
        back = f"back to 1 dB {back_s * 1000:.0f} ms after a hit"
        if fight.recovery_s is None:
            gap_ms = 1000.0 * (fight.gap_s or 0.0)
            return [said, f"{times}: {back}; the next one comes after {gap_ms:.0f} ms."]
        hides = f"{fight.leader.name} hides {fight.yielder.name} there for"
        return [said, f"{times}: {back}; {hides} {fight.recovery_s * 1000:.0f} ms."]


def key_of(fight: Fight) -> dict[str, Any]:
    return {"source": fight.leader.id, "tap": "source"}


def shortest_gap_s(fight: Fight) -> float | None:
    """Nine of ten gaps between the leader's hits are longer; None without regular hits."""
    if fight.gap_s is None:
        return None
    return float(np.quantile(np.diff(np.sort(fight.hits_s)), 1.0 - NINE_OF_TEN))


def due_s(fight: Fight) -> float | None:
    """When after a hit a gain is to be back; None without regular hits, or where they are held.

    When the part would be heard again of itself, or after two thirds of the gap where that is not
    known; sooner where only the leader's snap is to come through, as late as it rings where that is;
    never later than the hit has fallen by 30 dB.
    """
    gap, shortest = fight.gap_s, shortest_gap_s(fight)
    if gap is None or shortest is None or fight.hit_s is None:
        return None
    due = fight.recovery_s if fight.recovery_s is not None else gap * 2.0 / 3.0
    if fight.comes_through == "snap":
        due = min(due, SNAP_S)
    if fight.comes_through == "ring":
        due = max(due, fight.hit_s)
    return min(due, RINGS * fight.hit_s, EARLY * shortest)


def timing_for(fight: Fight, wanted_db: float) -> Timing:
    """Attack, hold and release for an amount.

    After the hold the reduction falls exponentially, in dB: from the amount to 1 dB in
    ln(amount / 1 dB) time constants.
    """
    through, due = THROUGH[fight.comes_through], due_s(fight)
    if due is None:
        # Nothing strikes and falls: the gain follows what is held, and comes back between notes.
        release_ms = HELD_RELEASE_MS
        if fight.gap_s is not None:
            release_ms = min(release_ms, 500.0 * fight.gap_s)
        return Timing(
            max(through.attack_ms, HELD_ATTACK_MS), 0.0, _release_ms(release_ms), through.knee_db, None
        )
    hold_ms = 1000.0 * through.hold_share * due
    constants = max(float(np.log(wanted_db / BACK_DB)), 0.5)
    release_ms = (1000.0 * due - hold_ms) / constants
    return Timing(
        through.attack_ms, float(round(hold_ms)), _release_ms(release_ms), through.knee_db, due
    )


def _release_ms(release_ms: float) -> float:
    return float(round(float(np.clip(release_ms, *RELEASE_MS))))


@dataclass(frozen=True)
class Fitted:
    """A first setting of a detector: what half of the hits give, and when the gain is back."""

    settings: dict[str, Any]
    threshold_db: float
    timing: Timing
    reached_db: float
    back_s: float | None

    def why(self, fight: Fight) -> list[str]:
        """A sentence for threshold, attack and return."""
        reached = (
            f"Threshold {say(self.threshold_db, 'dB')}: half of the hits give "
            f"{say(self.reached_db, 'dB')} or more."
        )
        return [reached, *self.timing.why(fight, self.back_s)]


def fitted(
    fight: Fight,
    params: type[MoveBase],
    make: Make,
    settings_at: Callable[[float, Timing], dict[str, Any]],
    wanted_db: float,
    timing: Timing | None = None,
) -> Fitted:
    """The threshold with which half of the hits reach an amount, and a return in time for the next.

    `settings_at(threshold_db, timing)` are the settings of a move of the kind that `params` and `make`
    are of; what it does is followed on the key, not rendered. Where the key holds the gain down for
    longer than there is time, hold and release are shortened.
    """
    timing = timing or timing_for(fight, wanted_db)
    loudest_db = float(to_db(np.abs(fight.key).max(initial=0.0)))
    threshold_db = min(0.0, max(LOWEST_DB, loudest_db - 2.0 * wanted_db))

    def followed(at_db: float, at: Timing) -> np.ndarray:
        move = params.model_validate({"id": "proposed", **settings_at(at_db, at)})
        return _reduction(fight, move, make)

    before_s = np.inf
    for _ in range(ROUNDS):
        threshold_db, reduction = _threshold(
            fight, partial(followed, at=timing), threshold_db, wanted_db
        )
        back_s, in_time = _returns(fight, reduction)
        is_in_time = in_time >= NINE_OF_TEN and back_s <= LATE * (timing.due_s or np.inf)
        # Where the key itself holds the gain down, a shorter return only flutters.
        if timing.due_s is None or is_in_time or back_s > HARDLY_SOONER * before_s:
            break
        before_s = back_s
        timing = replace(
            timing,
            hold_ms=float(round(0.5 * timing.hold_ms)),
            release_ms=_release_ms(0.7 * timing.release_ms),
        )
    threshold_db = float(round(2.0 * threshold_db) / 2.0)
    reduction = followed(threshold_db, timing)
    back_s, _ = _returns(fight, reduction)
    return Fitted(
        settings_at(threshold_db, timing),
        threshold_db,
        timing,
        _reached_db(fight, reduction),
        None if timing.due_s is None else back_s,
    )


def around(low_hz: float, high_hz: float) -> tuple[float, float]:
    """Where crossovers lie around a zone: a little more than a critical bandwidth outside of it.

    There its edges give way too, and what masks them from just outside (Glasberg and Moore 1990).
    """
    low, high = float(cam_of(low_hz)), float(cam_of(high_hz))
    edges = float(hz_of(max(low - OUTSIDE_CAM, 0.0))), float(hz_of(high + OUTSIDE_CAM))
    return max(edges[0], LOWEST_CUT_HZ), min(edges[1], HIGHEST_CUT_HZ)


def bell_share(fight: Fight, q: float) -> float:
    """What share of a bell's decibels the yielder's level in the zone falls by.

    After the analogue bell of the audio EQ cookbook, of a few decibels, where the share hardly
    depends on the gain.
    """
    hz = _zone_hz(fight)
    s = 1j * hz / fight.centre_hz
    gain = 10.0 ** (BELL_DB / 40.0)
    bell = (s * s + s / (gain * q) + 1.0) / (s * s + s * gain / q + 1.0)
    return float(-10.0 * np.log10(np.sum(_own_share(fight, hz) * np.abs(bell) ** 2)) / BELL_DB)


def band_share(fight: Fight, low_cut_hz: float | None, high_cut_hz: float, wanted_db: float) -> float:
    """What share of a band's decibels are taken over the zone on average, on a logarithmic axis.

    Between crossovers of Linkwitz and Riley of the fourth order (1976), whose halves stay in phase: a
    band is 1 / (1 + (f / f0)^4) of the sum below its crossover, and one less that above it.
    """
    hz = _zone_hz(fight)
    passed = 1.0 / (1.0 + (hz / high_cut_hz) ** 4)
    if low_cut_hz is not None:
        passed = passed * (1.0 - 1.0 / (1.0 + (hz / low_cut_hz) ** 4))
    done = 1.0 + (10.0 ** (-wanted_db / 20.0) - 1.0) * passed
    return float(np.mean(-20.0 * np.log10(done)) / wanted_db)


def _zone_hz(fight: Fight) -> np.ndarray:
    return np.geomspace(fight.low_hz, fight.high_hz, 33)


def _own_share(fight: Fight, hz: np.ndarray) -> np.ndarray:
    """How much of the yielder's power lies at each of these; alike where its spectrum is not known."""
    if fight.own_spectrum is None:
        return np.full(hz.size, 1.0 / hz.size)
    at_hz, at_power = fight.own_spectrum
    power = np.interp(np.log(hz), np.log(at_hz), at_power)
    return power / power.sum()


def _threshold(
    fight: Fight, followed: Callable[[float], np.ndarray], first_db: float, wanted_db: float
) -> tuple[float, np.ndarray]:
    """The threshold that reaches an amount, by secants within a bracket, and what it does."""
    low, high, at = LOWEST_DB, 0.0, first_db
    before: tuple[float, float] | None = None
    best = (at, np.zeros(0), np.inf)
    for _ in range(TRIES):
        reduction = followed(at)
        over_db = _reached_db(fight, reduction) - wanted_db
        if abs(over_db) < best[2]:
            best = at, reduction, abs(over_db)
        if abs(over_db) <= NEAR_DB:
            break
        low, high = (at, high) if over_db > 0 else (low, at)
        slope = USUAL_SLOPE
        if before is not None and at != before[0]:
            slope = min((over_db - before[1]) / (at - before[0]), LEAST_SLOPE)
        before = at, over_db
        nearer = at - over_db / slope
        # Near the end of its range a gain does not tell how far off the threshold is.
        is_told = low < nearer < high and over_db < TOLD * wanted_db
        at = nearer if is_told else 0.5 * (low + high)
    return best[0], best[1]


def _stretch(fight: Fight) -> tuple[np.ndarray, np.ndarray]:
    """The seconds of the key on which a setting is fitted, and the hits in them, in frames."""
    frames = round(FIT_S * fight.rate)
    hits = np.round(np.sort(fight.hits_s) * fight.rate).astype(int)
    return fight.key[:frames], hits[hits < min(frames, fight.key.shape[0]) - fight.rate // 20]


def _reduction(fight: Fight, move: Any, make: Make) -> np.ndarray:
    """How far a move's gain is down over the key, in dB, (frames,)."""
    traced: list[np.ndarray] = []

    def note(values: np.ndarray, band: int | str | None = None) -> None:
        if band is None:
            traced.append(values)

    key, _ = _stretch(fight)
    make(move, fight.rate, key.shape[1], note).process(key, key)
    return np.abs(np.concatenate([*traced, np.zeros(0)]))


def _reached_db(fight: Fight, reduction: np.ndarray) -> float:
    """The median of the deepest reduction after each hit, or nine tenths of all without hits."""
    _, hits = _stretch(fight)
    window = round(AFTER_HIT_S * fight.rate)
    if not reduction.size:
        return 0.0
    if not hits.size:
        return float(np.quantile(reduction, 0.9))
    return float(np.median([reduction[first : first + window].max() for first in hits]))


def _returns(fight: Fight, reduction: np.ndarray) -> tuple[float, float]:
    """After how many seconds the gain is back to 1 dB, usually; and before which share of next hits."""
    _, hits = _stretch(fight)
    if hits.size < 2 or not reduction.size:
        return 0.0, 1.0
    after, in_time = [], []
    for first, following in pairwise(hits):
        down = np.flatnonzero(reduction[first:following] > BACK_DB)
        after.append((down[-1] + 1) / fight.rate if down.size else 0.0)
        # The detector may look a little ahead of the next hit.
        ahead = max(first + 1, following - fight.rate // 200)
        in_time.append(reduction[ahead - 1] <= BACK_DB)
    return float(np.median(after)), float(np.mean(in_time))
