"""Sound that is pulled block by block: each stream reads what it needs from those before it."""

from __future__ import annotations

from collections import deque
from typing import Protocol

import numpy as np

from pondel.core.audio.media import Reader
from pondel.core.document import Part
from pondel.core.dsp import filters
from pondel.core.dsp.cascade import Cascade
from pondel.core.dsp.compiled import plain
from pondel.core.dsp.decibels import to_amplitude
from pondel.core.dsp.pan import pan_gains
from pondel.core.moves.base import Processor, Ringing
from pondel.core.moves.describe import Key


class Stream(Protocol):
    """Sound from a position on; every read goes on where the last one ended."""

    channels: int

    def read(self, frames: int) -> np.ndarray:
        """The next float32 (frames, channels)."""
        ...


class Begun:
    """A node's stream, with the halls and echoes of its own chain."""

    def __init__(self, stream: Stream, ringing: dict[str, Ringing]) -> None:
        self.channels = stream.channels
        self.ringing = ringing
        self._stream = stream

    def read(self, frames: int) -> np.ndarray:
        return self._stream.read(frames)


class RecordingStream:
    """A part as recorded, trimmed, at its place in the song."""

    def __init__(self, reader: Reader, first_frame: int, trim_db: float, position: int) -> None:
        self.channels = reader.channels
        self._reader = reader
        self._position = position - first_frame
        self._gain = np.float32(to_amplitude(trim_db))

    def read(self, frames: int) -> np.ndarray:
        block = self._reader.read(self._position, frames)
        self._position += frames
        return block if self._gain == 1.0 else block * self._gain


class Silence:
    """Nothing, in one channel."""

    channels = 1

    def read(self, frames: int) -> np.ndarray:
        return np.zeros((frames, 1), np.float32)


class Sum:
    """Streams added up; mono ones count in both channels of a stereo sum."""

    def __init__(self, streams: list[Stream], gains: list[float] | None = None) -> None:
        self._streams = streams
        self._gains = gains or [1.0] * len(streams)
        self.channels = max((stream.channels for stream in streams), default=1)

    def read(self, frames: int) -> np.ndarray:
        total = np.zeros((frames, self.channels), np.float32)
        for stream, gain in zip(self._streams, self._gains, strict=True):
            block = stream.read(frames)
            total += block if gain == 1.0 else block * np.float32(gain)
        return total


class Tee:
    """Lets several readers pull the same stream at their own pace."""

    def __init__(self, stream: Stream) -> None:
        self.channels = stream.channels
        self._stream = stream
        self._branches: list[Branch] = []

    def branch(self) -> Branch:
        """One more reader; all must be made before the first read."""
        branch = Branch(self)
        self._branches.append(branch)
        return branch

    def advance(self, frames: int) -> None:
        block = self._stream.read(frames)
        for branch in self._branches:
            branch.waiting.append(block)
            branch.frames_waiting += frames


class Branch:
    """One reader of a Tee."""

    def __init__(self, tee: Tee) -> None:
        self.channels = tee.channels
        self.waiting: deque[np.ndarray] = deque()
        self.frames_waiting = 0
        self._tee = tee

    def read(self, frames: int) -> np.ndarray:
        if self.frames_waiting < frames:
            self._tee.advance(frames - self.frames_waiting)
        blocks: list[np.ndarray] = []
        wanted = frames
        while wanted:
            block = self.waiting.popleft()
            if block.shape[0] > wanted:
                self.waiting.appendleft(block[wanted:])
                block = block[:wanted]
            blocks.append(block)
            wanted -= block.shape[0]
        self.frames_waiting -= frames
        return blocks[0] if len(blocks) == 1 else np.concatenate(blocks)


class KeyStream:
    """A key as its detector hears it: with its level and its cuts."""

    def __init__(self, stream: Stream, key: Key, rate: int) -> None:
        self.channels = stream.channels
        self._stream = stream
        self._gain = np.float32(to_amplitude(key.level_db))
        cuts = []
        if key.low_cut_hz is not None:
            cuts.append(filters.low_cut(key.low_cut_hz, key.slope_db_oct, rate))
        if key.high_cut_hz is not None:
            cuts.append(filters.high_cut(key.high_cut_hz, key.slope_db_oct, rate))
        self._filters = [Cascade(sos, stream.channels) for sos in cuts]

    def read(self, frames: int) -> np.ndarray:
        block = plain(self._stream.read(frames))
        if self._gain != 1.0:
            block = block * self._gain
        for section in self._filters:
            block = section.process(block)
        return block


