"""Starting points for every move of a fight, computed from measurement, each with its reasons.

Bass takes more than guitars, keys or voices; attacks are short but not clicks; the return is over
before the next hit; a bell is as wide as its zone.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from pondel.core.document import Part
from pondel.core.dsp.cascade import Cascade
from pondel.core.dsp.decibels import to_db
from pondel.core.dsp.moving import band_pass
from pondel.core.dsp.timing import gap_s
from pondel.core.errors import BadDocument
from pondel.core.measures.home import Home
from pondel.core.measures.lowsum import LowSum
from pondel.core.moves import kind_of
from pondel.core.units import say, say_hz

AFTER_HIT_S = 0.3
LOW_ZONE_HZ = 200.0
RELEASE_MS = (40.0, 400.0)
NO_HITS_RELEASE_MS = 150.0


@dataclass(frozen=True)
class Proposal:
    """Settings of a move, and one sentence for each of the settings that were computed."""

    settings: dict[str, Any]
    reasons: list[str]


@dataclass(frozen=True)
class Fight:
    """What is known of a fight where a move is wanted.

    `key` is the leader at source over a stretch, float32 (frames, channels); `hits_s` its hits in
    seconds from the stretch's start, `song_hits_s` those of the whole song.
    """

    leader: Part
    yielder: Part
    low_hz: float
    high_hz: float
    key: np.ndarray
    hits_s: np.ndarray
    song_hits_s: np.ndarray
    rate: int
    tempo_bpm: float
    home: Home | None = None
    hit_s: float | None = None
    lows: LowSum | None = None

    @property
    def firm(self) -> bool:
        return self.yielder.role == "bass"

    @property
    def is_low(self) -> bool:
        """Whether the fight is below, say, 200 Hz, so that one crossover parts it from the rest."""
        return self.low_hz < 60.0 and self.high_hz < LOW_ZONE_HZ * 1.6

    @property
    def centre_hz(self) -> float:
        return float(np.sqrt(self.low_hz * self.high_hz))

    @property
    def zone(self) -> str:
        return f"{say_hz(self.low_hz)} to {say_hz(self.high_hz)}"


def _manner(fight: Fight) -> str:
    if fight.firm:
        return "a bass takes a firm duck"
    return f"{fight.yielder.role} forgives less than a bass"


def _key(fight: Fight) -> dict[str, Any]:
    return {"source": fight.leader.id, "tap": "source"}


def _release(fight: Fight, hold_ms: float = 0.0) -> tuple[float, str]:
    """A tenth of the reduction is left after ln 10 = 2.3 time constants.

    The hit itself is over its first third of the gap, or the hold; the return has the rest.
    """
    gap = gap_s(fight.hits_s)
    if gap is None:
        text = f"Release {NO_HITS_RELEASE_MS:.0f} ms: no regular hits were found to time it by."
        return NO_HITS_RELEASE_MS, text
    room_ms = min(gap * 1000.0 * 2.0 / 3.0, 0.8 * (gap * 1000.0 - hold_ms))
    release_ms = float(np.clip(room_ms / np.log(10.0), *RELEASE_MS))
    release_ms = float(round(release_ms))
    return release_ms, (
        f"Release {release_ms:.0f} ms: hits follow each other after {gap * 1000:.0f} ms, "
        "and the gain is back before the next one."
    )


def _hold_ms(fight: Fight) -> float:
    """Most of the time in which a hit falls by 20 dB, so that its body is heard too."""
    return 0.0 if fight.hit_s is None else float(round(min(800.0 * fight.hit_s, 300.0)))


def reduction_reached(fight: Fight, settings: dict[str, Any]) -> float:
    """The median of the deepest reduction after each hit, or nine tenths of all without hits."""
    kind = kind_of(settings["kind"])
    move = kind.params(id="proposed", **settings)
    traced: list[np.ndarray] = []

    def note(values: np.ndarray, band: int | None = None) -> None:
        if band is None:
            traced.append(values)

    kind.make(move, fight.rate, fight.key.shape[1], note).process(fight.key, fight.key)
    reduction = np.abs(np.concatenate(traced))
    window = round(AFTER_HIT_S * fight.rate)
    starts = [round(hit * fight.rate) for hit in fight.hits_s if hit * fight.rate < reduction.size]
    if not starts:
        return float(np.quantile(reduction, 0.9))
    return float(np.median([reduction[first : first + window].max() for first in starts]))


def fitted(
    fight: Fight, settings_at: Callable[[float], dict[str, Any]], wanted_db: float
) -> tuple[float, float]:
    """The highest threshold with which half of the hits reach a reduction, and what they reach."""
    low, high = -80.0, min(0.0, float(np.ceil(to_db(np.abs(fight.key).max(initial=0.0)))))
    if high <= low:
        return low, 0.0
    while high - low > 0.5:
        middle = (low + high) / 2
        if reduction_reached(fight, settings_at(middle)) >= wanted_db:
            low = middle
        else:
            high = middle
    threshold = float(np.floor(2 * low) / 2)
    return threshold, reduction_reached(fight, settings_at(threshold))


def _threshold_words(threshold: float, reached: float) -> str:
    return f"Threshold {say(threshold, 'dB')}: half of the hits give {say(reached, 'dB')} or more."


def compressor(fight: Fight) -> Proposal:
    """A full-band duck."""
    ratio = 4.0 if fight.firm else 2.5
    release_ms, why = _release(fight)
    settings = {
        "kind": "compressor",
        "key": _key(fight),
        "ratio": ratio,
        "knee_db": 6.0,
        "attack_ms": 2.0,
        "release_ms": release_ms,
        "range_db": 12.0 if fight.firm else 8.0,
    }
    wanted = 4.0 if fight.firm else 3.0
    threshold, reached = fitted(fight, lambda t: {**settings, "threshold_db": t}, wanted)
    return Proposal(
        {**settings, "threshold_db": threshold},
        [
            _threshold_words(threshold, reached),
            f"Ratio {ratio:g}:1: {_manner(fight)}.",
            "Attack 2 ms: short enough to catch the hit, long enough not to click.",
            why,
        ],
    )


def multiband(fight: Fight) -> Proposal:
    """Duck only the band of the fight; what lies above and below stays untouched."""
    reasons = []
    if fight.is_low:
        cut = fight.high_hz
        words = f"the fight ends there ({fight.zone})"
        if fight.home is not None and 40.0 < fight.home.crossover_hz < 400.0:
            cut = max(fight.home.crossover_hz * 1.15, min(fight.high_hz, 160.0))
            words = f"more than nine tenths of {fight.leader.name} lie below it"
        crossovers, ducked = [round(cut, 1)], 0
        reasons.append(f"Crossover {say_hz(cut)}: {words}; above it nothing changes.")
    else:
        crossovers, ducked = [round(fight.low_hz, 1), round(fight.high_hz, 1)], 1
        reasons.append(f"Crossovers {fight.zone}: the zone in which {fight.leader.name} is hidden.")
    hold_ms = _hold_ms(fight)
    release_ms, why = _release(fight, hold_ms)
    ratio = 6.0 if fight.firm else 4.0
    band = {
        "on": True,
        "ratio": ratio,
        "knee_db": 6.0,
        "attack_ms": 3.0 if fight.is_low else 5.0,
        "hold_ms": hold_ms,
        "release_ms": release_ms,
        "range_db": 20.0 if fight.firm else 10.0,
    }

    def settings_at(threshold: float) -> dict[str, Any]:
        bands: list[dict[str, Any]] = [{"on": False} for _ in range(len(crossovers) + 1)]
        bands[ducked] = {**band, "threshold_db": threshold}
        return {
            "kind": "multiband",
            "key": _key(fight),
            "crossovers_hz": crossovers,
            "bands": bands,
            "listens": "same band",
        }

    wanted = 16.0 if fight.firm else 8.0
    threshold, reached = fitted(fight, settings_at, wanted)
    reasons += [
        _threshold_words(threshold, reached),
        f"Ratio {ratio:g}:1 and a range of {say(band['range_db'], 'dB')}: {_manner(fight)}.",
        why,
        f"The band listens to the same band of {fight.leader.name}.",
    ]
    return Proposal(settings_at(threshold), reasons)


def _zone_q(fight: Fight) -> float:
    return float(np.clip(fight.centre_hz / max(fight.high_hz - fight.low_hz, 1.0), 0.3, 8.0))


def dynamic_eq(fight: Fight) -> Proposal:
    """A bell on the zone that dips while the leader sounds there."""
    release_ms, why = _release(fight)
    depth = -12.0 if fight.firm else -9.0
    q = round(_zone_q(fight), 2)
    band = {
        "shape": "bell",
        "hz": round(fight.centre_hz, 1),
        "q": q,
        "range_db": depth,
        "ratio": 4.0,
        "attack_ms": 4.0,
        "release_ms": release_ms,
    }

    def settings_at(threshold: float) -> dict[str, Any]:
        bands = [{**band, "threshold_db": threshold}]
        return {"kind": "dynamic eq", "key": _key(fight), "bands": bands}

    threshold, reached = fitted(fight, settings_at, -0.9 * depth)
    return Proposal(
        settings_at(threshold),
        [
            f"Bell at {say_hz(fight.centre_hz)}, Q {q:g}: as wide as the zone, {fight.zone}.",
            _threshold_words(threshold, reached),
            f"Range {say(depth, 'dB')}: {_manner(fight)}.",
            why,
        ],
    )


def _band_level_db(fight: Fight) -> float:
    """The leader's usual level in the zone while it sounds, in dB."""
    sos = band_pass(fight.centre_hz, max(_zone_q(fight), 1.0), fight.rate)
    heard = Cascade(sos, fight.key.shape[1]).process(np.ascontiguousarray(fight.key, np.float32))
    step = fight.rate // 50
    count = heard.shape[0] // step
    if not count:
        return -60.0
    peaks = np.abs(heard[: count * step]).max(axis=1).reshape(count, step).max(axis=1)
    return float(to_db(np.quantile(peaks, 0.8)))


