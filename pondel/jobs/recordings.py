"""What was measured of recordings: once when they come in, and more when it is asked for."""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterable, Iterator
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import numpy as np
import soundfile

from pondel.core.advice.roles import PartHeard, guess_role, role_by_sound
from pondel.core.audio import files
from pondel.core.audio.media import FileReader, Reader
from pondel.core.document import Part, Role, Session
from pondel.core.dsp.tone import Loudest, Tone, tone_from
from pondel.core.dsp.welch import Welch
from pondel.core.engine.hits import part_hits_s
from pondel.core.errors import BadRecording, DiskFull, NotYet
from pondel.core.hearing.packing import pack
from pondel.core.hearing.scale import BANDS_HZ
from pondel.core.hearing.spectra import FRAME_S, EarSpectrum
from pondel.core.made_by import made_by
from pondel.core.measures.hits import Hits, Onset, hits_among, times_s
from pondel.core.measures.home import Home, home_of, usual_pitch_hz
from pondel.core.measures.levels import LevelMeter, Levels
from pondel.core.measures.outline import Outline
from pondel.core.measures.restruck import band_rises
from pondel.core.measures.spectrum import levels_db
from pondel.core.measures.stereo import StereoImage, StereoMeter
from pondel.core.side_by_side import go_on
from pondel.jobs.ear_names import file_ears_name
from pondel.store.library import Library

log = logging.getLogger("pondel.jobs")

OUTLINE_COLUMNS = 1200
MEASURES = ("recording", "stereo", "pitch", "tone")


@dataclass(frozen=True)
class Recording:
    """What was measured of a recording as it came in."""

    levels: Levels
    rate: int
    channels: int
    frames: int
    outline: list[list[float]]
    onsets: list[Onset]
    spectrum_db: list[float]

    def hits(self, part: Part) -> list[Onset]:
        """The hits at the part's sensitivity, in seconds from the start of the recording."""
        return hits_among(self.onsets, part.hits.sensitivity)

    @property
    def home(self) -> Home | None:
        """Where its energy lies."""
        return home_of(np.array(self.spectrum_db))


def measuring_code() -> str:
    """Which code measures recordings."""
    return made_by(
        "pondel.core.measures",
        "pondel.core.audio.files",
        "pondel.core.dsp.tone",
        "pondel.core.hearing.spectra",
    )


