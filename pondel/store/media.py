"""The folder of recordings: float32 WAV files named by the hash of their bytes."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from pondel.core.audio.media import FileReader, FolderMedia, Reader
from pondel.core.document import Session
from pondel.core.errors import BadRecording
from pondel.store.folder import INCOMING, DataFolder, sync
from pondel.store.seals import Seals, file_hash


class MediaFolder:
    """Adopts finished files by content; a file is there whole or not at all."""

    def __init__(self, folder: DataFolder, seals: Seals) -> None:
        self._data = folder
        self._seals = seals
        self.folder = folder.place("media")
        self.incoming = folder.place(INCOMING)
        self._media = FolderMedia(folder.root)

    def path(self, file: str) -> Path:
        """A recording's place; BadRecording when it is missing, cut or changed."""
        path = self._media.path(file)
        self._seals.check(path)
        return path

    def open(self, file: str) -> Reader:
        return FileReader(self.path(file))

    def faults(self, document: Session, *, read_again: bool = False) -> dict[str, str]:
        """What is wrong with the recordings of a session, by part.

        With `read_again` every byte is read, not only what has changed its size or time.
        """
        found = {}
        for part in document.parts:
            if part.file is None:
                continue
            try:
                self._seals.check(self._media.path(part.file), read_again=read_again)
            except BadRecording as error:
                found[part.id] = error.message
        return found

    @contextmanager
    def scratch(self, suffix: str = "") -> Iterator[Path]:
        """A path for an unfinished file, removed afterwards if it is still there."""
        with self._data.scratch(suffix) as path:
            yield path

    def adopt(self, finished: Path) -> str:
        """Move a finished file in; returns the name that stands in documents."""
        target = self.folder / f"{file_hash(finished)}.wav"
        sync(finished)
        finished.replace(target)
        sync(self.folder)
        self._seals.put(target)
        return f"media/{target.name}"