def spectral_duck(fight: Fight) -> Proposal:
    """Narrow bands around the zone, each lowered by what the leader holds there."""
    low, high = max(20.0, fight.low_hz / 1.5), min(18000.0, fight.high_hz * 1.5)
    high = max(high, low * 1.3)
    level = _band_level_db(fight)
    sensitivity = float(np.clip(round(2 * (level - 20.0)) / 2, -80, 0))
    release_ms, why = _release(fight)
    depth = 12.0 if fight.firm else 9.0
    return Proposal(
        {
            "kind": "spectral duck",
            "key": _key(fight),
            "low_hz": round(low, 1),
            "high_hz": round(high, 1),
            "depth_db": depth,
            "sensitivity_db": sensitivity,
            "sharpness": 0.6,
            "attack_ms": 4.0,
            "release_ms": release_ms,
            "tilt_db_oct": 0.0,
        },
        [
            f"{say_hz(low)} to {say_hz(high)}: half an octave around the zone.",
            f"Sensitivity {say(sensitivity, 'dB')}: 20 dB under the usual level of "
            f"{fight.leader.name} there.",
            f"Depth {say(depth, 'dB')}: {_manner(fight)}.",
            why,
        ],
    )


def drawn_duck(fight: Fight) -> Proposal:
    """A curve on every hit of the leader, over as long as the hit lasts."""
    gap = gap_s(fight.hits_s)
    length_s = min(fight.hit_s or 0.25, 0.9 * gap) if gap else fight.hit_s or 0.25
    depth = 9.0 if fight.firm else 5.0
    reasons = [
        f"{fight.song_hits_s.size} hits of {fight.leader.name} set it off.",
        f"Length {length_s * 1000:.0f} ms: a hit has fallen by 20 dB by then"
        + (", and the next one is still to come." if gap else "."),
        f"Depth {say(depth, 'dB')}: {_manner(fight)}.",
    ]
    settings: dict[str, Any] = {
        "kind": "drawn duck",
        "hits_of": fight.leader.id,
        "length_ms": round(float(np.clip(length_s * 1000, 10, 8000))),
        "depth_db": depth,
        "ramp_ms": 3.0,
    }
    if fight.is_low:
        settings |= {"acts_on": "lows", "crossover_hz": round(max(fight.high_hz, 30.0), 1)}
        reasons.append(f"Lows only, below {say_hz(fight.high_hz)}: the fight ends there.")
    return Proposal(settings, reasons)