class Treated:
    """A move at work on a stream, its latency made up for; `untreated` is what went in."""

    def __init__(
        self,
        stream: Stream,
        processor: Processor,
        key: Stream | None,
        channels: int | None = None,
        *,
        keeps_untreated: bool = False,
    ) -> None:
        self.channels = stream.channels if channels is None else channels
        self.untreated = np.empty((0, stream.channels), np.float32)
        self._stream = stream
        self._processor = processor
        self._key = key
        self._keeps = keeps_untreated
        self._ahead = self.untreated
        self._started = False

    def read(self, frames: int) -> np.ndarray:
        late = 0 if self._started else self._processor.latency
        self._started = True
        fresh = plain(self._stream.read(frames + late))
        key = self._key.read(frames + late) if self._key else None
        if self._keeps:
            joined = np.concatenate([self._ahead, fresh])
            self.untreated, self._ahead = joined[:frames], joined[frames:].copy()
        return self._processor.process(fresh, key)[late:]


def weight_within(limits: list[tuple[int, int]], position: int, frames: int, fade: int) -> np.ndarray:
    """How much of each frame from `position` on lies within the limits, after a fade at each border."""
    at = np.arange(position, position + frames, dtype=np.float64)
    weight = np.zeros(frames)
    for start, end in limits:
        risen = np.clip((at - start) / fade, 0.0, 1.0) if start > 0 else 1.0
        fallen = np.clip((at - end) / fade, 0.0, 1.0)
        weight = np.maximum(weight, np.minimum(risen, 1.0 - fallen))
    return weight.astype(np.float32)


class Limited:
    """A treated stream within `limits`, frame ranges (start, end) of the song in order; else untreated.

    After each border one fades into the other. Where the treatment turns the phase even when it does
    nothing, `beside` turns the untreated sound alike, so that they do not cancel while both are heard.
    """

    def __init__(
        self,
        treated: Treated,
        beside: Processor | None,
        position: int,
        limits: list[tuple[int, int]],
        fade_frames: int,
    ) -> None:
        self.channels = treated.channels
        self._treated = treated
        self._beside = beside
        self._position = position
        self._fade = max(1, fade_frames)
        self._limits = limits

    def read(self, frames: int) -> np.ndarray:
        wet = self._treated.read(frames)
        dry = self._treated.untreated
        if self._beside is not None:
            dry = self._beside.process(dry, None)
        weight = weight_within(self._limits, self._position, frames, self._fade)[:, np.newaxis]
        self._position += frames
        # What is mono before a move that makes it stereo counts in both channels.
        return dry * (1.0 - weight) + wet * weight


class LimitedInput:
    """A stream of which only what lies within `limits` goes into a move; the rest passes beside it."""

    def __init__(self, stream: Stream, position: int, limits: list[tuple[int, int]], fade: int) -> None:
        self.channels = stream.channels
        self._stream, self._position = stream, position
        self._limits, self._fade = limits, max(1, fade)
        self._beside: list[np.ndarray] = []

    def read(self, frames: int) -> np.ndarray:
        block = self._stream.read(frames)
        weight = weight_within(self._limits, self._position, frames, self._fade)[:, np.newaxis]
        self._position += frames
        self._beside.append(block * (1.0 - weight))
        return block * weight

    def beside(self) -> np.ndarray:
        """What passed beside the move since it was last asked for."""
        passed = np.concatenate(self._beside)
        self._beside = []
        return passed


class RingingOn:
    """A move whose input is limited, with what passes beside it."""

    def __init__(self, treated: Treated, limited: LimitedInput) -> None:
        self.channels = treated.channels
        self._treated, self._limited = treated, limited

    def read(self, frames: int) -> np.ndarray:
        wet = self._treated.read(frames)
        return wet + self._limited.beside()


class Centred:
    """What a move made of a mono sound in two channels, at the level of one in the centre.

    At the fader a stereo sound passes as it is, and a mono one at -3 dB in both channels.
    """

    channels = 2

    def __init__(self, stream: Stream) -> None:
        self._stream = stream
        self._gain = np.float32(pan_gains(0.0, 1)[0])

    def read(self, frames: int) -> np.ndarray:
        return self._stream.read(frames) * self._gain


class Faded:
    """A part after its fader: level, mute, and its place between left and right."""

    channels = 2

    def __init__(self, stream: Stream, part: Part) -> None:
        self._stream = stream
        gains = (0.0, 0.0) if part.mute else fader_gains(part, stream.channels)
        self._gains = np.array(gains, np.float32)

    def read(self, frames: int) -> np.ndarray:
        return self._stream.read(frames) * self._gains


def fader_gains(part: Part, channels: int) -> tuple[float, float]:
    """Left and right gain of a part's fader and pan, muted or not."""
    left, right = pan_gains(part.pan, channels)
    level = float(to_amplitude(part.fader_db))
    return left * level, right * level
