"""A modest EQ to begin with, by what a part is: the trade's habits, placed by the part's own sound.

No low cut takes a part's own fundamentals: it lies so far under the lower edge of its energy that they
lose half a decibel.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from pondel.core.document import Part
from pondel.core.dsp.tone import TONE_HZ
from pondel.core.moves.fight import Home
from pondel.core.units import say, say_hz

UNDER = 0.6
"""A cut of 12 dB an octave at this share of a frequency takes half a decibel there."""
LEAST_CUT_HZ = 22.0


@dataclass(frozen=True)
class Habit:
    """One band of a role: `gain_db` where the part is strongest, or weakest, between two frequencies.

    `at` is "own" for the part's own fundamental.
    """

    why: str
    low_hz: float
    high_hz: float
    gain_db: float
    q: float = 1.0
    at: str = "strongest"


@dataclass(frozen=True)
class Habits:
    """What is done to a role: a low cut for a reason, no higher than `cut_to_hz`, and some bands."""

    cut: str
    cut_to_hz: float
    bands: tuple[Habit, ...] = ()


MUD = "mud: the part is thick there, and so are most others"
RUMBLE = "rumble under it is nobody's music"
NOT_ITS_OWN = "what lies under it is not its own, but that of lower parts"
HABITS: dict[str, Habits] = {
    "kick": Habits(
        RUMBLE,
        40,
        (
            Habit("its own fundamental, a little more of it", 35, 120, 1.5, 1.4, "own"),
            Habit("less of the box between drum and beater", 180, 500, -3.0, 1.0),
            Habit("the click of the beater, by which small speakers tell it", 1800, 5000, 2.0, 0.9),
        ),
    ),
    "bass": Habits(
        RUMBLE,
        35,
        (
            Habit(MUD, 180, 380, -2.0, 1.0),
            Habit("its harmonics, by which small speakers tell it", 600, 1400, 2.0, 0.8),
        ),
    ),
    "snare": Habits(
        NOT_ITS_OWN,
        110,
        (
            Habit("less of the box", 350, 800, -2.0, 1.2),
            Habit("its snap", 3000, 7000, 1.5, 0.8),
        ),
    ),
    "hats": Habits(NOT_ITS_OWN, 400),
    "percussion": Habits(NOT_ITS_OWN, 200, (Habit("less of the box", 300, 700, -1.5, 1.0),)),
    "guitar": Habits(
        NOT_ITS_OWN,
        90,
        (Habit(MUD, 180, 400, -2.0, 0.9), Habit("its pick and strings", 2000, 4500, 1.0, 0.8)),
    ),
    "keys": Habits(NOT_ITS_OWN, 70, (Habit(MUD, 200, 450, -1.5, 0.9),)),
    "pad": Habits(NOT_ITS_OWN, 120, (Habit(MUD, 200, 500, -2.0, 0.7),)),
    "brass": Habits(NOT_ITS_OWN, 90, (Habit("less of the honk", 400, 900, -1.5, 1.0),)),
    "strings": Habits(NOT_ITS_OWN, 100, (Habit(MUD, 200, 450, -1.5, 0.8),)),
    "lead": Habits(
        NOT_ITS_OWN, 100, (Habit(MUD, 200, 450, -1.5, 0.9), Habit("its presence", 2500, 5000, 1.5, 0.8))
    ),
    "voice": Habits(
        "rumble, steps and breath on the microphone",
        90,
        (
            Habit("the nearness of the microphone", 150, 350, -2.0, 1.0),
            Habit("its words", 2500, 5000, 1.5, 0.8),
        ),
    ),
    "backing voice": Habits(
        NOT_ITS_OWN,
        140,
        (Habit(MUD, 200, 450, -2.5, 0.9), Habit("behind the voice", 2500, 5000, -1.5, 0.8)),
    ),
}
PLAIN = Habits(RUMBLE, 60)


def starting_eq(
    part: Part, home: Home, spectrum_db: np.ndarray, pitch_hz: float | None
) -> tuple[list[dict[str, Any]], list[str]]:
    """The bands of an EQ for a part, and a line about each; `spectrum_db` is its own, at TONE_HZ."""
    habits = HABITS.get(part.role, PLAIN)
    lowest_hz = min(home.low_hz, pitch_hz) if pitch_hz else home.low_hz
    bands, why = [], []
    cut_hz = min(habits.cut_to_hz, UNDER * lowest_hz)
    if cut_hz >= LEAST_CUT_HZ:
        bands.append({"shape": "low cut", "hz": round(cut_hz, 1), "slope_db_oct": 12})
        why.append(
            f"Low cut {say_hz(cut_hz)}: {habits.cut}; "
            f"{part.name} begins at {say_hz(lowest_hz)} and stays."
        )
    for habit in habits.bands:
        hz = _place(habit, spectrum_db, pitch_hz)
        if hz is None:
            continue
        bands.append({"hz": round(hz, 1), "gain_db": habit.gain_db, "q": habit.q})
        why.append(f"{say(habit.gain_db, 'dB')} at {say_hz(hz)}: {habit.why}.")
    return bands, why


SILENT_DB = 30.0


def _place(habit: Habit, spectrum_db: np.ndarray, pitch_hz: float | None) -> float | None:
    """Where the part is strongest in the range of a band; None where there is nothing of it."""
    inside = (TONE_HZ >= habit.low_hz) & (TONE_HZ <= habit.high_hz)  # noqa: SIM300
    if habit.at == "own" and pitch_hz is not None and habit.low_hz <= pitch_hz <= habit.high_hz:
        return pitch_hz
    levels = np.where(inside, spectrum_db, -np.inf)
    at = int(np.argmax(levels))
    if levels[at] < spectrum_db.max() - SILENT_DB:
        return None
    if at in (np.flatnonzero(inside)[0], np.flatnonzero(inside)[-1]):
        # Only a slope comes in from beside the range: its middle is as good a place as any.
        return float(np.sqrt(habit.low_hz * habit.high_hz))
    return float(TONE_HZ[at])
