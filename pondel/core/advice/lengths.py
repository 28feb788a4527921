"""How long the hits and the notes last, and what that means for two parts that share an octave."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from pondel.core.dsp.timing import gap_s
from pondel.core.measures.hits import Onset

LONG_HIT_BEATS = 0.5
LONG_NOTE_BEATS = 0.5
OVERLAP = 0.5
OVERLAP_WORTH_MENDING = 0.25
PARTED, NEARLY_PARTED = 0.2, 0.3
LEAST_KEPT, LEAST_END_S = 1 / 3, 0.06
LONGEST_HIT_S, LONGEST_NOTE_S = 1.0, 8.0
NOTE_VALUES = (
    (1 / 8, "a thirty-second"),
    (1 / 4, "a sixteenth"),
    (3 / 8, "a dotted sixteenth"),
    (1 / 2, "an eighth"),
    (3 / 4, "a dotted eighth"),
    (1.0, "a quarter"),
    (1.5, "a dotted quarter"),
    (2.0, "a half"),
    (4.0, "a whole note"),
)


@dataclass(frozen=True)
class Lengths:
    """The usual lengths of a part's hits in seconds; None where too few fall that far."""

    hits: int
    fall_20_s: float | None
    fall_40_s: float | None
    gap_s: float | None


def note_value(seconds: float, tempo_bpm: float) -> str:
    """The nearest note value: "a sixteenth", "an eighth"."""
    beats = seconds * tempo_bpm / 60.0
    return min(NOTE_VALUES, key=lambda value: abs(np.log2(max(beats, 1e-3) / value[0])))[1]


def lengths_of(hits: Sequence[Onset]) -> Lengths:
    """Median lengths of a part's hits, and the usual gap to the next."""

    def usual(values: list[float | None]) -> float | None:
        known = [value for value in values if value is not None]
        return float(np.median(known)) if len(known) * 3 >= len(values) and known else None

    return Lengths(
        len(hits),
        usual([hit.length_20_s for hit in hits]),
        usual([hit.length_40_s for hit in hits]),
        gap_s(np.array([hit.time_s for hit in hits])),
    )


def _ends(hits: Sequence[Onset]) -> np.ndarray:
    """When each hit has fallen by 20 dB, or the next one begins."""
    starts = [hit.time_s for hit in hits]
    following = [*starts[1:], np.inf]
    own = [np.inf if hit.length_20_s is None else hit.time_s + hit.length_20_s for hit in hits]
    return np.minimum(own, following)


def shared_s(hits: Sequence[Onset], notes: Sequence[Onset]) -> np.ndarray:
    """For how many seconds notes of the other part sound during each hit, and how long it lasts.

    A hit, or a note, lasts until it has fallen by 20 dB or the next one begins; a hit at most a
    second. Of shape (hits, 2).
    """
    begins = np.array([hit.time_s for hit in hits])
    ends = np.minimum(_ends(hits), begins + LONGEST_HIT_S)
    starts = np.array([note.time_s for note in notes])
    stops = np.minimum(_ends(notes), ends.max(initial=0.0) + starts.max(initial=0.0))
    # Notes do not overlap each other: until any moment so much of them has sounded.
    sounded = np.concatenate([[0.0], np.cumsum(stops - starts)])
    moments = np.column_stack([starts, stops]).ravel()
    until_then = np.column_stack([sounded[:-1], sounded[1:]]).ravel()
    shared = np.interp(ends, moments, until_then) - np.interp(begins, moments, until_then)
    return np.column_stack([shared, ends - begins])


def overlap_share(hits: Sequence[Onset], notes: Sequence[Onset]) -> float:
    """On what share of the hits a note of the other part sounds for at least half of the hit."""
    if not hits or not notes:
        return 0.0
    shared, lasting = shared_s(hits, notes).T
    return float(np.mean(shared >= OVERLAP * lasting))


