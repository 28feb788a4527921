"""Where the song's beats and bars lie: one tempo throughout, or a map of tempi and signatures.

    beats = Beats([BeatChange(0.0, 104.0), BeatChange(18.46, 90.0, 3)])
    beats.quarters(np.array([18.46]))    # how many quarter notes have passed
    beats.bar_at(18.46)                  # 9.0: the ninth bar begins

Tempi count quarter notes, whatever the signature counts. Bars go on over a change of tempo; a change
of signature begins a new bar.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np

MOST_CHANGES = 4096
SAME_BPM = 0.005
"""Tempi closer than this are one."""


@dataclass(frozen=True)
class BeatChange:
    """From `at_s` on: quarter notes a minute, and a bar of so many of the note that is counted."""

    at_s: float
    bpm: float
    beats_per_bar: int = 4
    beat_note: int = 4

    @property
    def beat_s(self) -> float:
        """Seconds of a counted beat."""
        return 60.0 / self.bpm * 4.0 / self.beat_note

    @property
    def signature(self) -> tuple[int, int]:
        return self.beats_per_bar, self.beat_note


class Beats:
    """The beats of a song whose first change is at 0 s, further ones rising."""

    def __init__(self, changes: Sequence[BeatChange]) -> None:
        self._changes = list(changes)
        self._at_s = np.array([one.at_s for one in changes])
        self._quarter_s = np.array([60.0 / one.bpm for one in changes])
        passed = np.diff(self._at_s) / self._quarter_s[:-1]
        self._at_quarter = np.concatenate([[0.0], np.cumsum(passed)])
        self._bars = _first_bars(self._changes)

    def _of(self, at_s: float) -> int:
        return max(0, int(np.searchsorted(self._at_s, at_s + 1e-9, side="right")) - 1)

    def quarters(self, seconds: np.ndarray) -> np.ndarray:
        """Quarter notes that have passed."""
        n = np.maximum(np.searchsorted(self._at_s, seconds, side="right") - 1, 0)
        return self._at_quarter[n] + (seconds - self._at_s[n]) / self._quarter_s[n]

    def seconds(self, quarters: np.ndarray) -> np.ndarray:
        """When so many quarter notes have passed."""
        n = np.maximum(np.searchsorted(self._at_quarter, quarters, side="right") - 1, 0)
        return self._at_s[n] + (quarters - self._at_quarter[n]) * self._quarter_s[n]

    def quarters_s(self, seconds: np.ndarray) -> np.ndarray:
        """How long a quarter note is at each moment."""
        return self._quarter_s[np.maximum(np.searchsorted(self._at_s, seconds, side="right") - 1, 0)]

    def bpm_at(self, at_s: float) -> float:
        """Quarter notes a minute at a moment."""
        return self._changes[self._of(at_s)].bpm

    def bar_s_at(self, at_s: float) -> float:
        """How long a bar is at a moment."""
        change = self._changes[self._of(at_s)]
        return change.beat_s * change.beats_per_bar

    def bar_at(self, at_s: float) -> float:
        """The bar at a moment, the first being 1, with the share of it that has passed."""
        n = self._of(at_s)
        return self._bars[n] + (at_s - self._changes[n].at_s) / self.bar_s_at(at_s)

    def second_of_bar(self, bar: float) -> float:
        """When a bar begins."""
        n = max(0, int(np.searchsorted(self._bars, bar + 1e-9, side="right")) - 1)
        change = self._changes[n]
        return change.at_s + (bar - self._bars[n]) * change.beat_s * change.beats_per_bar

    def facts(self) -> list[dict[str, Any]]:
        """The stretches between changes, as a page draws them; `bar` is the first's number."""
        return [
            {
                "at_s": one.at_s,
                "beat_s": one.beat_s,
                "beats_per_bar": one.beats_per_bar,
                "beat_note": one.beat_note,
                "bar": bar,
            }
            for one, bar in zip(self._changes, self._bars.tolist(), strict=True)
        ]


def _first_bars(changes: Sequence[BeatChange]) -> np.ndarray:
    """Which bar each change falls into: a whole one where the signature is another."""
    bars = [1.0]
    for before, one in pairwise(changes):
        bar = bars[-1] + (one.at_s - before.at_s) / (before.beat_s * before.beats_per_bar)
        nearest = round(bar)
        is_new = one.signature != before.signature
        bars.append(float(nearest) if abs(bar - nearest) < 1e-3 else np.ceil(bar) if is_new else bar)
    return np.array(bars)


def steady(bpm: float, beats_per_bar: int = 4, beat_note: int = 4) -> Beats:
    """One tempo throughout."""
    return Beats([BeatChange(0.0, bpm, beats_per_bar, beat_note)])


def thinned(changes: Sequence[BeatChange]) -> list[BeatChange]:
    """Changes in order, from 0 s on, without those that change nothing; the last of several at once."""
    kept: list[BeatChange] = []
    for one in sorted(changes, key=lambda change: change.at_s):
        if kept and one.at_s - kept[-1].at_s < 1e-6:
            kept[-1] = one
            kept = kept[:-1] if len(kept) > 1 and _alike(kept[-2], one) else kept
        elif not kept or not _alike(kept[-1], one):
            kept.append(one)
    return kept


def _alike(one: BeatChange, other: BeatChange) -> bool:
    return one.signature == other.signature and abs(one.bpm - other.bpm) < SAME_BPM
