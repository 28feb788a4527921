"""The folder of recordings: float32 WAV files named by the hash of their bytes."""

from __future__ import annotations

import hashlib
import os
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from pondel.core.audio.media import FileReader, FolderMedia, Reader


class MediaFolder:
    """Adopts finished files by content; a file is there whole or not at all."""

    def __init__(self, data_dir: Path) -> None:
        self.root = data_dir
        self.folder = data_dir / "media"
        self.incoming = data_dir / "incoming"
        self.folder.mkdir(parents=True, exist_ok=True)
        self.incoming.mkdir(parents=True, exist_ok=True)
        self._media = FolderMedia(data_dir)

    def path(self, file: str) -> Path:
        return self._media.path(file)

    def open(self, file: str) -> Reader:
        return FileReader(self.path(file))

    @contextmanager
    def scratch(self, suffix: str = "") -> Iterator[Path]:
        """A path for an unfinished file, removed afterwards if it is still there."""
        path = self.incoming / f"{uuid.uuid4().hex}.part{suffix}"
        try:
            yield path
        finally:
            path.unlink(missing_ok=True)

    def adopt(self, finished: Path) -> str:
        """Move a finished file in; returns the name that stands in documents."""
        name = f"{file_hash(finished)}.wav"
        sync(finished)
        finished.replace(self.folder / name)
        sync(self.folder)
        return f"media/{name}"

    def sweep(self, keep: set[str]) -> None:
        """Remove what earlier runs left unfinished, except the named uploads."""
        for path in self.incoming.iterdir():
            if path.name not in keep:
                path.unlink(missing_ok=True)


def file_hash(path: Path) -> str:
    """SHA-256 of a file, shortened."""
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()[:32]


def sync(path: Path) -> None:
    """Make a file, or a folder's list of names, safe against a power cut."""
    handle = os.open(path, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
