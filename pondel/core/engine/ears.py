"""What the hearing model needs of a part: which sound to analyse, under which name to keep it.

Trim, fader and pan act alike on all channels as a rule; then one analysis serves every setting.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace

import numpy as np

from pondel.core.audio.media import Media
from pondel.core.document import Part, Session
from pondel.core.dsp.fold import Side
from pondel.core.engine import render, routing
from pondel.core.engine.graph import Graph
from pondel.core.engine.routing import Node
from pondel.core.engine.streams import fader_gains

READ_FRAMES = 1 << 16
LEAST_POWER = np.float32(1e-16)
MOST_GAIN = np.float32(1e5)
"""Of a group at one place and moment, where what goes in is next to nothing."""


@dataclass(frozen=True)
class EarSource:
    """The sound to analyse, a name for it, and the gain of power from there to the mix.

    It is the recording `file` itself, untrimmed, or the sound at `node`. One that is mono there reaches
    left and right with the amplitudes `spread`.
    """

    name: str
    gain: float
    node: Node
    file: str | None = None
    spread: tuple[float, float] | None = None

    def gain_in(self, side: Side) -> float:
        """Gain of power from there to one side of the mix."""
        if self.spread is None or side == "both":
            return self.gain
        left, right = self.spread
        at = {"left": left, "right": right, "middle": (left + right) / 2, "sides": (left - right) / 2}
        return at[side] ** 2

    def side_of(self, side: Side) -> Side:
        """What of the sound to analyse for one side of the mix: all of it where it is mono."""
        return side if self.spread is None else "both"


@dataclass(frozen=True)
class Through:
    """A group on the way to the mix: what it does to power is that of `after` against `before`."""

    before: EarSource
    after: EarSource


@dataclass(frozen=True)
class InTheMix:
    """A part as it reaches the mix: its own sound, less what is counted elsewhere, through its groups.

    `without` are the members of a return that is sent to as well: they stand for themselves.
    """

    own: EarSource
    without: tuple[InTheMix, ...] = ()
    groups: tuple[Through, ...] = ()
    gain: float = 1.0

    def sources(self) -> Iterator[EarSource]:
        """All that has to be analysed for it."""
        yield self.own
        for member in self.without:
            yield from member.sources()
        for group in self.groups:
            yield group.before
            yield group.after

    def power(self, of: Callable[[EarSource], np.ndarray]) -> np.ndarray:
        """float32 power in the mix; `of` gives that of a source, with its gain, (frames, bands).

        A group acts on each of its members as on their sum, band by band and frame by frame.
        """
        power = of(self.own)
        for member in self.without:
            power = np.maximum(power - member.power(of), np.float32(0.0))
        for group in self.groups:
            ratio = of(group.after) / np.maximum(of(group.before), LEAST_POWER)
            power = power * np.minimum(ratio, MOST_GAIN)
        return power if self.gain == 1.0 else power * np.float32(self.gain)

    def facts(self, side: Side = "both") -> list:
        """What tells it from others on one side of the mix, as JSON values."""
        groups = [[one.before.name, one.after.name, one.after.gain_in(side)] for one in self.groups]
        without = [one.facts(side) for one in self.without]
        return [self.own.name, self.own.gain_in(side), without, groups, self.gain]


def heard_parts(session: Session) -> list[Part]:
    """The parts that the ear tells apart in the mix: all that reach it, but groups that only gather."""
    groups = session.groups()
    sent_to = {send.to for part in session.parts if part.sounds for send in part.sends}
    return [part for part in session.audible() if part.id not in groups or part.id in sent_to]


def in_the_mix_of(session: Session, media: Media, part: Part, memo: dict[Node, str]) -> InTheMix:
    """What to analyse to have a part as it reaches the mix; `memo` keeps fingerprints."""
    found = _at_fader(session, media, part, memo)
    above = part
    while above.group is not None:
        above = session.part(above.group)
        found = _through(found, session, media, above, memo)
    return found


def _at_fader(session: Session, media: Media, part: Part, memo: dict[Node, str]) -> InTheMix:
    if part.id not in session.groups():
        return InTheMix(ear_source(session, media, part, memo))
    source: Node = (part.id, "source")
    members = [one for one in session.parts if one.group == part.id and one.sounds]
    sent = InTheMix(
        EarSource(routing.fingerprint(session, media, source, memo), 1.0, source),
        tuple(_trimmed(_at_fader(session, media, one, memo), part) for one in members),
    )
    return _through(sent, session, media, part, memo, is_trimmed=True)


def _trimmed(found: InTheMix, group: Part) -> InTheMix:
    return replace(found, gain=found.gain * 10 ** (group.trim_db / 10))


def _through(
    found: InTheMix,
    session: Session,
    media: Media,
    group: Part,
    memo: dict[Node, str],
    *,
    is_trimmed: bool = False,
) -> InTheMix:
    """Something that a group gathers, after the group's trim, moves and fader."""
    if not is_trimmed:
        found = _trimmed(found, group)
    gain = _fader_power(session, media, group)
    if gain is not None and not routing.active_moves(group):
        return replace(found, gain=found.gain * gain)
    source: Node = (group.id, "source")
    before = EarSource(routing.fingerprint(session, media, source, memo), 1.0, source)
    after = ear_source(session, media, group, memo)
    return replace(found, groups=(*found.groups, Through(before, after)))


