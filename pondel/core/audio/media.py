"""Where the samples of parts come from: a folder of files at the session's rate."""

from __future__ import annotations

import os
import stat
import threading
import weakref
from abc import ABC, abstractmethod
from collections import OrderedDict
from pathlib import Path
from typing import Protocol

import numpy as np
import soundfile

from pondel.core.dsp.tone import Tone, tone_of
from pondel.core.errors import BadDocument, BadRecording

READ_FRAMES = 1 << 16
MOST_OPEN_FILES = 128
"""Streams that rest hold no file open: a system gives a program a thousand at most."""


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

    def tone(self, file: str, rate: int) -> Tone:
        """The average spectrum of a recording at the session's rate."""
        ...


class _OpenFiles:
    """The readers whose files are open, the last used last; of too many the first ones close theirs."""

    def __init__(self, most: int) -> None:
        self._most = most
        self._lock = threading.Lock()
        self._readers: OrderedDict[int, weakref.ref[FileReader]] = OrderedDict()

    def used(self, reader: FileReader) -> None:
        """A reader has its file open; to be called while none holds its own lock."""
        with self._lock:
            self._readers[id(reader)] = weakref.ref(reader)
            self._readers.move_to_end(id(reader))
            first = []
            while len(self._readers) > self._most:
                first.append(self._readers.popitem(last=False)[1]())
        for one in first:
            if one is not None and one is not reader:
                one.rest()


_OPEN = _OpenFiles(MOST_OPEN_FILES)


class FileReader:
    """One audio file, opened when it is read. Not to be shared between threads."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._lock = threading.Lock()
        self._file: soundfile.SoundFile | None = None
        self._position = 0
        file = self._opened()
        self.channels: int = file.channels
        self.frames: int = file.frames
        _OPEN.used(self)

    def _opened(self) -> soundfile.SoundFile:
        if self._file is None:
            try:
                self._file = soundfile.SoundFile(str(self._path))
            except soundfile.LibsndfileError as error:
                raise BadRecording("the recording on disk cannot be read") from error
            self._position = 0
        return self._file

    def rest(self) -> None:
        """Close the file until it is read again."""
        with self._lock:
            if self._file is not None:
                self._file.close()
                self._file = None

    def read(self, start: int, frames: int) -> np.ndarray:
        out = np.zeros((frames, self.channels), np.float32)
        first = max(start, 0)
        last = min(start + frames, self.frames)
        if last <= first:
            return out
        with self._lock:
            file = self._opened()
            if first != self._position:
                file.seek(first)
            got = file.read(last - first, dtype="float32", always_2d=True)
            self._position = first + got.shape[0]
        if got.shape[0] < last - first:
            raise BadRecording("the recording was cut short on disk while it was read")
        out[first - start : last - start] = got
        _OPEN.used(self)
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
        self._tones: dict[tuple[str, int], Tone] = {}

    @abstractmethod
    def open(self, file: str) -> Reader:
        """A reader of a recording from its start."""

    def frames(self, file: str) -> int:
        return self.open(file).frames

    def found_hits_s(self, file: str, sensitivity: float) -> np.ndarray:
        return np.array(self._hits_s.get(file, []), np.float64)

    def tone(self, file: str, rate: int) -> Tone:
        if (file, rate) not in self._tones:
            reader = self.open(file)
            starts = range(0, reader.frames, READ_FRAMES)
            sizes = (min(READ_FRAMES, reader.frames - start) for start in starts)
            blocks = (reader.read(*at) for at in zip(starts, sizes, strict=True))
            self._tones[file, rate] = tone_of(blocks, rate)
        return self._tones[file, rate]


class ArrayMedia(_GivenHits):
    """Recordings held in memory by name, with hits as they are given."""

    def __init__(
        self, samples: dict[str, np.ndarray], hits_s: dict[str, list[float]] | None = None
    ) -> None:
        super().__init__(hits_s)
        self._samples = samples

    def open(self, file: str) -> Reader:
        return ArrayReader(self._samples[file])


def _leads_straight(folder: str, name: str) -> bool:
    """Whether a name leads to a file by way of folders within a folder alone, none of them a link.

    Asked of every recording with every edit, so in plain text.
    """
    *folders, file = name.split("/")
    if any(one in ("", ".", "..") for one in (*folders, file)):
        return False
    at = folder
    try:
        for one in folders:
            at = f"{at}/{one}"
            if not stat.S_ISDIR(os.lstat(at).st_mode):
                return False
        return stat.S_ISREG(os.lstat(f"{at}/{file}").st_mode)
    except (OSError, ValueError):
        return False


class FolderMedia(_GivenHits):
    """Recordings in a folder, with hits as they are given; names may not lead out of it."""

    def __init__(self, folder: Path, hits_s: dict[str, list[float]] | None = None) -> None:
        super().__init__(hits_s)
        self._folder = folder.resolve()

    def path(self, file: str) -> Path:
        """The file's place; BadDocument when it lies outside the folder, BadRecording when missing."""
        path = self._folder / file
        if _leads_straight(str(self._folder), file):
            return path
        path = path.resolve()
        if not path.is_relative_to(self._folder):
            raise BadDocument(f"the file {file!r} lies outside the session's folder")
        if not path.is_file():
            raise BadRecording("the recording is missing on disk")
        return path

    def open(self, file: str) -> Reader:
        return FileReader(self.path(file))
