"""Reading and writing open audio formats."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import soundfile
import soxr

from pondel.core.audio.formats import BIT_DEPTHS, FORMATS
from pondel.core.audio.whole import cut_short
from pondel.core.dsp.dither import Dither
from pondel.core.errors import BadAudio

EXTENSIONS = (".wav", ".wave", ".aif", ".aiff", ".aifc", ".flac", ".ogg", ".oga", ".opus", ".mp3")
BLOCK_FRAMES = 1 << 17
LOUDEST = 1000.0
_RESERVED = re.compile(r"con|prn|aux|nul|com[0-9]|lpt[0-9]", re.IGNORECASE)
"""Names of devices on other systems: no file can be called so there."""
MOST_NAME_BYTES = 160
LONGEST_S = 36_000
WAV_MOST_BYTES = (1 << 32) - (1 << 16)
"""What one WAV or AIFF file holds, with room for its headers."""
PROMISED = "WAV, AIFF, FLAC, Ogg or MP3"
READ = {"WAV", "WAVEX", "RF64", "AIFF", "FLAC", "OGG", "MP3"}
PEAK_CHUNK_WITHIN = 4096


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
    if not _begins_as_promised(path):
        raise BadAudio(f"not an audio file Pondel can read ({PROMISED})", where=name)
    try:
        info = soundfile.info(str(path))
    except (soundfile.LibsndfileError, RuntimeError, TypeError, ValueError) as error:
        raise BadAudio(f"not an audio file Pondel can read ({PROMISED})", where=name) from error
    if info.format not in READ:
        raise BadAudio(f"{info.format} is not a format Pondel reads ({PROMISED})", where=name)
    if info.channels > 2:
        raise BadAudio(
            f"{info.channels} channels; a part is mono or stereo, so export it as one of these",
            where=name,
        )
    if not 1000 <= info.samplerate <= 768000:
        raise BadAudio(f"the sample rate {info.samplerate} Hz makes no sense", where=name)
    if info.frames <= 0:
        raise BadAudio("the file has no sound in it (zero length)", where=name)
    if info.frames > LONGEST_S * info.samplerate:
        raise BadAudio("longer than ten hours is too long for a part", where=name)
    fault = cut_short(path, info.format)
    if fault:
        raise BadAudio(f"the file is cut short: {fault}", where=name)
    return AudioFacts(info.samplerate, info.channels, info.frames, info.format, info.subtype)


def _begins_as_promised(path: Path) -> bool:
    """Whether the first bytes are those of a format that is read: no decoder sees anything else."""
    with path.open("rb") as file:
        head = file.read(12)
    if head[:4] in (b"RIFF", b"RF64", b"BW64"):
        return head[8:] == b"WAVE"
    if head[:4] == b"FORM":
        return head[8:] in (b"AIFF", b"AIFC")
    is_mp3_frame = len(head) > 1 and head[0] == 0xFF and head[1] & 0xE0 == 0xE0
    return head[:4] in (b"fLaC", b"OggS") or head[:3] == b"ID3" or is_mp3_frame


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

    What is too long for a WAV is written as RF64. Every sample is looked at. Raises BadAudio for a
    file that is damaged, cut short, or holds samples that are not numbers; `target` is then
    incomplete and the caller's to remove.
    """
    name = name or source.name
    facts = probe(source, name)
    resampler = None
    if facts.rate != rate:
        resampler = soxr.ResampleStream(facts.rate, rate, facts.channels, quality="VHQ")
    done = 0
    expected = -(-facts.frames * rate // facts.rate) + 1
    format = wav_format(wav_bytes(expected, facts.channels))
    try:
        with soundfile.SoundFile(str(target), "w", rate, facts.channels, "FLOAT", format=format) as out:
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
    check_written(target, written)
    return facts


def interleave(left: Path, right: Path, target: Path) -> None:
    """Write two mono recordings of one rate as the channels of one; the shorter ends in silence."""
    rate = soundfile.info(str(left)).samplerate
    frames = max(soundfile.info(str(path)).frames for path in (left, right))
    format = wav_format(wav_bytes(frames, 2))
    with (
        soundfile.SoundFile(str(left)) as one,
        soundfile.SoundFile(str(right)) as other,
        soundfile.SoundFile(str(target), "w", rate, 2, "FLOAT", format=format) as out,
    ):
        for first in range(0, frames, BLOCK_FRAMES):
            size = min(BLOCK_FRAMES, frames - first)
            both = [f.read(size, dtype="float32", fill_value=0.0) for f in (one, other)]
            out.write(np.stack(both, axis=1))
    check_written(target, frames)


def wav_bytes(frames: int, channels: int, bytes_per_sample: int = 4) -> int:
    """Bytes of so many frames in a WAV or AIFF file."""
    return frames * channels * bytes_per_sample


def wav_format(size: int) -> str:
    """WAV, or RF64 (EBU Tech 3306) for more bytes of sound than a WAV file can say it has."""
    return "WAV" if size <= WAV_MOST_BYTES else "RF64"


def check_written(path: Path, frames: int) -> None:
    """BadAudio when a finished file does not hold the frames that were written to it."""
    _forget_time(path)
    try:
        found = soundfile.info(str(path)).frames
    except soundfile.LibsndfileError:
        found = 0
    if found != frames:
        raise BadAudio(f"{frames} frames were written and {found} can be read back", where=path.name)


def _forget_time(path: Path) -> None:
    """Take the time of writing out of a file's peak chunk: equal sound makes equal files."""
    with path.open("r+b") as file:
        head = file.read(PEAK_CHUNK_WITHIN)
        at = head.find(b"PEAK") if head[:4] in (b"RIFF", b"RF64", b"FORM") else -1
        if 0 <= at <= len(head) - 16:
            file.seek(at + 12)
            file.write(bytes(4))


def _check_samples(block: np.ndarray, first: int, rate: int, name: str) -> None:
    if not block.size or (block.min() >= -LOUDEST and block.max() <= LOUDEST):
        return
    bad = ~np.isfinite(block).all(axis=1)
    if bad.any():
        at = (first + int(np.argmax(bad))) / rate
        raise BadAudio(f"holds samples that are not numbers, the first at {at:.3f} s", where=name)
    at = (first + int(np.argmax(np.abs(block).max(axis=1)))) / rate
    raise BadAudio(f"holds a sample above +60 dBFS at {at:.3f} s: not music", where=name)


def safe_name(name: str) -> str:
    """A part's name as a file name on any system."""
    plain = re.sub(r'[<>:"/\\|?*\x00-\x1f\x7f]+', " ", name)
    short = plain.encode(errors="ignore")[:MOST_NAME_BYTES].decode(errors="ignore")
    found = re.sub(r"\s+", " ", short).strip(" .") or "part"
    return f"{found}_" if _RESERVED.fullmatch(found.partition(".")[0].strip()) else found


def check_target(format: str, bits: str) -> None:
    """BadAudio when the format cannot hold that depth."""
    if format not in FORMATS:
        raise BadAudio(f"no format called {format!r}; there are {', '.join(FORMATS)}")
    if bits not in BIT_DEPTHS:
        raise BadAudio(f"no bit depth {bits!r}; there are {', '.join(BIT_DEPTHS)}")
    if format == "flac" and bits == "32f":
        raise BadAudio("FLAC holds whole numbers: choose 16 or 24 bits, or WAV for 32-bit float")


class Writer:
    """Writes blocks to a file; 16 bits with triangular dither, 24 rounded, 32 as float.

    `frames` tells how many there will be: a WAV longer than 4 GiB becomes RF64, and BadAudio is
    raised for an AIFF that long. After `close` the file holds what was written, or BadAudio says so.
    """

    def __init__(
        self, path: Path, rate: int, channels: int, format: str, bits: str, frames: int = 0
    ) -> None:
        check_target(format, bits)
        subtype = {"16": "PCM_16", "24": "PCM_24", "32f": "FLOAT"}[bits]
        if format == "ogg":
            subtype = "VORBIS"
        size = wav_bytes(frames, channels, 4 if bits == "32f" else int(bits) // 8)
        if format == "aiff" and size > WAV_MOST_BYTES:
            raise BadAudio("AIFF holds at most 4 GiB: choose WAV or FLAC", where=path.name)
        self.clipped = 0
        self._path = path
        self._whole = subtype.startswith("PCM")
        self._dither = Dither(16, channels) if subtype == "PCM_16" else None
        container = wav_format(size) if format == "wav" else FORMATS[format]
        self._file = soundfile.SoundFile(str(path), "w", rate, channels, subtype, format=container)

    def write(self, block: np.ndarray) -> None:
        """Append float32 (frames, channels); samples beyond full scale are counted as clipped."""
        if self._whole:
            self.clipped += int(np.count_nonzero(np.abs(block) > 1.0))
        self._file.write(self._dither.process(block) if self._dither else block)

    def close(self) -> None:
        """Finish the file and look whether it is whole."""
        if self._file.closed:
            return
        written = self._file.frames
        self._file.close()
        check_written(self._path, written)

    def abandon(self) -> None:
        """Close a file that is not wanted any more, whole or not."""
        self._file.close()

    def __enter__(self) -> Writer:
        return self

    def __exit__(self, kind: type[BaseException] | None, *_: object) -> None:
        if kind is None:
            self.close()
        else:
            self.abandon()
