"""Reading and writing open audio formats."""

from __future__ import annotations

import re
import struct
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

import numpy as np
import soundfile
import soxr

from pondel.core.dsp.dither import Dither
from pondel.core.errors import BadAudio

EXTENSIONS = (".wav", ".wave", ".aif", ".aiff", ".aifc", ".flac", ".ogg", ".oga", ".opus", ".mp3")
BLOCK_FRAMES = 1 << 16
LOUDEST = 1000.0
Bits = Literal["16", "24", "32f"]
FORMATS = {"wav": "WAV", "flac": "FLAC", "aiff": "AIFF", "ogg": "OGG"}
BIT_DEPTHS: tuple[Bits, ...] = ("16", "24", "32f")


@dataclass(frozen=True)
class AudioFacts:
    """What a file says of itself."""

    rate: int
    channels: int
    frames: int
    format: str
    subtype: str


def probe(path: Path, name: str | None = None) -> AudioFacts:
    """The facts of an audio file; BadAudio says why it cannot become a part."""
    name = name or path.name
    if path.stat().st_size == 0:
        raise BadAudio("the file is empty", where=name)
    try:
        info = soundfile.info(str(path))
    except (soundfile.LibsndfileError, RuntimeError, TypeError, ValueError) as error:
        raise BadAudio(
            "not an audio file Pondel can read (WAV, AIFF, FLAC, Ogg or MP3)", where=name
        ) from error
    if info.channels > 2:
        raise BadAudio(
            f"{info.channels} channels; a part is mono or stereo, so export it as one of these",
            where=name,
        )
    if not 1000 <= info.samplerate <= 768000:
        raise BadAudio(f"the sample rate {info.samplerate} Hz makes no sense", where=name)
    if info.frames <= 0:
        raise BadAudio("the file has no sound in it (zero length)", where=name)
    missing = _missing_bytes(path)
    if missing > 0:
        raise BadAudio(
            f"the file is cut short: {missing} bytes of sound are missing at its end", where=name
        )
    return AudioFacts(info.samplerate, info.channels, info.frames, info.format, info.subtype)


def _missing_bytes(path: Path) -> int:
    """How many bytes a WAV or AIFF file promises beyond its end; 0 for other formats."""
    size = path.stat().st_size
    with path.open("rb") as file:
        head = file.read(12)
        if len(head) < 12:
            return 0
        order = {b"RIFF": "<", b"FORM": ">"}.get(head[:4])
        wanted = {b"RIFF": b"data", b"FORM": b"SSND"}.get(head[:4])
        if order is None:
            return 0
        while chunk := file.read(8):
            if len(chunk) < 8:
                return 0
            length = struct.unpack(order + "I", chunk[4:])[0]
            if chunk[:4] == wanted:
                # Recorders that were still writing leave an all-ones length: not a promise.
                return 0 if length >= 0xFFFFFFF0 else max(0, file.tell() + length - size)
            file.seek(length + length % 2, 1)
    return 0


def read_blocks(
    path: Path, *, start: int = 0, frames: int = -1, block_frames: int = BLOCK_FRAMES
) -> Iterator[np.ndarray]:
    """float32 blocks of shape (frames, channels)."""
    with soundfile.SoundFile(str(path)) as file:
        file.seek(start)
        yield from file.blocks(block_frames, frames=frames, dtype="float32", always_2d=True)


def read(path: Path) -> tuple[np.ndarray, int]:
    """A whole file as float32 (frames, channels) and its rate."""
    return soundfile.read(str(path), dtype="float32", always_2d=True)


def convert(
    source: Path,
    target: Path,
    rate: int,
    *,
    name: str | None = None,
    progress: Callable[[float], None] = lambda share: None,
) -> AudioFacts:
    """Decode `source`, convert it to `rate` at best quality and write float32 WAV to `target`.

    Every sample is looked at. Raises BadAudio for a file that is damaged, cut short, or holds
    samples that are not numbers; `target` is then incomplete and the caller's to remove.
    """
    name = name or source.name
    facts = probe(source, name)
    resampler = None
    if facts.rate != rate:
        resampler = soxr.ResampleStream(facts.rate, rate, facts.channels, quality="VHQ")
    done = 0
    try:
        with soundfile.SoundFile(str(target), "w", rate, facts.channels, "FLOAT", format="WAV") as out:
            for block in read_blocks(source):
                _check_samples(block, done, facts.rate, name)
                done += block.shape[0]
                out.write(resampler.resample_chunk(block) if resampler else block)
                progress(done / facts.frames)
            if resampler:
                empty = np.empty((0, facts.channels), np.float32)
                out.write(resampler.resample_chunk(empty, last=True))
            written = out.frames
    except soundfile.LibsndfileError as error:
        raise BadAudio(
            f"the sound cannot be decoded after {done / facts.rate:.2f} s: the file is damaged "
            "or cut short",
            where=name,
        ) from error
    if done < facts.frames:
        raise BadAudio(
            f"the file is cut short: {done / facts.rate:.2f} s of {facts.frames / facts.rate:.2f} s",
            where=name,
        )
    if written == 0:
        raise BadAudio("the file is too short to be a part", where=name)
    return facts


def _check_samples(block: np.ndarray, first: int, rate: int, name: str) -> None:
    bad = ~np.isfinite(block).all(axis=1)
    if bad.any():
        at = (first + int(np.argmax(bad))) / rate
        raise BadAudio(f"holds samples that are not numbers, the first at {at:.3f} s", where=name)
    if block.size and np.abs(block).max() > LOUDEST:
        at = (first + int(np.argmax(np.abs(block).max(axis=1)))) / rate
        raise BadAudio(f"holds a sample above +60 dBFS at {at:.3f} s: not music", where=name)


def safe_name(name: str) -> str:
    """A part's name as a file name on any system."""
    plain = re.sub(r'[<>:"/\\|?*\x00-\x1f]+', " ", name)
    return re.sub(r"\s+", " ", plain).strip(" .") or "part"


def check_target(format: str, bits: str) -> None:
    """BadAudio when the format cannot hold that depth."""
    if format not in FORMATS:
        raise BadAudio(f"no format called {format!r}; there are {', '.join(FORMATS)}")
    if bits not in BIT_DEPTHS:
        raise BadAudio(f"no bit depth {bits!r}; there are {', '.join(BIT_DEPTHS)}")
    if format == "flac" and bits == "32f":
        raise BadAudio("FLAC holds whole numbers: choose 16 or 24 bits, or WAV for 32-bit float")


class Writer:
    """Writes blocks to a file; 16 bits with triangular dither, 24 rounded, 32 as float."""

    def __init__(self, path: Path, rate: int, channels: int, format: str, bits: Bits) -> None:
        check_target(format, bits)
        subtype = {"16": "PCM_16", "24": "PCM_24", "32f": "FLOAT"}[bits]
        if format == "ogg":
            subtype = "VORBIS"
        self.clipped = 0
        self._whole = subtype.startswith("PCM")
        self._dither = Dither(16, channels) if subtype == "PCM_16" else None
        self._file = soundfile.SoundFile(
            str(path), "w", rate, channels, subtype, format=FORMATS[format]
        )

    def write(self, block: np.ndarray) -> None:
        """Append float32 (frames, channels); samples beyond full scale are counted as clipped."""
        if self._whole:
            self.clipped += int(np.count_nonzero(np.abs(block) > 1.0))
        self._file.write(self._dither.process(block) if self._dither else block)

    def close(self) -> None:
        self._file.close()

    def __enter__(self) -> Writer:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()
