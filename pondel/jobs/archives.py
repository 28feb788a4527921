"""Session archives: a zip with session.json, its audio and the shelf, read in bounds and streamed."""

from __future__ import annotations

import json
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path, PurePosixPath
from typing import IO, Any

import numpy as np
from zipstream import ZIP_STORED, ZipStream

from pondel.core.audio import files
from pondel.core.document import Session
from pondel.core.errors import BadDocument, BadRecording
from pondel.core.ids import fresh_id
from pondel.core.reading import to_json
from pondel.jobs import shelves
from pondel.jobs.along import ALONG_FILE, Along, written
from pondel.store.library import Library
from pondel.store.room import written_in

SESSION_FILE = "session.json"
ALONE = Along()
MAX_JSON_BYTES = 32 << 20
MOST_ENTRIES = 5000
MOST_NAME_BYTES = 400
MOST_ENTRY_BYTES = 32 << 30
MOST_TIMES = 400
"""No recording is packed to less than a 400th of its size; what is was made to burst a disk."""
SPAN = 1 << 20
UNREADABLE = (
    zipfile.BadZipFile,
    zipfile.LargeZipFile,
    zlib.error,
    EOFError,
    NotImplementedError,
    RuntimeError,
    ValueError,
    UnicodeError,
    OverflowError,
)


@contextmanager
def opened(source: Path) -> Iterator[zipfile.ZipFile]:
    """An archive whose list of entries is within bounds; BadDocument says what is wrong with it."""
    try:
        with zipfile.ZipFile(source) as archive:
            _check_entries(archive, source.name)
            yield archive
    except UNREADABLE as error:
        raise BadDocument("not a readable zip archive", where=source.name) from error


def _check_entries(archive: zipfile.ZipFile, name: str) -> None:
    entries = archive.infolist()
    if len(entries) > MOST_ENTRIES:
        raise BadDocument(f"an archive of {len(entries)} entries is no session", where=name)
    taken: set[str] = set()
    for entry in entries:
        path = PurePosixPath(entry.filename.replace("\\", "/"))
        shown = f"the entry {entry.filename!r:.60}"
        if len(entry.filename.encode(errors="replace")) > MOST_NAME_BYTES:
            raise BadDocument(f"{shown} has too long a name", where=name)
        if path.is_absolute() or ".." in path.parts:
            raise BadDocument(f"{shown} leads out of the archive", where=name)
        if entry.flag_bits & 1:
            raise BadDocument("the archive is encrypted: unpack it first", where=name)
        if str(path).lower() in taken:
            raise BadDocument(f"{shown} is in the archive twice", where=name)
        taken.add(str(path).lower())


def document_entry(archive: zipfile.ZipFile, name: str) -> zipfile.ZipInfo:
    """The entry that holds the document, the one nearest to the top."""
    found = [e for e in archive.infolist() if PurePosixPath(e.filename).name == SESSION_FILE]
    if not found:
        raise BadDocument(f"the archive has no {SESSION_FILE}", where=name)
    return min(found, key=lambda entry: entry.filename.count("/"))


def entry_beside(archive: zipfile.ZipFile, entry: zipfile.ZipInfo, name: str) -> zipfile.ZipInfo | None:
    """The entry of a name in the folder of another."""
    wanted = str(PurePosixPath(entry.filename).parent / name)
    return next((one for one in archive.infolist() if one.filename == wanted), None)


def read_json(archive: zipfile.ZipFile, entry: zipfile.ZipInfo, name: str) -> bytes:
    """The text of the document, or of another JSON file beside it."""
    if entry.file_size > MAX_JSON_BYTES:
        raise BadDocument(f"its {PurePosixPath(entry.filename).name:.60} is too large", where=name)
    with archive.open(entry) as stream:
        text = stream.read(MAX_JSON_BYTES + 1)
    if len(text) > MAX_JSON_BYTES:
        raise BadDocument(f"its {PurePosixPath(entry.filename).name:.60} is too large", where=name)
    return text