class Recordings:
    """All recordings of a library for the engine: samples, and measures taken once and kept.

    Where `eager`, what was not measured yet is measured when it is asked for; else that is told by
    NotYet, and the queue takes the measures. `step` is called between the blocks of long work.
    """

    def __init__(
        self, library: Library, step: Callable[[], None] = go_on, *, eager: bool = True
    ) -> None:
        self._library = library
        self._step = step
        self._eager = eager
        self._known: dict[str, Recording] = {}
        self._whole: set[str] = set()
        self._tones: dict[str, Tone] = {}
        self._ears = library.analyses

    def missing(self, document: Session) -> list[str]:
        """The recordings of a session that are not measured yet, each once."""
        named = {part.file: None for part in document.parts if part.file is not None}
        new = [file for file in named if file not in self._whole and not self._is_broken(file)]
        found = [file for file in new if not all(self._has(what, file) for what in MEASURES)]
        self._whole |= set(new) - set(found)
        return found

    def _is_broken(self, file: str) -> bool:
        try:
            self._library.media.path(file)
        except BadRecording:
            return True
        return False

    def take(self, file: str) -> Recording:
        """All measures of one recording, taken now if they were not."""
        for what in MEASURES:
            self._kept(what, file, eager=True)
        return self._of(file, eager=True)

    def of(self, file: str) -> Recording:
        """The measures of one recording; BadRecording when it is damaged and was never measured."""
        return self._of(file, self._eager)

    def _of(self, file: str, eager: bool) -> Recording:
        if file not in self._known:
            body = self._kept("recording", file, eager)
            facts = {k: body[k] for k in ("rate", "channels", "frames", "outline", "spectrum_db")}
            self._known[file] = Recording(
                levels=Levels(**body["levels"]),
                onsets=[Onset(*row) for row in body["onsets"]],
                **facts,
            )
        return self._known[file]

    def readable(self, file: str) -> Recording | None:
        """The measures of a recording, None when it is damaged and was never measured."""
        try:
            return self.of(file)
        except BadRecording:
            return None

    def hits_s(self, part: Part) -> np.ndarray:
        """A part's hits in seconds from the start of the song, as corrected by hand."""
        return part_hits_s(part, self)

    def role_of(self, name: str, file: str) -> tuple[Role, bool]:
        """The role that a name suggests or else the sound, and whether it is the sound's guess."""
        role = guess_role(name)
        if role != "other":
            return role, False
        found = self._of(file, eager=True)
        if found.home is None or not found.frames:
            return "other", False
        seconds = found.frames / found.rate
        hits = len(hits_among(found.onsets)) / seconds
        home, pitch_hz = found.home, self._kept("pitch", file, eager=True)
        role = role_by_sound(
            PartHeard(home.low_hz, home.high_hz, hits, found.levels.crest_db, pitch_hz)
        )
        return role, role != "other"

    def open(self, file: str) -> Reader:
        """The samples of a recording."""
        return self._library.media.open(file)

    def frames(self, file: str) -> int:
        """How long a recording is, as it was measured."""
        return self.of(file).frames

    def found_hits_s(self, file: str, sensitivity: float) -> np.ndarray:
        """The hits found in a recording, in seconds from its start."""
        return times_s(hits_among(self.of(file).onsets, sensitivity))

    def _blocks(self, path: Path) -> Iterator[np.ndarray]:
        for block in files.read_blocks(path):
            self._step()
            yield block

    def image(self, file: str) -> StereoImage:
        """The stereo image of a recording."""
        body = self._kept("stereo", file, self._eager)
        return StereoImage(
            body["correlation"],
            tuple(body["bands"]),
            tuple(body["over_time"]),
            body["side_db"],
            body["mono_loss_db"],
        )

    def pitch_hz(self, file: str) -> float | None:
        """The usual pitch of what follows a recording's hits."""
        return self._kept("pitch", file, self._eager)

    def tone(self, file: str, rate: int) -> Tone:
        """The average spectrum of a recording, which is at the session's rate."""
        if file not in self._tones:
            self._tones[file] = Tone.from_json(self._kept("tone", file, self._eager))
        return self._tones[file]

    def _has(self, what: str, file: str) -> bool:
        return self._library.measures.has(_key(what, file))

    def _kept(self, what: str, file: str, eager: bool) -> Any:
        kept = self._library.measures.get(_key(what, file))
        if kept is None:
            path = self._library.media.path(file)
            if not eager:
                raise NotYet("the recordings are being measured: a moment")
            kept = [self._measure(file, path)[what]]
        return kept[0]

    def _measure(self, file: str, path: Path) -> dict[str, Any]:
        """All measures, kept; and beside them what the ear gets, so that nobody analyses it again."""
        measures, ears = measure_recording(path, self._blocks(path))
        try:
            self._ears.keep_rows(
                file_ears_name(file, measures["recording"]["rate"]), [ears], BANDS_HZ.size
            )
        except DiskFull as error:
            log.warning("what the ear gets of a recording was not kept: %s", error)
        for what in MEASURES:
            self._library.measures.keep(_key(what, file), [measures[what]])
        return measures


def _key(what: str, file: str) -> str:
    return f"{what}:{measuring_code()}:{file}"


def measure_recording(path: Path, blocks: Iterable[np.ndarray]) -> tuple[dict[str, Any], np.ndarray]:
    """Each of MEASURES as JSON values, in one pass over the blocks of a recording.

    Beside them what the ear gets of it, packed, (frames, bands).
    """
    info = soundfile.info(str(path))
    rate = info.samplerate
    meter, outline = LevelMeter(rate, info.channels), Outline(-(-info.frames // OUTLINE_COLUMNS))
    hits, stereo, welch = Hits(rate), StereoMeter(rate), Welch(rate)
    loudest = Loudest(welch.windows)
    ear, pieces = EarSpectrum(rate, info.channels), []
    for block in blocks:
        for part in (meter, outline, hits, stereo, welch, loudest, ear):
            part.write(block)
        pieces.append(pack(ear.take()))
    rows = np.concatenate([*pieces, pack(ear.finish())])
    onsets = hits.onsets(band_rises(rows, FRAME_S))
    reader = FileReader(path)
    recording = {
        "levels": meter.levels().as_json(),
        "rate": rate,
        "channels": info.channels,
        "frames": info.frames,
        "outline": np.round(outline.columns(), 4).tolist(),
        "onsets": [onset.as_json() for onset in onsets],
        "spectrum_db": np.round(levels_db(welch), 2).tolist(),
    }
    measures = {
        "recording": recording,
        "stereo": asdict(stereo.image(welch)),
        "pitch": usual_pitch_hz(reader.read, reader.frames, rate, times_s(hits_among(onsets))),
        "tone": tone_from(welch, loudest.start_s()).as_json(),
    }
    return measures, rows
