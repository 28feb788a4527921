"""How long the hits and the notes last, and what that means for two parts that share an octave."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from pondel.core.dsp.timing import gap_s
from pondel.core.measures.hits import Onset

LONG_HIT_BEATS = 0.5
LONG_NOTE_BEATS = 0.5
OVERLAP = 0.5
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


def overlap_share(hits: Sequence[Onset], notes: Sequence[Onset]) -> float:
    """On what share of the hits a note of the other part sounds for at least half of the hit.

    A hit, or a note, lasts until it has fallen by 20 dB or the next one begins.
    """
    if not hits or not notes:
        return 0.0
    ends = _ends(hits)
    starts, stops = np.array([note.time_s for note in notes]), _ends(notes)
    together = 0
    for hit, own_end in zip(hits, ends, strict=True):
        end = min(float(own_end), hit.time_s + 1.0)
        shared = np.minimum(stops, end) - np.maximum(starts, hit.time_s)
        if np.clip(shared, 0.0, None).sum() >= OVERLAP * (end - hit.time_s):
            together += 1
    return together / len(hits)


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
