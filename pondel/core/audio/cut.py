"""Recordings that end where a stretch of the song ends, so that what rings on after it is heard alone.

session, media = cut_at(session, media, 46.15)
"""

from __future__ import annotations

import numpy as np

from pondel.core.audio.media import Media, Reader
from pondel.core.document import Session
from pondel.core.dsp.tone import Tone

FADE_S = 0.005
"""In which a sound that is cut dies away: long enough not to click."""


class _CutReader:
    """A recording up to a frame, with a short fade after it."""

    def __init__(self, reader: Reader, end: int, fade: int) -> None:
        self._reader, self._end, self._fade = reader, end, fade
        self.channels, self.frames = reader.channels, min(reader.frames, max(0, end + fade))

    def read(self, start: int, frames: int) -> np.ndarray:
        block = self._reader.read(start, frames)
        if start + frames > self._end:
            beyond = np.arange(start, start + frames) - self._end
            gain = np.clip(1.0 - beyond / self._fade, 0.0, 1.0).astype(np.float32)
            block = block * gain[:, np.newaxis]
        return block


class _CutMedia:
    """Recordings by the names `cut_at` gave them."""

    def __init__(self, media: Media, known: dict[str, tuple[str, int]], rate: int) -> None:
        self._media, self._known, self._rate = media, known, rate

    def open(self, file: str) -> Reader:
        name, end = self._known[file]
        return _CutReader(self._media.open(name), end, max(1, round(FADE_S * self._rate)))

    def frames(self, file: str) -> int:
        return self.open(file).frames

    def found_hits_s(self, file: str, sensitivity: float) -> np.ndarray:
        name, end = self._known[file]
        found = self._media.found_hits_s(name, sensitivity)
        return found[found < end / self._rate]

    def tone(self, file: str, rate: int) -> Tone:
        return self._media.tone(self._known[file][0], rate)


def cut_at(session: Session, media: Media, end_s: float) -> tuple[Session, Media]:
    """The session with recordings that end at a moment of the song."""
    known: dict[str, tuple[str, int]] = {}
    parts = []
    for part in session.parts:
        if part.file is None:
            parts.append(part)
            continue
        name = f"{part.id} {part.file}"
        known[name] = part.file, round((end_s - part.start_s) * session.rate)
        parts.append(part.model_copy(update={"file": name}))
    return session.model_copy(update={"parts": parts}), _CutMedia(media, known, session.rate)
