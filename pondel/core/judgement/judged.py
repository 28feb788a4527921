"""One verdict on moves over a stretch, from what was heard before and after."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pondel.core.evidence import FightEvidence, fight_evidence
from pondel.core.hearing.table import HiddenTable
from pondel.core.judgement.steadiness import gain_moves_db, modulation
from pondel.core.judgement.thinness import Thinned, thinned, thinned_mix
from pondel.core.judgement.tone import ToneChange, tone_change, warmth_of_db
from pondel.core.measures.spectrum import average_spectrum
from pondel.core.measures.stereo import mono_loss_db
from pondel.core.units import change, say, say_hz, signed

LOWS_BELOW_HZ = 120.0
ON_HIT_S = 0.2
LEAST_POWER = 1e-12


@dataclass(frozen=True)
class HeardStretch:
    """A stretch as it sounds.

    `table` has both parts and all others; `yielder` is float32 (frames, channels), `yielder_sone` its
    loudness by itself, one value each frame of the ear; spectra are levels at the points of `axis_hz`.
    """

    table: HiddenTable
    yielder: np.ndarray
    yielder_sone: np.ndarray
    yielder_db: np.ndarray
    mix_warmth_db: float
    low_end_db: float | None
    mono_loss_db: float
    peak_db: float


def heard_stretch(
    table: HiddenTable,
    leader: np.ndarray,
    yielder: np.ndarray,
    mix: np.ndarray,
    yielder_sone: np.ndarray,
    hits_s: np.ndarray,
    rate: int,
) -> HeardStretch:
    """What a verdict needs of a stretch, from its sounds, float32 (frames, channels)."""
    return HeardStretch(
        table,
        yielder,
        yielder_sone,
        average_spectrum([yielder], rate),
        warmth_of_db(mix, rate),
        low_end_db(leader, yielder, rate, hits_s),
        _mono_loss_db(mix),
        _peak_db(mix),
    )


@dataclass(frozen=True)
class Told:
    """One figure: its name, its value with its unit, and what it means."""

    name: str
    value: str
    sentence: str


@dataclass(frozen=True)
class Judgement:
    """What moves gave and cost.

    `pumping` is what is added to the beating of the yielder's loudness, as a share of it;
    `low_end_db` how the low end of both together changed on the hits; `mono_loss_db` what the mix
    loses in mono, and `peak_db` how high it goes, both before and after.
    """

    fight: FightEvidence
    tone: ToneChange
    mix_warmth_db: float
    unsteady_db: float
    pumping: float
    low_end_db: float | None
    mono_loss_db: tuple[float, float]
    peak_db: tuple[float, float]

    @property
    def relief_db(self) -> float:
        """How much clearer the leader stands in its zone: on its hits, where it has any."""
        before, after = self.fight.zone.before, self.fight.zone.after
        if before.clear_on_hits_db is not None and after.clear_on_hits_db is not None:
            return after.clear_on_hits_db - before.clear_on_hits_db
        return self.fight.zone.clear_won_db or 0.0

    def thin(self, yielder: str) -> list[Thinned]:
        """The part, and the mix, where they lost more warmth than they bear."""
        every = thinned_mix(self.mix_warmth_db), thinned(yielder, self.tone.warmth_db)
        return [one for one in every if one.is_thin]

    def told(self, leader: str, yielder: str) -> list[Told]:
        """All figures in words."""
        zone, tone = self.fight.zone, self.tone
        found = []
        for name, one, other in (
            (f"{leader} stands clear", zone.before.clear_db, zone.after.clear_db),
            ("on its hits", zone.before.clear_on_hits_db, zone.after.clear_on_hits_db),
        ):
            if one is not None and other is not None:
                value = f"{signed(one, 'dB')} → {signed(other, 'dB')}"
                sentence = "a quarter of its loudness in the zone stands so far over what masks it"
                found.append(Told(name, value, sentence))
        on_hits = zone.before.on_hits, zone.after.on_hits
        hidden = on_hits if None not in on_hits else (zone.before.share, zone.after.share)
        found += [
            Told(
                f"hidden by {yielder}",
                " → ".join(f"{100 * (share or 0.0):.0f} %" for share in hidden),
                f"of {leader}'s loudness in the zone",
            ),
            Told(
                f"{yielder}'s own loudness",
                change(-self.fight.cost_share),
                "over the whole stretch, by itself",
            ),
            Told(
                "its tone",
                f"{signed(tone.largest_db, 'dB')} at {say_hz(tone.at_hz)}",
                f"the third octave that changes most; {say(tone.mean_db, 'dB')} on average",
            ),
            Told(
                "warmth, 120 to 500 Hz",
                signed(tone.warmth_db, "dB"),
                f"of {yielder}; of the mix {signed(self.mix_warmth_db, 'dB')}",
            ),
            Told("gain moves by", f"{say(self.unsteady_db, 'dB')} rms", "between the hits"),
            Told(
                "pumping",
                change(self.pumping),
                f"beating added to {yielder}'s loudness between 1 and 8 Hz",
            ),
        ]
        if self.low_end_db is not None:
            found.append(
                Told(
                    "low end together",
                    signed(self.low_end_db, "dB"),
                    f"level of both below {LOWS_BELOW_HZ:.0f} Hz on the hits",
                )
            )
        mono, peak = self.mono_loss_db, self.peak_db
        found += [
            Told("lost in mono", f"{say(mono[1], 'dB')}", f"of the mix; {say(mono[0], 'dB')} before"),
            Told("peak of the mix", f"{say(peak[1], 'dB')}FS", f"{say(peak[0], 'dB')}FS before"),
        ]
        return found


def judged(
    before: HeardStretch,
    after: HeardStretch,
    pair: tuple[str, str],
    zone_hz: tuple[float, float],
    hits_s: np.ndarray,
    rate: int,
) -> Judgement:
    """Compare two states of a stretch; hits_s: the leader's, in seconds from its first frame."""
    lows = before.low_end_db, after.low_end_db
    return Judgement(
        fight_evidence(before.table, after.table, *pair, zone_hz),
        tone_change(before.yielder_db, after.yielder_db),
        after.mix_warmth_db - before.mix_warmth_db,
        gain_moves_db(before.yielder, after.yielder, rate, hits_s),
        modulation(after.yielder_sone) - modulation(before.yielder_sone),
        None if lows[0] is None or lows[1] is None else lows[1] - lows[0],
        (before.mono_loss_db, after.mono_loss_db),
        (before.peak_db, after.peak_db),
    )


