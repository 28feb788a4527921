"""What is still to be heard of a mix before it is handed on, and what of it was.

listened = Listened().heard(Span(10.0, 18.5, fold="mono", level="normal"))
listened.is_done("mono", song_s=70.0)
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Any

ENOUGH_S = 8.0
"""Whoever listened so long in one way has heard it so."""
WHOLE_SHARE = 0.98
LONGEST_SPAN_S = 30.0
MOST_STRETCHES = 500
ITEMS = {
    "mono": "mono",
    "quiet": "very quiet",
    "loud": "loud",
    "sides": "the sides alone",
    "swapped": "headphones swapped",
    "song": "the whole song once",
    "blind": "blind",
}
FOLDS = {"mono": "mono", "sides": "sides", "swapped": "swapped"}
LEVELS = {"quiet": "quiet", "loud": "loud"}


@dataclass(frozen=True)
class Span:
    """A stretch of the mix with its moves, as it was played: from and to in seconds of the song."""

    start_s: float
    end_s: float
    fold: str = "stereo"
    level: str = "normal"

    @property
    def seconds(self) -> float:
        return self.end_s - self.start_s

    @property
    def is_one(self) -> bool:
        """Whether it could have been played in one go."""
        return 0.0 <= self.start_s < self.end_s and self.seconds <= LONGEST_SPAN_S


@dataclass(frozen=True)
class Listened:
    """How long a mix was heard in each way, and which stretches of the song were heard at all."""

    seconds: dict[str, float] = field(default_factory=dict)
    stretches: tuple[tuple[float, float], ...] = ()
    blind: bool = False

    def heard(self, spans: Iterable[Span]) -> Listened:
        """With some more that was played; what could not have been is left out."""
        seconds, stretches = dict(self.seconds), list(self.stretches)
        for span in spans:
            if not span.is_one:
                continue
            for item in _ways(span):
                seconds[item] = seconds.get(item, 0.0) + span.seconds
            if span.fold == "stereo":
                stretches = _joined([*stretches, (span.start_s, span.end_s)])
        return Listened(seconds, tuple(stretches[:MOST_STRETCHES]), self.blind)

    def is_done(self, item: str, song_s: float) -> bool:
        """Whether one of `ITEMS` was heard."""
        if item == "blind":
            return self.blind
        if item == "song":
            return sum(end - start for start, end in self.stretches) >= WHOLE_SHARE * song_s
        return self.seconds.get(item, 0.0) >= min(ENOUGH_S, song_s)

    def as_json(self) -> dict[str, Any]:
        return {"seconds": self.seconds, "stretches": self.stretches, "blind": self.blind}

    @classmethod
    def of(cls, body: Any) -> Listened:
        """From what `as_json` gave; nothing where there is nothing."""
        if not body:
            return cls()
        stretches = tuple((float(start), float(end)) for start, end in body["stretches"])
        return cls(dict(body["seconds"]), stretches, bool(body["blind"]))


def _ways(span: Span) -> list[str]:
    ways = [item for item, fold in FOLDS.items() if fold == span.fold]
    return ways + [item for item, level in LEVELS.items() if level == span.level]


def _joined(stretches: list[tuple[float, float]]) -> list[tuple[float, float]]:
    """Stretches in order, those that touch as one."""
    found: list[tuple[float, float]] = []
    for start, end in sorted(stretches):
        if found and start <= found[-1][1] + 0.05:
            found[-1] = (found[-1][0], max(found[-1][1], end))
        else:
            found.append((start, end))
    return found
