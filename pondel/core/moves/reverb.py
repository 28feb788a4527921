"""Reverb: a room, a hall or a plate, by a network of eight delay lines."""

from __future__ import annotations

from typing import Literal

import numpy as np

from pondel.core.dsp.cascade import Cascade
from pondel.core.dsp.echo import DIFFUSERS, LINES, reverberate
from pondel.core.dsp.limits import finite
from pondel.core.moves.base import Group, MoveBase, MoveKind, Trace
from pondel.core.moves.cuts import cuts, cuts_picture
from pondel.core.moves.describe import choice, frequency, milliseconds, mix, number, share
from pondel.core.units import say

LENGTHS_MS = {
    "room": (13.1, 15.7, 17.9, 20.3, 23.3, 25.9, 28.7, 31.3),
    "hall": (37.1, 42.3, 47.9, 53.3, 59.9, 66.1, 71.9, 79.3),
    "plate": (7.9, 9.7, 11.3, 13.7, 16.1, 18.7, 21.1, 23.9),
}
"""Lengths of the lines, without common factors, so that their echoes do not fall together."""
DIFFUSERS_MS = (4.7, 7.3)
MOST_DAMPING = 0.85


class Reverb(MoveBase):
    """Parameters of the reverb. What goes in mono comes out in stereo."""

    kind: Literal["reverb"] = "reverb"
    space: Literal["room", "hall", "plate"] = choice(
        "Space",
        default="hall",
        labels={"room": "room", "hall": "hall", "plate": "plate"},
        help="How far its walls are apart.",
    )
    decay_s: float = number(
        "Decay",
        default=1.6,
        low=0.1,
        high=12,
        unit="s",
        scale="log",
        step=5,
        decimals=2,
        help="Time in which it falls by 60 dB, at low and middle frequencies.",
    )
    pre_delay_ms: float = milliseconds(
        "Pre-delay", 20.0, 0, 250, "How late it begins.", scale="linear", step=5
    )
    damping: float = share("Damping", 0.4, "How much sooner the top is gone.")
    low_cut_hz: float = frequency("Low cut", 200, 20, 2000, "Keeps the lows out of the space.")
    high_cut_hz: float = frequency("High cut", 8000, 500, 20000, "Keeps the top out of the space.")
    mix: float = mix()


def line_losses(lengths_s: np.ndarray, decay_s: float, damping: float) -> np.ndarray:
    """Gain and pole of each line's loss, (lines, 2): at 0 Hz 60 dB in `decay_s`, at the top sooner.

    y = b x + a y': b / (1 - a) and b / (1 + a) are its gains at 0 Hz and at half the rate.
    """
    low = 10.0 ** (-3.0 * lengths_s / decay_s)
    high = 10.0 ** (-3.0 * lengths_s / (decay_s * (1.0 - MOST_DAMPING * damping)))
    pole = (low - high) / (low + high)
    return np.stack([low * (1.0 - pole), pole], axis=1)


class ReverbProcessor:
    """The network at work."""

    latency = 0

    def __init__(self, move: Reverb, rate: int, channels: int, on_trace: Trace | None = None) -> None:
        self._mix = np.float32(move.mix)
        lines_s = np.array(LENGTHS_MS[move.space]) / 1000.0
        lengths = [
            *(round(s * rate) for s in lines_s),
            *(round(ms * rate / 1e3) for ms in DIFFUSERS_MS),
        ]
        self._frames = np.array(lengths, np.int64)
        self._early_frames = round(move.pre_delay_ms * rate / 1000.0)
        self._early = np.zeros((2, max(1, self._early_frames)))
        self._lines = np.zeros((LINES, int(self._frames[:LINES].max())))
        self._diffusion = np.zeros((2, DIFFUSERS, int(self._frames[LINES:].max())))
        self._losses = line_losses(self._frames[:LINES] / rate, move.decay_s, move.damping)
        self._lowered = np.zeros(LINES)
        self._places = np.zeros(1 + LINES + DIFFUSERS, np.int64)
        # As loud as what goes in, whatever the decay: g / (1 - g) of a line's energy in its rounds.
        kept = float(np.mean(10.0 ** (-6.0 * lines_s / move.decay_s)))
        self._level = np.float32(np.sqrt((1.0 - kept) / (4.0 * kept)))
        self._cut = Cascade(cuts(move, rate), 2)

    def ringing(self) -> tuple[np.ndarray, ...]:
        """What is in its lines, its cuts and its pre-delay."""
        held = (self._lines, self._lowered, self._diffusion, self._places, self._frames)
        return tuple(one.copy() for one in (*held, self._cut.state, self._early))

    def ring_on(self, state: tuple[np.ndarray, ...]) -> bool:
        """Ring on as another did whose walls are as far apart; another pre-delay begins anew."""
        lines, lowered, diffusion, places, frames, cut, early = state
        if not np.array_equal(frames, self._frames) or cut.shape != self._cut.state.shape:
            return False
        self._lines[:], self._lowered[:], self._diffusion[:] = lines, lowered, diffusion
        self._places[:], self._cut.state[:] = places, cut
        if early.shape == self._early.shape:
            self._early[:] = early
        else:
            self._early[:], self._places[0] = 0.0, 0
        return True

    def process(self, block: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        dry = np.repeat(finite(block), 2, axis=1) if block.shape[1] == 1 else finite(block)
        wet = np.empty_like(dry)
        reverberate(
            np.ascontiguousarray(dry),
            self._early,
            self._early_frames,
            self._lines,
            self._frames,
            self._losses,
            self._lowered,
            self._diffusion,
            self._places,
            wet,
        )
        wet = self._cut.process(wet * self._level)
        return dry * (np.float32(1.0) - self._mix) + wet * self._mix


def _rings_s(move: Reverb) -> float:
    """Until it has fallen by 100 dB, and its cuts have rung."""
    return move.pre_delay_ms / 1000.0 + 1.75 * move.decay_s + 0.1 + 4.0 / move.low_cut_hz


KIND = MoveKind(
    name="reverb",
    title="Reverb",
    summary="A room, a hall or a plate, its lows and highs cut.",
    place=14,
    params=Reverb,
    picture=lambda move, hz, rate: cuts_picture(move, hz, rate, "the space, on average"),
    layout=(
        Group("Space", ("space", "decay_s", "pre_delay_ms", "damping")),
        Group("Tone", ("low_cut_hz", "high_cut_hz")),
        Group("Level", ("mix",)),
    ),
    make=ReverbProcessor,
    settle_s=_rings_s,
    rings_s=_rings_s,
    channels_out=lambda move, channels: 2,
    limits_input=True,
    is_space=True,
    in_brief=lambda move: f"{move.space}, {say(move.decay_s, 's')}",
)
