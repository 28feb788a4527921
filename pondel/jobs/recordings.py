"""What was measured of recordings: once when they come in, and more when it is asked for."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import numpy as np
import soundfile

from pondel.core.audio import files
from pondel.core.document import Part
from pondel.core.measures.hits import Hits, Onset, corrected, hits_among, times_s
from pondel.core.measures.home import Home, home_of, usual_pitch_hz
from pondel.core.measures.levels import LevelMeter, Levels
from pondel.core.measures.outline import Outline
from pondel.core.measures.spectrum import AverageSpectrum
from pondel.core.measures.stereo import StereoImage, stereo_image
from pondel.store.library import Library

MEASURE_VERSION = 4
OUTLINE_COLUMNS = 1200


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


class Recordings:
    """The measures of all recordings of a library, taken once and kept."""

    def __init__(self, library: Library) -> None:
        self._library = library
        self._known: dict[str, Recording] = {}

    def of(self, file: str) -> Recording:
        """The measures of one recording."""
        if file not in self._known:
            body = self._kept("recording", file, measure_recording)
            facts = {k: body[k] for k in ("rate", "channels", "frames", "outline", "spectrum_db")}
            self._known[file] = Recording(
                levels=Levels(**body["levels"]),
                onsets=[Onset(*row) for row in body["onsets"]],
                **facts,
            )
        return self._known[file]

    def hits_s(self, part: Part) -> np.ndarray:
        """A part's hits in seconds from the start of the song, as corrected by hand.

        They come from its MIDI file when it has one.
        """
        if part.file is None:
            return np.empty(0)
        hits = part.hits
        if hits.midi_s is not None:
            found = np.array(hits.midi_s, np.float64)
        else:
            found = times_s(self.of(part.file).hits(part))
        return corrected(found, hits.added_s, hits.removed_s) + part.start_s

    def image(self, file: str) -> StereoImage:
        """The stereo image of a recording."""

        def measure(path: Path) -> dict:
            rate = soundfile.info(str(path)).samplerate
            return asdict(stereo_image(files.read_blocks(path), rate))

        body = self._kept("stereo", file, measure)
        return StereoImage(
            body["correlation"],
            tuple(body["bands"]),
            tuple(body["over_time"]),
            body["side_db"],
            body["mono_loss_db"],
        )

    def pitch_hz(self, file: str) -> float | None:
        """The usual pitch of what follows a recording's hits."""
        onsets = hits_among(self.of(file).onsets)

        def measure(path: Path) -> float | None:
            samples, rate = soundfile.read(str(path), dtype="float32", always_2d=True)
            return usual_pitch_hz(samples.mean(axis=1), rate, times_s(onsets))

        return self._kept("pitch", file, measure)

    def _kept(self, what: str, file: str, measure: Any) -> Any:
        key = f"{what}:{MEASURE_VERSION}:{file}"
        kept = self._library.measure(key)
        if kept is None:
            kept = [measure(self._library.media.path(file))]
            self._library.keep_measure(key, kept)
        return kept[0]


def measure_recording(path: Path) -> dict:
    """Everything that is measured once of a recording, as JSON values, in one pass."""
    info = soundfile.info(str(path))
    meter = LevelMeter(info.samplerate, info.channels)
    outline = Outline(-(-info.frames // OUTLINE_COLUMNS))
    hits = Hits(info.samplerate)
    spectrum = AverageSpectrum(info.samplerate)
    for block in files.read_blocks(path):
        for part in (meter, outline, hits, spectrum):
            part.write(block)
    return {
        "levels": meter.levels().as_json(),
        "rate": info.samplerate,
        "channels": info.channels,
        "frames": info.frames,
        "outline": np.round(outline.columns(), 4).tolist(),
        "onsets": [onset.as_json() for onset in hits.onsets()],
        "spectrum_db": np.round(spectrum.levels_db(), 2).tolist(),
    }
