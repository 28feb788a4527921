"""What a starting point is told of a fight, as plain data."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, Literal, Protocol

import numpy as np

from pondel.core.dsp.fold import Fold
from pondel.core.dsp.timing import gap_s
from pondel.core.units import say_hz

LOW_ZONE_HZ = 200.0
PARTED_HZ = (60.0, 110.0)
"""Between these subs end and low mids begin."""
ComesThrough = Literal["snap", "body", "ring"]


class Named(Protocol):
    """A part, as far as a move needs to know it."""

    @property
    def id(self) -> str: ...
    @property
    def name(self) -> str: ...
    @property
    def role(self) -> str: ...


class Home(Protocol):
    """Where a part's energy lies: a twentieth below `low_hz`, nine tenths below `crossover_hz`."""

    @property
    def low_hz(self) -> float: ...
    @property
    def crossover_hz(self) -> float: ...


class Lows(Protocol):
    """The low end of both parts together, now and at the best nudge."""

    @property
    def gain_db(self) -> float: ...
    @property
    def best_nudge_ms(self) -> float: ...
    @property
    def best_flipped(self) -> bool: ...
    @property
    def best_gain_db(self) -> float: ...


class Shorter(Protocol):
    """A length for the tails of the part that gives way, in words too."""

    @property
    def end_s(self) -> float: ...
    @property
    def beats(self) -> float | None: ...
    def words(self, name: str) -> str: ...


@dataclass(frozen=True)
class Start:
    """Settings of a move, and one sentence for each of the settings that were computed."""

    settings: dict[str, Any]
    reasons: list[str]


@dataclass(frozen=True)
class Fight:
    """What is known of a fight where a move is wanted.

    `key` is the leader at source over a stretch, float32 (frames, channels); `hits_s` its hits in
    seconds from the stretch's start, `song_hits_s` those of the whole song, `own_hits_s` those of the
    part that gives way; `hit_s` is how long one of the leader's takes to fall by 20 dB.
    """

    leader: Named
    yielder: Named
    low_hz: float
    high_hz: float
    key: np.ndarray
    hits_s: np.ndarray
    song_hits_s: np.ndarray
    rate: int
    tempo_bpm: float
    home: Home | None = None
    hit_s: float | None = None
    lows: Lows | None = None
    recovery_s: float | None = None
    """How long after a hit nine tenths of the yielder's loudness in the zone are heard again."""
    own_spectrum: tuple[np.ndarray, np.ndarray] | None = None
    """Frequencies in Hz, rising, and the yielder's power at each before the fader."""
    own_hits_s: np.ndarray = field(default_factory=lambda: np.empty(0))
    own_hit_s: float | None = None
    """How long one of the yielder's hits takes to fall by 20 dB."""
    shorter: Shorter | None = None
    """The length to which the yielder's tails are cut so that both part, where that does it."""
    fed: bool = False
    """Whether the part that gives way is a return that the leader feeds."""
    hidden_on_hits: float | None = None
    """What the yielder by itself hides of the leader in the zone on its hits, 0 to 1."""
    carved_in: Fold = "both"
    """Where alone a carve would leave the rest of the part as it is: the middle or the sides."""
    aside: Literal["left", "right"] = "right"
    """To which side the yielder would be moved: to which it leans already, seen from the leader."""
    far: float = 1.0
    """How far to go: 0 gentle, 1 usual, 2 strong, and between."""
    comes_through: ComesThrough = "body"
    """What of the leader is to come through."""

    @property
    def firm(self) -> bool:
        return self.yielder.role == "bass"

    @property
    def is_low(self) -> bool:
        """Whether the fight is below, say, 200 Hz, so that one crossover parts it from the rest."""
        return self.low_hz < 60.0 and self.high_hz < LOW_ZONE_HZ * 1.6

    @property
    def lows_part_hz(self) -> float:
        """Where subs and low mids part between two low parts."""
        return float(np.clip(self.centre_hz, *PARTED_HZ))

    @property
    def centre_hz(self) -> float:
        return float(np.sqrt(self.low_hz * self.high_hz))

    @property
    def zone_q(self) -> float:
        """The Q of a bell as wide as the zone."""
        return float(np.clip(self.centre_hz / max(self.high_hz - self.low_hz, 1.0), 0.3, 8.0))

    @property
    def zone(self) -> str:
        return f"{say_hz(self.low_hz)} to {say_hz(self.high_hz)}"

    @property
    def gap_s(self) -> float | None:
        """The usual time from one hit to the next."""
        return gap_s(self.hits_s)
