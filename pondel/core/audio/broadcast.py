"""What a broadcast WAV file says besides its sound: when it begins, and markers.

    told_by(path)      # Told(start_s=3612.5, markers=[Marker(12.0, "Verse")])

The time reference after EBU Tech 3285, cue points and their labels after the RIFF specification. Only
the few small chunks that are asked for are handed to the library that reads them.
"""

from __future__ import annotations

import io
import struct
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import BinaryIO

from wavinfo import WavInfoReader

from pondel.core.errors import BadAudio

MOST_CHUNKS = 4096
MOST_BYTES = 1 << 20
MOST_MARKERS = 500
LATEST_S = 86_400.0
"""A time reference counts from midnight; what is later tells nothing."""
WANTED = (b"fmt ", b"bext", b"cue ", b"LIST")
UNREADABLE = (
    ArithmeticError,
    ValueError,
    AssertionError,
    struct.error,
    EOFError,
    LookupError,
    RecursionError,
    StopIteration,
)


@dataclass(frozen=True)
class Marker:
    """A named moment, in seconds from the start of the file."""

    at_s: float
    name: str


@dataclass(frozen=True)
class Told:
    """`start_s` is where the file begins on its own session's clock, None where it does not say."""

    start_s: float | None = None
    markers: list[Marker] = field(default_factory=list)


NOTHING = Told()


def stamped(path: Path, start_frame: int) -> None:
    """Write into a finished WAV or RF64 file where in the song it begins, as broadcast WAV does.

    The chunk is appended, version 1 of EBU Tech 3285, all its texts empty.
    """
    body = bytes(338) + struct.pack("<IIH", start_frame & 0xFFFFFFFF, start_frame >> 32, 1) + bytes(254)
    with path.open("r+b") as file:
        head = file.read(40)
        if head[:4] not in (b"RIFF", b"RF64"):
            raise BadAudio("only a WAV file can say where it begins", where=path.name)
        size = file.seek(0, io.SEEK_END)
        if size % 2:
            file.write(b"\0")
        file.write(b"bext" + struct.pack("<I", len(body)) + body)
        total = file.tell() - 8
        if head[:4] == b"RIFF":
            file.seek(4)
            file.write(struct.pack("<I", total))
        elif head[12:16] == b"ds64":
            file.seek(20)
            file.write(struct.pack("<Q", total))


def told_by(path: Path) -> Told:
    """What a WAV file says of its place; nothing where it says nothing, or nothing that can be read."""
    with path.open("rb") as file:
        head = file.read(12)
        if head[:4] not in (b"RIFF", b"RF64", b"BW64") or head[8:] != b"WAVE":
            return NOTHING
        small = b"".join(_wanted(file))
    sound = b"data" + struct.pack("<I", 2) + bytes(2)
    whole = b"RIFF" + struct.pack("<I", len(small + sound) + 4) + b"WAVE" + small + sound
    for encoding in ("utf-8", "latin_1"):
        try:
            found = WavInfoReader(io.BytesIO(whole), info_encoding=encoding, bext_encoding="latin_1")
        except UnicodeDecodeError:
            continue
        except UNREADABLE:
            return NOTHING
        return _told(found)
    return NOTHING


def _wanted(file: BinaryIO) -> Iterator[bytes]:
    """The small chunks that are wanted, each whole."""
    for _ in range(MOST_CHUNKS):
        header = file.read(8)
        if len(header) < 8:
            return
        length = struct.unpack("<I", header[4:])[0]
        if header[:4] == b"data" and length == 0xFFFFFFFF:
            return
        if header[:4] in WANTED and length <= MOST_BYTES:
            body = file.read(length)
            if header[:4] != b"LIST" or body[:4] == b"adtl":
                even = length + length % 2
                yield header[:4] + struct.pack("<I", even) + body.ljust(even, b"\0")
            file.seek(length % 2, 1)
        else:
            file.seek(length + length % 2, 1)


def _told(found: WavInfoReader) -> Told:
    rate = found.fmt.sample_rate if found.fmt else 0
    if not rate:
        return NOTHING
    start_s = found.bext.time_reference / rate if found.bext else None
    if start_s is not None and start_s > LATEST_S:
        start_s = None
    labels = {label.name: label.text.strip() for label in found.cues.labels} if found.cues else {}
    markers: dict[float, str] = {}
    for name, frame in list(found.cues.each_cue())[:MOST_MARKERS] if found.cues else []:
        markers.setdefault(frame / rate, labels.get(name) or f"Marker {len(markers) + 1}")
    return Told(start_s, [Marker(at_s, markers[at_s]) for at_s in sorted(markers)])
