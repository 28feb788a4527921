"""Where the samples of parts come from: a folder of files at the session's rate."""

from __future__ import annotations

from abc import ABC, abstractmethod
from pathlib import Path
from typing import Protocol

import numpy as np
import soundfile

from pondel.core.errors import BadDocument, BadRecording


class Reader(Protocol):
    """Random access to one recording."""

    channels: int
    frames: int

    def read(self, start: int, frames: int) -> np.ndarray:
        """float32 (frames, channels) from `start`; silence outside the recording."""
        ...


class Media(Protocol):
    """Recordings by the name that stands in the document: their samples, and the hits in them."""

    def open(self, file: str) -> Reader: ...

    def frames(self, file: str) -> int:
        """How long a recording is."""
        ...

    def found_hits_s(self, file: str, sensitivity: float) -> np.ndarray:
        """The hits found in a recording, in seconds from its start."""
        ...


class FileReader:
    """One open audio file. Not to be shared between threads."""

    def __init__(self, path: Path) -> None:
        try:
            self._file = soundfile.SoundFile(str(path))
        except soundfile.LibsndfileError as error:
            raise BadRecording("the recording on disk cannot be read") from error
        self.channels: int = self._file.channels
        self.frames: int = self._file.frames
        self._position = 0

    def read(self, start: int, frames: int) -> np.ndarray:
        out = np.zeros((frames, self.channels), np.float32)
        first = max(start, 0)
        last = min(start + frames, self.frames)
        if last <= first:
            return out
        if first != self._position:
            self._file.seek(first)
        got = self._file.read(last - first, dtype="float32", always_2d=True)
        if got.shape[0] < last - first:
            raise BadRecording("the recording was cut short on disk while it was read")
        out[first - start : last - start] = got
        self._position = first + got.shape[0]
        return out


class ArrayReader:
    """A recording held in memory, float32 (frames, channels)."""

    def __init__(self, samples: np.ndarray) -> None:
        self._samples = np.atleast_2d(samples.T).T.astype(np.float32, copy=False)
        self.frames, self.channels = self._samples.shape

    def read(self, start: int, frames: int) -> np.ndarray:
        out = np.zeros((frames, self.channels), np.float32)
        first, last = max(start, 0), min(start + frames, self.frames)
        if last > first:
            out[first - start : last - start] = self._samples[first:last]
        return out


class _GivenHits(ABC):
    """Recordings whose hits are given, whatever the sensitivity."""

    def __init__(self, hits_s: dict[str, list[float]] | None) -> None:
        self._hits_s = hits_s or {}

    @abstractmethod
    def open(self, file: str) -> Reader:
        """A reader of a recording from its start."""

    def frames(self, file: str) -> int:
        return self.open(file).frames

    def found_hits_s(self, file: str, sensitivity: float) -> np.ndarray:
        return np.array(self._hits_s.get(file, []), np.float64)


class ArrayMedia(_GivenHits):
    """Recordings held in memory by name, with hits as they are given."""

    def __init__(
        self, samples: dict[str, np.ndarray], hits_s: dict[str, list[float]] | None = None
    ) -> None:
        super().__init__(hits_s)
        self._samples = samples

    def open(self, file: str) -> Reader:
        return ArrayReader(self._samples[file])


class FolderMedia(_GivenHits):
    """Recordings in a folder, with hits as they are given; names may not lead out of it."""

    def __init__(self, folder: Path, hits_s: dict[str, list[float]] | None = None) -> None:
        super().__init__(hits_s)
        self._folder = folder.resolve()

    def path(self, file: str) -> Path:
        """The file's place; BadDocument when it lies outside the folder, BadRecording when missing."""
        path = (self._folder / file).resolve()
        if not path.is_relative_to(self._folder):
            raise BadDocument(f"the file {file!r} lies outside the session's folder")
        if not path.is_file():
            raise BadRecording("the recording is missing on disk")
        return path

    def open(self, file: str) -> Reader:
        return FileReader(self.path(file))