def _power(samples: np.ndarray) -> float:
    return float(np.square(samples, dtype=np.float64).mean()) if samples.size else 0.0


def low_end_db(leader: np.ndarray, yielder: np.ndarray, rate: int, hits_s: np.ndarray) -> float | None:
    """Level of both parts together below 120 Hz in the 200 ms after hits; None without hits.

    A frame counts once, however many hits it follows.
    """
    from scipy.signal import butter, sosfilt

    both = sum(one[:, 0] + one[:, -1] for one in (leader, yielder)) / 2.0
    low = sosfilt(butter(4, LOWS_BELOW_HZ, fs=rate, output="sos"), both)
    size = round(ON_HIT_S * rate)
    starts = np.round(hits_s * rate).astype(int)
    starts = starts[starts < low.size]
    if not starts.size:
        return None
    # How many windows begin before a frame, less those that have ended.
    changes = np.bincount(starts, minlength=low.size + 1)
    changes -= np.bincount(np.minimum(starts + size, low.size), minlength=low.size + 1)
    is_on_hit = np.cumsum(changes[: low.size]) > 0
    return float(10.0 * np.log10(max(_power(low[is_on_hit]), LEAST_POWER)))


def _mono_loss_db(mix: np.ndarray) -> float:
    """How much softer a mix is in mono."""
    left, right = np.ascontiguousarray(mix[:, 0]), np.ascontiguousarray(mix[:, -1])
    pairs = (left, right), (left, left), (right, right)
    products = (float(np.dot(one, other)) / max(left.size, 1) for one, other in pairs)
    return mono_loss_db(*products) or 0.0


def _peak_db(mix: np.ndarray) -> float:
    return float(20.0 * np.log10(max(float(max(mix.max(initial=0.0), -mix.min(initial=0.0))), 1e-10)))