def eq(fight: Fight) -> Proposal:
    """A gentle cut of the yielder where the leader matters."""
    q = round(_zone_q(fight), 2)
    return Proposal(
        {
            "kind": "eq",
            "bands": [{"hz": round(fight.centre_hz, 1), "gain_db": -3.0, "q": q}],
        },
        [f"Bell at {say_hz(fight.centre_hz)}, −3 dB, Q {q:g}: a gentle cut as wide as {fight.zone}."],
    )


def complementary_eq(fight: Fight) -> Proposal:
    """Three decibels between both parts in the zone, half on each side."""
    q = round(_zone_q(fight), 2)
    band = {"hz": round(fight.centre_hz, 1), "q": q, "difference_db": 5.0, "share": 0.4}
    return Proposal(
        {"kind": "complementary eq", "bands": [band]},
        [
            f"{say_hz(fight.centre_hz)}, Q {q:g}: as wide as {fight.zone}.",
            f"5 dB between both: {fight.leader.name} gains 2 dB, {fight.yielder.name} gives 3 dB.",
        ],
    )


def tail_trim(fight: Fight) -> Proposal:
    """The yielder's own tails end before the next hit."""
    gap = gap_s(fight.hits_s)
    end_ms = round(min(gap * 0.9, 2.0) * 1000) if gap else 400
    return Proposal(
        {
            "kind": "tail trim",
            "end_ms": end_ms,
            "fade_ms": min(120, end_ms // 2),
        },
        [f"Ends {end_ms} ms after each hit: before the next one comes."],
    )


def alignment(fight: Fight) -> Proposal:
    """The nudge and polarity with which both lows help each other most."""
    lows = fight.lows
    if lows is None:
        return Proposal({"kind": "alignment"}, ["Both parts have no lows together to align."])
    nudge = round(lows.best_nudge_ms, 2)
    return Proposal(
        {"kind": "alignment", "nudge_ms": nudge, "inverted": lows.best_flipped},
        [
            f"{say(nudge, 'ms')}{' and turned over' if lows.best_flipped else ''}: at the hits the low "
            f"end is {say(lows.gain_db, 'dB')} against the sum of both now, "
            f"{say(lows.best_gain_db, 'dB')} then."
        ],
    )


def gate(fight: Fight) -> Proposal:
    """Opened by the leader's hits."""
    level = float(to_db(np.quantile(np.abs(fight.key), 0.99))) if fight.key.size else -40.0
    threshold = float(np.clip(round(level - 12.0), -90, 0))
    return Proposal(
        {"kind": "gate", "key": _key(fight), "threshold_db": threshold},
        [f"Threshold {say(threshold, 'dB')}: 12 dB under {fight.leader.name}'s loud moments."],
    )


def _plain(kind: str) -> Callable[[Fight], Proposal]:
    return lambda fight: Proposal({"kind": kind}, [])


PROPOSE: dict[str, Callable[[Fight], Proposal]] = {
    "compressor": compressor,
    "multiband": multiband,
    "dynamic eq": dynamic_eq,
    "spectral duck": spectral_duck,
    "drawn duck": drawn_duck,
    "eq": eq,
    "complementary eq": complementary_eq,
    "tail trim": tail_trim,
    "alignment": alignment,
    "gate": gate,
    "level": _plain("level"),
    "width": _plain("width"),
}


def propose(fight: Fight, kind: str | None = None) -> Proposal:
    """Starting values for a move of a fight; the usual kind when none is named."""
    found = PROPOSE.get(kind or best_kind(fight))
    if found is None:
        raise BadDocument(f"there is no move called {kind!r}")
    return found(fight)


def best_kind(fight: Fight) -> str:
    """The move that usually solves such a fight: by band where lows meet, else a moving bell."""
    return "multiband" if fight.is_low or fight.firm else "dynamic eq"