def _fader_power(session: Session, media: Media, part: Part) -> float | None:
    """Gain of power of a part's fader and pan; None where they treat left and right unlike."""
    channels, gains = _at_the_fader(session, media, part)
    return _power(gains) if _are_alike(channels, gains) else None


def _at_the_fader(session: Session, media: Media, part: Part) -> tuple[int, tuple[float, float]]:
    """How many channels come to a part's fader, and what left and right get of them."""
    channels = Graph(session, media).node((part.id, "before fader")).channels
    return channels, fader_gains(part, channels) if part.sounds else (0.0, 0.0)


def _are_alike(channels: int, gains: tuple[float, float]) -> bool:
    """Whether one gain does for all that comes to the fader."""
    return channels == 1 or gains[0] == gains[1]


def _power(gains: tuple[float, float]) -> float:
    return (gains[0] ** 2 + gains[1] ** 2) / 2.0


def ear_source(session: Session, media: Media, part: Part, memo: dict[Node, str]) -> EarSource:
    """The analysis that gives a part as it sounds after its fader; `memo` keeps fingerprints."""
    channels, gains = _at_the_fader(session, media, part)
    if not _are_alike(channels, gains):
        after: Node = (part.id, "after fader")
        return EarSource(routing.fingerprint(session, media, after, memo), 1.0, after)
    spread = gains if channels == 1 else None
    if part.file is not None and part.start_s == 0.0 and not routing.active_moves(part):
        trim = 10 ** (part.trim_db / 20)
        source: Node = (part.id, "source")
        name = file_ears(part.file, session.rate)
        trimmed = (gains[0] * trim, gains[1] * trim)
        return EarSource(name, _power(trimmed), source, part.file, trimmed if spread else None)
    before: Node = (part.id, "before fader")
    name = routing.fingerprint(session, media, before, memo)
    return EarSource(name, _power(gains), before, spread=spread)


def file_ears(file: str, rate: int) -> str:
    """The name of a recording's analysis, untreated and from its start."""
    return f"{file} {rate}"


def ear_blocks(
    session: Session, media: Media, source: EarSource, start: int, frames: int
) -> Iterator[np.ndarray]:
    """The sound of a source, in blocks, in bounded memory."""
    if source.file is None:
        for (block,) in render.blocks(session, media, [source.node], start, frames):
            yield block
        return
    reader = media.open(source.file)
    for first in range(start, start + frames, READ_FRAMES):
        yield reader.read(first, min(READ_FRAMES, start + frames - first))