def length_words(
    leader: str, hits: Sequence[Onset], yielder: str, notes: Sequence[Onset], tempo_bpm: float
) -> str | None:
    """A plain statement: "Long Kick, long Bass notes: they overlap on 78 % of hits".

    None when either part has no hits. Long means longer than an eighth note.
    """
    if not hits or not notes:
        return None
    beat_s = 60.0 / tempo_bpm

    def usual(onsets: Sequence[Onset], starts: Sequence[float]) -> float:
        return float(np.median(np.minimum(_ends(onsets) - starts, 8 * beat_s)))

    hit_s = usual(hits, [hit.time_s for hit in hits])
    note_s = usual(notes, [note.time_s for note in notes])
    hit_word = "Long" if hit_s > LONG_HIT_BEATS * beat_s else "Short"
    note_word = "long" if note_s > LONG_NOTE_BEATS * beat_s else "short"
    share = overlap_share(hits, notes)
    return (
        f"{hit_word} {leader}, {note_word} {yielder} notes: they overlap on {share * 100:.0f} % of hits"
    )


@dataclass(frozen=True)
class Shorter:
    """One of two parts with its tails ended sooner, and what that does to their overlap.

    `now_s` is its usual length, `end_s` the new one, which is `beats` quarter notes long where
    a tempo is known; both then sound together for `together_then_s` of a hit, not `together_now_s`.
    """

    is_leader: bool
    now_s: float
    end_s: float
    beats: float | None
    together_now_s: float
    together_then_s: float

    @property
    def kept(self) -> float:
        """The share of its own length that stays."""
        return self.end_s / self.now_s

    def words(self, name: str) -> str:
        """ "Shorten Tuba to an eighth (268 of 610 ms): both sound for 20 ms of a hit, not 240 ms"."""
        value = next((word for beats, word in NOTE_VALUES if beats == self.beats), None)
        end, now, then, before = (
            f"{seconds * 1000:.0f}"
            for seconds in (self.end_s, self.now_s, self.together_then_s, self.together_now_s)
        )
        to = f"{value} ({end} of {now} ms)" if value else f"{end} of {now} ms"
        return f"Shorten {name} to {to}: both sound for {then} ms of a hit, not {before} ms"


def which_to_shorten(
    hits: Sequence[Onset], notes: Sequence[Onset], tempo_bpm: float | None
) -> list[Shorter]:
    """Which of the two to shorten, the one that gives up the least of itself first.

    Of each part the longest length is taken that leaves a fifth of the time together, or else the
    one that leaves least, where that is under three tenths; note values where a tempo is known,
    sixteenths of its own length where not. Nothing where there is little to part, or where
    shortening does not part them (they begin together).
    """
    if overlap_share(hits, notes) < OVERLAP_WORTH_MENDING:
        return []
    ways = [
        _shortened(hits, lambda short: _together_s(short, notes), True, tempo_bpm),
        _shortened(notes, lambda short: _together_s(hits, short), False, tempo_bpm),
    ]
    return sorted((way for way in ways if way), key=lambda way: (-round(way.kept, 1), way.is_leader))


def _together_s(hits: Sequence[Onset], notes: Sequence[Onset]) -> float:
    return float(np.median(shared_s(hits, notes)[:, 0]))


def _shortened(
    onsets: Sequence[Onset],
    together_s: Callable[[Sequence[Onset]], float],
    is_leader: bool,
    tempo_bpm: float | None,
) -> Shorter | None:
    lasting = _ends(onsets) - np.array([onset.time_s for onset in onsets])
    own_s = float(np.median(np.minimum(lasting, LONGEST_NOTE_S)))
    ends: list[tuple[float, float | None]] = [(n * own_s / 16, None) for n in range(1, 16)]
    if tempo_bpm:
        ends = [(beats * 60.0 / tempo_bpm, beats) for beats, _ in NOTE_VALUES]
    now, best = together_s(onsets), None
    for end_s, beats in ends:
        if not max(LEAST_END_S, LEAST_KEPT * own_s) <= end_s < own_s:
            continue
        then = together_s(
            [replace(one, length_20_s=min(one.length_20_s or np.inf, end_s)) for one in onsets]
        )
        if best is None or then <= max(best.together_then_s, PARTED * now):
            best = Shorter(is_leader, own_s, end_s, beats, now, then)
    return best if best and best.together_then_s < NEARLY_PARTED * now else None
