"""Everything a session does, as files for other rooms: gains, their corners, hits and responses.

paths = write_curves(document, recordings, folder)
# Tuba 1 compressor gain.wav, Tuba 1 compressor gain.csv, ... corners.csv, ... gain.mid,
# Bass drum hits.mid, Bass drum clicks.wav, Bass drum gated key.wav, Accordion 2 EQ impulse.wav
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np

from pondel.core.advice.lengths import lengths_of
from pondel.core.audio import files
from pondel.core.document import Part, Session
from pondel.core.engine import render
from pondel.core.engine.graph import song_frames
from pondel.core.engine.routing import active_moves
from pondel.core.evidence import led_moves
from pondel.core.handon import curves
from pondel.core.handon.gains import gains_db, impulse
from pondel.core.moves.base import TRACE_RATE
from pondel.core.moves.registry import kind_of
from pondel.jobs.recordings import Recordings

LEAST_MOVED_DB, LEAST_OPEN_S = 0.01, 0.06


def write_curves(
    document: Session,
    media: Recordings,
    folder: Path,
    progress: Callable[[float], None] = lambda share: None,
) -> list[Path]:
    """Write all of it; the files that were written."""
    frames = max(1, song_frames(document, media))
    treated = [part for part in document.parts if active_moves(part)]
    leaders = {led.leader.id: led.leader for led in led_moves(document)}
    steps = len(treated) + len(leaders)
    paths: list[Path] = []
    for done, part in enumerate(treated):
        paths += _of_part(document, media, part, folder, frames)
        progress((done + 1) / steps)
    for done, part in enumerate(leaders.values(), len(treated)):
        paths += _hits(document, media, part, folder, frames)
        progress((done + 1) / steps)
    return paths


def _of_part(
    document: Session, media: Recordings, part: Part, folder: Path, frames: int
) -> Iterator[Path]:
    gains = gains_db(document, media, part.id, 0, frames)
    for n, move in enumerate(part.moves, 1):
        if not move.on:
            continue
        title = files.safe_name(f"{part.name} {n} {kind_of(move.kind).title}")
        own = {name.partition("/")[2]: gain for name, gain in gains.items() if _is_of(name, move.id)}
        moved = {band: gain for band, gain in own.items() if _moves(gain)}
        if len(own) > 1:
            # What acts in bands has no gain as a whole.
            moved.pop("", None)
        if moved:
            yield from _gains(document, title, moved, folder)
        response = impulse(document, media, part, move)
        if response is not None:
            yield _wav(folder / f"{title} impulse.wav", response, document.rate)


def _moves(gain_db: np.ndarray) -> bool:
    return float(np.abs(gain_db).max(initial=0.0)) > LEAST_MOVED_DB


def _is_of(name: str, move: str) -> bool:
    return name.partition("/")[0] == move


def _gains(document: Session, title: str, own: dict[str, np.ndarray], folder: Path) -> Iterator[Path]:
    """The gain of a move, or of each of its bands: exact, as a table, by corners, as controllers."""
    columns = {}
    step = document.rate // TRACE_RATE
    for band, gain_db in own.items():
        name = f"{title} band {int(band) + 1}" if band else title
        samples = (10.0 ** (gain_db / 20.0)).astype(np.float32)[:, np.newaxis]
        yield _wav(folder / f"{name} gain.wav", samples, document.rate)
        columns[f"band_{int(band) + 1}_db" if band else "gain_db"] = gain_db[::step] + 0.0
    times_s = np.arange(len(next(iter(columns.values())))) * step / document.rate
    yield _text(folder / f"{title} gain.csv", curves.as_csv(times_s, columns))
    for column, gain_db in columns.items():
        name = title if column == "gain_db" else f"{title} {column[:-3].replace('_', ' ')}"
        at = curves.corners(times_s, gain_db)
        yield _text(folder / f"{name} corners.csv", curves.as_csv(times_s[at], {column: gain_db[at]}))
        path = folder / f"{name} gain.mid"
        path.write_bytes(curves.controllers(times_s, gain_db, document.beats()))
        yield path


def _hits(
    document: Session, media: Recordings, part: Part, folder: Path, frames: int
) -> Iterator[Path]:
    """A leader's hits as notes, as clicks, and as its own sound where it is struck."""
    times_s = media.hits_s(part)
    if not times_s.size:
        return
    name = files.safe_name(part.name)
    path = folder / f"{name} hits.mid"
    path.write_bytes(curves.hit_notes(times_s, document.beats()))
    yield path
    track = curves.clicks(times_s, frames, document.rate)[:, np.newaxis]
    yield _wav(folder / f"{name} clicks.wav", track, document.rate)
    struck = media.of(part.file).hits(part) if part.file else []
    open_s = lengths_of(struck).fall_20_s or LEAST_OPEN_S
    sound = render.region(document, media, (part.id, "source"), 0, frames)
    key = curves.gated(sound, times_s, max(open_s, LEAST_OPEN_S), document.rate)
    yield _wav(folder / f"{name} gated key.wav", key, document.rate)


def _wav(path: Path, samples: np.ndarray, rate: int) -> Path:
    with files.Writer(path, rate, samples.shape[1], "wav", "32f", samples.shape[0]) as out:
        out.write(samples)
    return path


def _text(path: Path, text: str) -> Path:
    path.write_text(text)
    return path
