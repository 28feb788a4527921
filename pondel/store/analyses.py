"""Analyses too large for the database: arrays in files, named by what they were made of."""

from __future__ import annotations

import hashlib
import os
import uuid
from collections.abc import Iterable
from pathlib import Path

import numpy as np

MAX_BYTES = 4 << 30


class Analyses:
    """A folder of arrays that may be thrown away at any time; the oldest go first."""

    def __init__(self, data_dir: Path, max_bytes: int = MAX_BYTES) -> None:
        self._folder = data_dir / "analyses"
        self._folder.mkdir(parents=True, exist_ok=True)
        self._max_bytes = max_bytes

    def _path(self, name: str, suffix: str) -> Path:
        return self._folder / f"{hashlib.sha256(name.encode()).hexdigest()[:32]}{suffix}"

    def rows(self, name: str, width: int) -> np.ndarray | None:
        """Rows of float16 kept under a name, (rows, width), read from disk as they are used."""
        path = self._path(name, ".rows")
        if not path.exists():
            return None
        os.utime(path)
        if not path.stat().st_size:
            return np.zeros((0, width), np.float16)
        return np.memmap(path, np.float16, "r").reshape(-1, width)

    def keep_rows(self, name: str, pieces: Iterable[np.ndarray]) -> None:
        """Write rows as they come; they appear under their name when all are there."""
        unfinished = self._folder / f"{uuid.uuid4().hex}.part"
        try:
            with unfinished.open("wb") as file:
                for piece in pieces:
                    file.write(np.ascontiguousarray(piece, np.float16).tobytes())
            unfinished.replace(self._path(name, ".rows"))
        finally:
            unfinished.unlink(missing_ok=True)
        self._make_room()

    def arrays(self, name: str) -> dict[str, np.ndarray] | None:
        """Named arrays kept together, or None."""
        path = self._path(name, ".npz")
        if not path.exists():
            return None
        os.utime(path)
        with np.load(path, allow_pickle=False) as kept:
            return dict(kept)

    def keep_arrays(self, name: str, arrays: dict[str, np.ndarray]) -> None:
        """Keep named arrays together."""
        unfinished = self._folder / f"{uuid.uuid4().hex}.part"
        try:
            with unfinished.open("wb") as file:
                np.savez(file, **arrays)  # type: ignore[arg-type]
            unfinished.replace(self._path(name, ".npz"))
        finally:
            unfinished.unlink(missing_ok=True)
        self._make_room()

    def sweep(self) -> None:
        """After a start: what an earlier run left unfinished goes."""
        for path in self._folder.glob("*.part"):
            path.unlink(missing_ok=True)

    def _make_room(self) -> None:
        known = []
        for path in self._folder.iterdir():
            try:
                facts = path.stat()
            except FileNotFoundError:
                continue
            if path.suffix != ".part":
                known.append((facts.st_mtime, facts.st_size, path))
        size = sum(entry[1] for entry in known)
        for _, bytes_held, path in sorted(known):
            if size <= self._max_bytes:
                return
            path.unlink(missing_ok=True)
            size -= bytes_held
