"""Sessions as files: folders of recordings, session.json with its audio, and archives."""

from __future__ import annotations

import json
import tempfile
import zipfile
from collections import Counter
from collections.abc import Callable, Iterable
from pathlib import Path

import numpy as np

from pondel.core.advice.roles import guess_role
from pondel.core.audio import files
from pondel.core.audio.files import AudioFacts
from pondel.core.document import Part, Session, parse_session, to_json
from pondel.core.edits import fresh_id
from pondel.core.errors import BadAudio, BadDocument, PondelError
from pondel.jobs.tasks import part_name
from pondel.store.library import Library

SESSION_FILE = "session.json"
MAX_JSON_BYTES = 32 << 20


def audio_files(paths: Iterable[Path]) -> list[Path]:
    """The audio files named, and those directly in the folders named, in order of name."""
    found: list[Path] = []
    for path in paths:
        if path.is_dir():
            found += sorted(p for p in path.iterdir() if p.suffix.lower() in files.EXTENSIONS)
        elif path.is_file():
            found.append(path)
        else:
            raise BadAudio("there is no such file or folder", where=str(path))
    return found


def import_files(
    library: Library,
    name: str,
    paths: list[Path],
    *,
    refused: Callable[[PondelError], None],
    progress: Callable[[str], None] = lambda name: None,
) -> str:
    """A new session from audio files; returns its id.

    A file that cannot become a part is passed to `refused` and the others still come in;
    BadAudio when none could. The session takes the rate most of the files have.
    """
    facts: dict[Path, AudioFacts] = {}
    for path in paths:
        try:
            facts[path] = files.probe(path)
        except PondelError as error:
            refused(error)
    if not facts:
        raise BadAudio("none of the files can become a part", where=name)
    common = Counter(fact.rate for fact in facts.values()).most_common(1)[0][0]
    rate = min(max(common, 44100), 192000)
    parts: list[Part] = []
    for path in facts:
        progress(path.name)
        try:
            file = take_file(library, path, rate)
        except PondelError as error:
            refused(error)
            continue
        title = part_name(path.name)
        taken = {part.id for part in parts}
        part = Part(id=fresh_id(title, taken), name=title, role=guess_role(title), file=file)
        parts.append(part)
    if not parts:
        raise BadAudio("none of the files can become a part", where=name)
    return library.create(Session(name=name, rate=rate, parts=parts), rate_known=True)


def take_file(library: Library, path: Path, rate: int) -> str:
    """Convert one file into the media folder; returns its name in documents."""
    with library.media.scratch(".wav") as unfinished:
        files.convert(path, unfinished, rate)
        return library.media.adopt(unfinished)


def import_handed(library: Library, paths: list[Path]) -> str:
    """A new session from files handed in together: an archive, or a session.json with its audio."""
    archives = [path for path in paths if path.suffix.lower() == ".zip"]
    documents = [path for path in paths if path.suffix.lower() == ".json"]
    if len(archives) == 1:
        return import_archive(library, archives[0])
    if len(documents) == 1:
        return import_document(library, documents[0], beside=True)
    raise BadDocument("one session archive (zip), or one session.json with its audio, is needed")


def import_document(
    library: Library, source: Path, name: str | None = None, *, beside: bool = False
) -> str:
    """A new session from a session.json and its audio; returns its id.

    With `beside` audio is also looked for right beside the document, whatever folder it names.
    Raises BadDocument naming the field, or BadAudio naming the file, and leaves no session.
    """
    if source.stat().st_size > MAX_JSON_BYTES:
        raise BadDocument("this is too large to be a mix document", where=source.name)
    try:
        document = parse_session(source.read_bytes())
    except PondelError as error:
        raise BadDocument(error.message, where=source.name) from error
    folder = source.parent.resolve()
    data = to_json(document)
    for part in data["parts"]:
        if part["file"] is None:
            continue
        path = (folder / part["file"]).resolve()
        if beside and not path.is_file():
            path = folder / Path(part["file"]).name
        if not path.is_relative_to(folder):
            raise BadDocument(
                f"the file {part['file']!r} of {part['name']!r} lies outside the session's folder",
                where=source.name,
            )
        if not path.is_file():
            raise BadDocument(
                f"the file {part['file']!r} of {part['name']!r} is missing", where=source.name
            )
        part["file"] = take_file(library, path, document.rate)
    if name:
        data["name"] = name
    return library.create(parse_session(data), rate_known=True)


def import_archive(library: Library, source: Path, name: str | None = None) -> str:
    """A new session from a session archive (zip); returns its id."""
    try:
        with zipfile.ZipFile(source) as archive, tempfile.TemporaryDirectory() as folder:
            root = Path(folder).resolve()
            for entry in archive.infolist():
                if not (root / entry.filename).resolve().is_relative_to(root):
                    raise BadDocument(
                        f"the entry {entry.filename!r:.60} leads out of the archive",
                        where=source.name,
                    )
            archive.extractall(root)
            inside = sorted(root.rglob(SESSION_FILE), key=lambda path: len(path.parts))
            if not inside:
                raise BadDocument(f"the archive has no {SESSION_FILE}", where=source.name)
            return import_document(library, inside[0], name)
    except (zipfile.BadZipFile, zipfile.LargeZipFile, EOFError, NotImplementedError) as error:
        raise BadDocument("not a readable zip archive", where=source.name) from error


def write_archive(library: Library, document: Session, target: Path) -> None:
    """The session as a zip: session.json and its audio, lossless (FLAC, or WAV where needed)."""
    data = to_json(document)
    written: dict[str, str] = {}
    unfinished = target.with_name(target.name + ".part")
    try:
        with (
            zipfile.ZipFile(unfinished, "w", zipfile.ZIP_STORED) as archive,
            tempfile.TemporaryDirectory() as folder,
        ):
            taken: set[str] = set()
            for part in data["parts"]:
                if part["file"] is None:
                    continue
                if part["file"] not in written:
                    stem = fresh_id(part["name"], taken)
                    taken.add(stem)
                    packed = pack_audio(library.media.path(part["file"]), Path(folder) / stem)
                    written[part["file"]] = f"audio/{packed.name}"
                    archive.write(packed, written[part["file"]])
                    packed.unlink()
                part["file"] = written[part["file"]]
            archive.writestr(SESSION_FILE, json.dumps(data, indent=1, ensure_ascii=False))
        unfinished.replace(target)
    finally:
        unfinished.unlink(missing_ok=True)


def pack_audio(source: Path, stem: Path) -> Path:
    """Copy a recording without loss: 24-bit FLAC when that holds every sample, else float WAV."""
    whole = all(
        np.abs(block).max(initial=0.0) <= 1.0 - 2.0**-23
        and np.array_equal(block * 2.0**23, np.round(block * 2.0**23))
        for block in files.read_blocks(source)
    )
    facts = files.probe(source)
    format, bits = ("flac", "24") if whole and facts.rate <= 655350 else ("wav", "32f")
    target = stem.with_suffix(f".{format}")
    with files.Writer(target, facts.rate, facts.channels, format, bits) as writer:
        for block in files.read_blocks(source):
            writer.write(block)
    return target
