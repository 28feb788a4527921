"""Arrays kept on disk that are believed only when they are whole.

A file is a line of JSON about its arrays, the bytes of the arrays, and before both a checksum of all.
"""

from __future__ import annotations

import json
import zlib
from collections.abc import Iterable
from pathlib import Path
from typing import BinaryIO

import numpy as np

MAGIC = b"pondel1\n"
HEAD = len(MAGIC) + 8
SPAN = 1 << 20
ALIGNED = 16


def write(file: BinaryIO, arrays: dict[str, np.ndarray]) -> None:
    """Write named arrays."""
    whole = {name: np.asarray(array, order="C") for name, array in arrays.items()}
    about = {name: [array.dtype.str, array.shape] for name, array in whole.items()}
    _write(file, about, whole.values())


def write_rows(file: BinaryIO, pieces: Iterable[np.ndarray], width: int, dtype: str) -> None:
    """Write one array of rows, (rows, width), as its pieces come."""
    about = {"rows": [np.dtype(dtype).str, [-1, width]]}
    _write(file, about, (np.ascontiguousarray(piece, dtype) for piece in pieces))


def _write(file: BinaryIO, about: dict[str, list], arrays: Iterable[np.ndarray]) -> None:
    line = json.dumps(about).encode()
    line += b" " * (-(HEAD + len(line) + 1) % ALIGNED) + b"\n"
    file.write(MAGIC + bytes(8) + line)
    checksum, length = zlib.crc32(line), len(line)
    for array in arrays:
        if not array.size:
            continue
        file.write(array.data)
        checksum = zlib.crc32(array.data, checksum)
        length += array.nbytes
    file.seek(len(MAGIC))
    file.write(zlib.crc32(length.to_bytes(8, "little"), checksum).to_bytes(8, "little"))


def read(path: Path, *, mapped: bool = False) -> dict[str, np.ndarray] | None:
    """The arrays of a file, None when it is not there or not as it was written.

    With `mapped` the arrays are read from disk as they are used.
    """
    try:
        body = np.memmap(path, np.uint8, "r") if mapped else np.fromfile(path, np.uint8)
        return _arrays(body)
    except (OSError, ValueError, KeyError, TypeError):
        return None


def _arrays(body: np.ndarray) -> dict[str, np.ndarray] | None:
    head = body[:HEAD].tobytes()
    if body.size <= HEAD or not head.startswith(MAGIC):
        return None
    checksum, length = 0, body.size - HEAD
    for first in range(HEAD, body.size, SPAN):
        checksum = zlib.crc32(body[first : first + SPAN].data, checksum)
    checksum = zlib.crc32(length.to_bytes(8, "little"), checksum)
    if checksum.to_bytes(8, "little") != head[len(MAGIC) :]:
        return None
    end = HEAD + int(np.argmax(body[HEAD:] == ord("\n")))
    at, found = end + 1, {}
    for name, (dtype, shape) in json.loads(body[HEAD:end].tobytes()).items():
        kind = np.dtype(dtype)
        if shape and shape[0] == -1:
            shape[0] = (body.size - at) // (kind.itemsize * int(np.prod(shape[1:])))
        size = int(np.prod(shape)) * kind.itemsize
        found[name] = _view(body, at, size, kind).reshape(shape)
        at += size
    return found


def _view(body: np.ndarray, at: int, size: int, kind: np.dtype) -> np.ndarray:
    """Bytes as numbers; copied only where they do not lie as the numbers must."""
    part = body[at : at + size]
    return part.view(kind) if at % kind.itemsize == 0 else np.frombuffer(part.tobytes(), kind)
