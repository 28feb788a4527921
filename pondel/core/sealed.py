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
LONGEST_LINE = 1 << 16


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


def read(path: Path) -> dict[str, np.ndarray] | None:
    """The arrays of a file, None when it is not there or not as it was written."""
    if not is_whole(path):
        return None
    return _arrays(np.fromfile(path, np.uint8))


def mapped(path: Path) -> dict[str, np.ndarray]:
    """The arrays of a file that is whole, read from disk as they are used."""
    return _arrays(np.memmap(path, np.uint8, "r"))


def is_whole(path: Path) -> bool:
    """Whether a file is there as it was written."""
    try:
        with path.open("rb") as file:
            head = file.read(HEAD)
            checksum, length = 0, 0
            while piece := file.read(SPAN):
                checksum, length = zlib.crc32(piece, checksum), length + len(piece)
    except OSError:
        return False
    checksum = zlib.crc32(length.to_bytes(8, "little"), checksum)
    return head == MAGIC + checksum.to_bytes(8, "little")


def _arrays(body: np.ndarray) -> dict[str, np.ndarray]:
    line = body[HEAD : HEAD + LONGEST_LINE]
    end = HEAD + int(np.argmax(line == ord("\n")))
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
