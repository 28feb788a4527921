"""Whether an audio file is all there: what its headers promise against the bytes it has.

Sources: RIFF and AIFF chunks; EBU Tech 3306 (RF64); RFC 3533 (Ogg pages); ISO/IEC 11172-3, 2.4.1.3
(MPEG audio frames). A FLAC file's length is compared while it is decoded.
"""

from __future__ import annotations

import struct
from pathlib import Path
from typing import BinaryIO

STILL_GROWING = 0xFFFFFFF0
LARGEST_OGG_PAGE = 27 + 255 + 255 * 255
ID3_TAIL = 128
KBPS = {
    (3, 1): (0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320),
    (3, 2): (0, 32, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384),
    (3, 3): (0, 32, 64, 96, 128, 160, 192, 224, 256, 288, 320, 352, 384, 416, 448),
    (2, 1): (0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160),
    (2, 2): (0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160),
    (2, 3): (0, 32, 48, 56, 64, 80, 96, 112, 128, 144, 160, 176, 192, 224, 256),
}
"""Bit rates by (version 1: 3, version 2: 2) and layer (III: 1, II: 2, I: 3)."""
RATES = {3: (44100, 48000, 32000), 2: (22050, 24000, 16000), 0: (11025, 12000, 8000)}


def cut_short(path: Path, format: str) -> str | None:
    """What is missing at a file's end, in words; None when nothing is known to be."""
    size = path.stat().st_size
    with path.open("rb") as file:
        if format in ("WAV", "WAVEX", "RF64", "AIFF"):
            missing = _missing_of_chunks(file, size)
            return f"{missing} bytes of sound are missing at its end" if missing else None
        if format == "OGG":
            return None if _ends_with_a_page(file, size) else "its last page is missing"
        if format == "MP3":
            missing = _missing_of_frames(file, size)
            return f"{missing} bytes of its last frames are missing" if missing else None
    return None


def _missing_of_chunks(file: BinaryIO, size: int) -> int:
    """Bytes of sound that a WAV, RF64 or AIFF file promises beyond its end."""
    head = file.read(12)
    order = ">" if head[:4] in (b"FORM", b"RIFX") else "<"
    wanted = b"SSND" if head[:4] == b"FORM" else b"data"
    large = None
    while len(chunk := file.read(8)) == 8:
        length = struct.unpack(order + "I", chunk[4:])[0]
        if chunk[:4] == b"ds64" and length >= 24:
            _, large = struct.unpack("<QQ", file.read(16))
            file.seek(length + length % 2 - 16, 1)
            continue
        if chunk[:4] == wanted:
            if length == 0xFFFFFFFF and large is not None:
                length = large
            elif length >= STILL_GROWING:
                # Recorders that were still writing leave an all-ones length: not a promise.
                return 0
            return max(0, file.tell() + length - size)
        file.seek(length + length % 2, 1)
    return 0


def _ends_with_a_page(file: BinaryIO, size: int) -> bool:
    """Whether the last page of an Ogg file is whole and says that it is the last."""
    file.seek(max(0, size - 2 * LARGEST_OGG_PAGE))
    tail = file.read()
    at = tail.rfind(b"OggS")
    if at < 0 or at + 27 > len(tail):
        return False
    kind, segments = tail[at + 5], tail[at + 26]
    lacing = tail[at + 27 : at + 27 + segments]
    whole = len(lacing) == segments and at + 27 + segments + sum(lacing) <= len(tail)
    return whole and bool(kind & 4)


def _missing_of_frames(file: BinaryIO, size: int) -> int:
    """Bytes that the last frame of an MP3, or its count of bytes, promises beyond its end."""
    at = _after_tag(file)
    end = _before_tail(file, size)
    promised = 0
    first = True
    while at + 4 <= end:
        file.seek(at)
        frame = file.read(192)
        length = _frame_bytes(frame[:4])
        if length is None:
            return max(0, promised - end)
        if first:
            promised = at + _counted_bytes(frame)
            first = False
        if at + length > end:
            return at + length - end
        at += length
    return max(0, promised - end)


def _after_tag(file: BinaryIO) -> int:
    """Where the sound begins behind an ID3 tag."""
    file.seek(0)
    head = file.read(10)
    if head[:3] != b"ID3" or len(head) < 10:
        return 0
    a, b, c, d = (byte & 0x7F for byte in head[6:10])
    return 10 + (a << 21 | b << 14 | c << 7 | d) + (10 if head[5] & 0x10 else 0)


def _before_tail(file: BinaryIO, size: int) -> int:
    """Where the sound ends before an ID3 tag of the old kind."""
    file.seek(max(0, size - ID3_TAIL))
    return size - ID3_TAIL if file.read(3) == b"TAG" else size


def _frame_bytes(head: bytes) -> int | None:
    """Length of an MPEG audio frame, None when its head is none."""
    if len(head) < 4 or head[0] != 0xFF or head[1] & 0xE0 != 0xE0:
        return None
    version, layer = head[1] >> 3 & 3, head[1] >> 1 & 3
    rate_index, kbps_index, padding = head[2] >> 2 & 3, head[2] >> 4, head[2] >> 1 & 1
    if version == 1 or layer == 0 or rate_index == 3 or kbps_index in (0, 15):
        return None
    kbps = KBPS[3 if version == 3 else 2, layer][kbps_index]
    rate = RATES[version][rate_index]
    if layer == 3:
        return (12 * kbps * 1000 // rate + padding) * 4
    samples = 576 if layer == 1 and version != 3 else 1152
    return samples // 8 * kbps * 1000 // rate + padding


def _counted_bytes(frame: bytes) -> int:
    """Bytes of sound that an MP3's first frame counts, 0 when it counts none."""
    at = next((found for mark in (b"Xing", b"Info") if (found := frame.find(mark)) > 0), -1)
    if at < 0 or at + 16 > len(frame):
        return 0
    flags = int.from_bytes(frame[at + 4 : at + 8], "big")
    if not flags & 2:
        return 0
    place = at + 8 + (4 if flags & 1 else 0)
    return int.from_bytes(frame[place : place + 4], "big")