def unpack(archive: zipfile.ZipFile, inside: str, target: Path, name: str) -> None:
    """Write one entry to a file; it is given up where it gets larger than it may."""
    entry = next((e for e in archive.infolist() if e.filename == inside), None)
    if entry is None:
        raise BadDocument(f"the file {inside!r:.80} is missing in the archive", where=name)
    most = min(MOST_ENTRY_BYTES, MOST_TIMES * max(entry.compress_size, SPAN))
    with archive.open(entry) as stream, written_in(target.parent), target.open("wb") as file:
        copy_within(stream, file, most, f"the file {inside!r:.80}", name)


def copy_within(stream: IO[bytes], file: IO[bytes], most: int, what: str, name: str) -> None:
    """Copy at most so many bytes."""
    done = 0
    while block := stream.read(SPAN):
        done += len(block)
        if done > most:
            raise BadDocument(f"{what} unpacks to more than a recording can hold", where=name)
        file.write(block)


def stream_archive(library: Library, document: Session, along: Along = ALONE) -> Iterator[bytes]:
    """The session as a zip, made while it is read: session.json, its audio, and what goes along.

    Recordings are packed one at a time into a passing file (FLAC, or WAV where needed). What is
    wrong with a recording is raised before the first byte.
    """
    for one in (document, *along.variants.values()):
        faults = library.media.faults(one)
        for part in one.parts:
            if part.id in faults:
                raise BadRecording(faults[part.id], where=part.name)
    return _packed(library, document, along)


def _packed(library: Library, document: Session, along: Along) -> Iterator[bytes]:
    data = to_json(document)
    names: dict[str, str] = {}
    taken: set[str] = set()
    archive = ZipStream(compress_type=ZIP_STORED)

    def renamed(data: dict[str, Any]) -> None:
        for part in data["parts"]:
            file = part["file"]
            if file is None:
                continue
            if file not in names:
                stem = fresh_id(part["name"], taken)
                taken.add(stem)
                path = library.media.path(file)
                format, bits = lossless(path)
                names[file] = f"audio/{stem}.{format}"
                archive.add(_pack(library, path, format, bits), names[file])
            part["file"] = names[file]

    renamed(data)
    beside = written(along, renamed)
    if beside is not None:
        archive.add(beside, ALONG_FILE)
    archive.add(json.dumps(data, indent=1, ensure_ascii=False).encode(), SESSION_FILE)
    shelf = shelves.written(library.shelf)
    if shelf is not None:
        archive.add(shelf, shelves.SHELF_FILE)
    yield from archive


def lossless(path: Path) -> tuple[str, str]:
    """The format that keeps every sample of a recording: 24-bit FLAC if that can, else float WAV."""
    whole = all(
        np.abs(block).max(initial=0.0) <= 1.0 - 2.0**-23
        and np.array_equal(block * 2.0**23, np.round(block * 2.0**23))
        for block in files.read_blocks(path)
    )
    return ("flac", "24") if whole and files.probe(path).rate <= 655350 else ("wav", "32f")


def _pack(library: Library, path: Path, format: str, bits: str) -> Iterator[bytes]:
    facts = files.probe(path)
    with library.media.scratch(f".{format}") as packed:
        with (
            written_in(packed.parent),
            files.Writer(packed, facts.rate, facts.channels, format, bits, facts.frames) as writer,
        ):
            for block in files.read_blocks(path):
                writer.write(block)
        with packed.open("rb") as file:
            while span := file.read(SPAN):
                yield span


def write_archive(library: Library, document: Session, target: Path, along: Along = ALONE) -> None:
    """The session as a zip file, there whole or not at all."""
    unfinished = target.with_name(target.name + ".part")
    try:
        with written_in(target.parent), unfinished.open("wb") as file:
            for block in stream_archive(library, document, along):
                file.write(block)
        unfinished.replace(target)
    finally:
        unfinished.unlink(missing_ok=True)
