"""Sessions as files: folders of recordings, session.json with its audio, and archives."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Callable, Iterable
from dataclasses import replace
from pathlib import Path, PurePosixPath

from pondel.core.advice.names import part_name, shared_prefix
from pondel.core.advice.older_sound import sounds_different
from pondel.core.audio import files
from pondel.core.audio.broadcast import Told, told_by
from pondel.core.audio.files import AudioFacts
from pondel.core.document import MOST_PARTS, Part, Session
from pondel.core.errors import BadAudio, BadDocument, PondelError
from pondel.core.ids import fresh_id
from pondel.core.losses import settled
from pondel.core.measures.tempo import beside_bpm, estimate_bpm
from pondel.core.moves.base import LONGEST_S, MOST_SECTIONS
from pondel.core.operations import BringIn
from pondel.core.operations.places import NamedMoment
from pondel.core.reading import parse_session, to_json
from pondel.core.versions import brought_up
from pondel.jobs import along, archives, shelves
from pondel.jobs.archives import MAX_JSON_BYTES
from pondel.jobs.recordings import Recordings
from pondel.store.arrivals import same_recording
from pondel.store.library import Library
from pondel.store.room import written_in

MOST_NAMED = 5
OTHER_SOUNDS = {".m4a", ".aac", ".wma", ".opus", ".caf", ".au", ".w64", ".bwf", ".mp2", ".mp4", ".wv"}
"""Sound that a folder may hold besides the formats that are read: each file is refused by name."""
Take = Callable[[str, str, int], str]
"""Takes in a file by its name, its part's name and the session's rate; the name it is kept under."""


def audio_files(paths: Iterable[Path], left_out: Callable[[str], None]) -> list[Path]:
    """The audio files named, and those in the folders named and below them, in order of name.

    Files of other kinds inside the folders are told to `left_out`, a line for each kind; hidden ones
    are passed over.
    """
    found: list[Path] = []
    for path in paths:
        if path.is_dir():
            inside = [one for one in sorted(path.rglob("*")) if _is_shown(one, path)]
            audio = [one for one in inside if one.suffix.lower() in (*files.EXTENSIONS, *OTHER_SOUNDS)]
            found += audio
            _tell_others(path, [one for one in inside if one not in set(audio)], left_out)
        elif path.is_file():
            found.append(path)
        else:
            raise BadAudio("there is no such file or folder", where=str(path))
    return found


def _is_shown(path: Path, folder: Path) -> bool:
    """Whether it is something to read that neither it nor a folder above it hides.

    An empty folder that is called like a recording counts: it is refused by name.
    """
    names = path.relative_to(folder).parts
    if any(name.startswith((".", "__MACOSX")) for name in names):
        return False
    is_called_so = path.suffix.lower() in files.EXTENSIONS
    return not path.is_dir() or (is_called_so and not any(path.iterdir()))


def _tell_others(folder: Path, others: list[Path], left_out: Callable[[str], None]) -> None:
    by_kind: dict[str, list[str]] = {}
    for path in others:
        by_kind.setdefault(path.suffix.lower() or "no ending", []).append(path.name)
    for kind, names in by_kind.items():
        named = ", ".join(names[:MOST_NAMED]) + (" ..." if len(names) > MOST_NAMED else "")
        left_out(f"{folder.name}: left out, as {kind} is no audio format that Pondel reads: {named}")


def import_files(
    library: Library,
    name: str,
    paths: list[Path],
    *,
    refused: Callable[[PondelError], None],
    progress: Callable[[str], None] = lambda name: None,
    note: Callable[[str], None] = lambda line: None,
) -> str:
    """A new session from audio files; returns its id. What is said of each goes to `note`.

    A file that cannot become a part is passed to `refused` and the others still come in;
    BadAudio when none could. The session takes the rate most of the files have.
    """
    facts: dict[Path, AudioFacts] = {}
    for path in paths:
        try:
            facts[path] = files.probe(path)
        except PondelError as error:
            refused(error)
        except OSError as error:
            refused(BadAudio(f"cannot be opened: {error.strerror}", where=path.name))
    if not facts:
        raise BadAudio("none of the files can become a part", where=name)
    if len(facts) > MOST_PARTS:
        raise BadDocument(f"a session holds at most {MOST_PARTS} parts, not {len(facts)}", where=name)
    common = Counter(fact.rate for fact in facts.values()).most_common(1)[0][0]
    rate = min(max(common, 44100), 192000)
    session = parse_session({"name": name, "rate": rate})
    prefix, recordings = shared_prefix([path.name for path in facts]), Recordings(library)
    for path in facts:
        progress(path.name)
        try:
            file = take_file(library, path, rate)
        except PondelError as error:
            refused(error)
            continue
        twin = next((part for part in session.parts if part.file == file), None)
        if twin is not None:
            refused(BadAudio(same_recording(twin), where=path.name))
            continue
        title = part_name(path.name, prefix)
        brought = brought_in(recordings, session.parts, title, file, told_by(path))
        done = brought.apply(session)
        session = done.document
        for line in done.said:
            note(line)
    if not session.parts:
        raise BadAudio("none of the files can become a part", where=name)
    bpm = estimate_bpm([recordings.hits_s(part) for part in session.parts])
    if bpm is not None:
        session = session.model_copy(update={"tempo_bpm": round(bpm, 2), "tempo_from": "hits"})
        others = ", ".join(f"{other:g}" for _, other in beside_bpm(bpm))
        note(f"tempo estimated from the hits: {bpm:.2f} bpm, not confirmed; it may be {others} bpm")
    return library.create(session, rate_known=True)


def brought_in(
    recordings: Recordings, beside: list[Part], title: str, file: str, told: Told
) -> BringIn:
    """A recording as it comes in beside other parts: its role, its place and its markers."""
    role, is_guess = recordings.role_of(title, file)
    part = Part(
        id=fresh_id(title, {part.id for part in beside}),
        name=title,
        role=role,
        role_by_sound=is_guess,
        file=file,
        stamp_s=told.start_s,
    )
    markers = [
        NamedMoment(at_s=one.at_s, name=one.name[:80])
        for one in told.markers[:MOST_SECTIONS]
        if one.at_s <= LONGEST_S
    ]
    return BringIn(part=part, markers=markers, ends_s=recordings.of(file).levels.seconds)


def take_file(library: Library, path: Path, rate: int, *, name: str | None = None) -> str:
    """Convert one file into the media folder; returns its name in documents."""
    media = library.media
    with written_in(media.folder), media.scratch(".wav") as unfinished:
        files.convert(path, unfinished, rate, name=name)
        return media.adopt(unfinished)


def joined_file(library: Library, left: Part, right: Part) -> str:
    """One stereo recording of two mono ones, in the media folder; returns its name in documents."""
    media = library.media
    paths = [media.path(part.file or "") for part in (left, right)]
    for part, path in zip((left, right), paths, strict=True):
        if files.probe(path, part.name).channels != 1:
            raise BadAudio("it is stereo already: no half of another part", where=part.name)
    with written_in(media.folder), media.scratch(".wav") as unfinished:
        files.interleave(paths[0], paths[1], unfinished)
        return media.adopt(unfinished)


def import_handed(library: Library, paths: list[Path]) -> str:
    """A new session from files handed in together: an archive, or a session.json with its audio."""
    zips = [path for path in paths if path.suffix.lower() == ".zip"]
    documents = [path for path in paths if path.suffix.lower() == ".json"]
    if len(zips) == 1:
        return import_archive(library, zips[0])
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
    folder = source.parent.resolve()

    def take(file: str, part: str, rate: int) -> str:
        path = (folder / file).resolve()
        if beside and not path.is_file():
            path = folder / Path(file).name
        if not path.is_relative_to(folder):
            raise BadDocument(
                f"the file {file!r:.80} of {part!r} lies outside the session's folder",
                where=source.name,
            )
        if not path.is_file():
            raise BadDocument(f"the file {file!r:.80} of {part!r} is missing", where=source.name)
        return take_file(library, path, rate)

    document, to_tell = _read(source.read_bytes(), source.name)
    return library.create(_with_files(document, take, {}, name), rate_known=True, to_tell=to_tell)


def import_archive(library: Library, source: Path, name: str | None = None) -> str:
    """A new session from a session archive (zip); returns its id.

    Only the document and the files it names are unpacked, one at a time; recipes and spectra that
    came along go on the shelf.
    """
    with archives.opened(source) as archive:
        entry = archives.document_entry(archive, source.name)
        inside = PurePosixPath(entry.filename).parent

        def take(file: str, part: str, rate: int) -> str:
            path = PurePosixPath(file.replace("\\", "/"))
            if path.is_absolute() or ".." in path.parts:
                raise BadDocument(
                    f"the file {file!r:.80} of {part!r} leads out of the archive", where=source.name
                )
            with library.media.scratch(path.suffix[:8]) as unpacked:
                archives.unpack(archive, str(inside / path), unpacked, source.name)
                return take_file(library, unpacked, rate, name=path.name)

        text = archives.read_json(archive, entry, source.name)
        beside = archives.entry_beside(archive, entry, shelves.SHELF_FILE)
        kept = (
            shelves.read(archives.read_json(archive, beside, source.name), source.name)
            if beside
            else []
        )
        more = archives.entry_beside(archive, entry, along.ALONG_FILE)
        came = (
            along.read(archives.read_json(archive, more, source.name), source.name)
            if more
            else archives.ALONE
        )
        document, to_tell = _read(text, source.name)
        for letter, one in came.variants.items():
            if one.rate != document.rate:
                raise BadDocument(f"its variant {letter} has another sample rate", where=source.name)
        taken: dict[str, str] = {}
        whole = _with_files(document, take, taken, name)
        variants = {
            letter: _with_files(one, take, taken, name) for letter, one in came.variants.items()
        }
        session_id = library.create(whole, rate_known=True, to_tell=to_tell)
    along.put_back(library, session_id, replace(came, variants=variants))
    shelves.put_up(library.shelf, kept)
    return session_id


def _read(text: bytes, source: str) -> tuple[Session, list[str]]:
    """A document from its text, and what is to be told of it."""
    try:
        document, _ = settled(parse_session(text))
        found = brought_up(json.loads(text))
    except PondelError as error:
        raise BadDocument(error.message, where=source) from error
    return document, [*found.notes, *sounds_different(document, found.came_from)]


def _with_files(document: Session, take: Take, taken: dict[str, str], name: str | None) -> Session:
    """A document with its recordings taken in, each file once."""
    data = to_json(document)
    for part in data["parts"]:
        file = part["file"]
        if file is None:
            continue
        if file not in taken:
            taken[file] = take(file, part["name"], document.rate)
        part["file"] = taken[file]
    if name:
        data["name"] = name
    return parse_session(data)
