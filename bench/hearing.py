"""Benchmarks of analysis: one part, the table of a song, memory, another loudness model."""

from __future__ import annotations

import tempfile
import time
from pathlib import Path

import numpy as np
import pyloudnorm
import soundfile

from bench.timing import Row, noise, peak_mb, seconds, side_by_side
from pondel.core.document import Session
from pondel.core.dsp.welch import Welch
from pondel.core.hearing.clear import BINS, gather_bands
from pondel.core.hearing.excitation import excitation_of
from pondel.core.hearing.loudness import clear_above_db, partial_loudness, total_sone
from pondel.core.hearing.packing import pack
from pondel.core.hearing.scale import PLACES_HZ
from pondel.core.hearing.spectra import FRAME_S, ear_frames, ear_spectrum
from pondel.core.hearing.table import HIDERS, PLACES_A_BAND
from pondel.core.hearing.table_maker import BANDS, THIN
from pondel.core.measures.hits import Hits
from pondel.core.measures.levels import LevelMeter
from pondel.core.measures.restruck import band_rises
from pondel.core.measures.spectrum import levels_db
from pondel.core.reading import parse_session, to_json
from pondel.jobs.analysis import CORES, Analysis
from pondel.jobs.desk import Desk
from pondel.store.library import Library

RATE = 48000
PARTS = 24
SONG_S = 240


def one_part() -> Row:
    """Levels, spectrum, hits and excitation of one part, in one pass."""
    samples = noise(60)
    wide = samples.astype(np.float64)
    meter = pyloudnorm.Meter(RATE)
    blocks = [samples[i : i + (1 << 16)] for i in range(0, len(samples), 1 << 16)]

    def ours() -> None:
        hits, spectrum, levels = Hits(RATE), Welch(RATE), LevelMeter(RATE, 2)
        for block in blocks:
            for one in (hits, spectrum, levels):
                one.write(block)
        packed = []
        for rows in ear_frames(blocks, RATE):
            excitation_of(rows)
            packed.append(pack(rows))
        anew = band_rises(np.concatenate(packed), FRAME_S)
        levels.levels(), levels_db(spectrum), hits.onsets(anew)

    mine, other = side_by_side(ours, lambda: meter.integrated_loudness(wide), rounds=5)
    return (
        "one part's levels, spectrum, hits and excitation, time against pyloudnorm's loudness",
        f"{mine / other:.2f} x",
        "at most 3 x",
        f"{mine * 1000:.0f} ms against {other * 1000:.0f} ms",
    )


def song_of(folder: Path, parts: int, seconds: float) -> tuple[Desk, Session]:
    """A library with a song of noises that swell, each in a band of its own width."""
    library = Library(folder)
    rows = []
    for n in range(parts):
        path = folder / f"{n}.wav"
        with soundfile.SoundFile(str(path), "w", RATE, 2, "PCM_16") as file:
            for minute in range(int(seconds // 60)):
                file.write(noise(60, 2, 100 * n + minute) * 0.2)
        rows.append({"id": f"p{n}", "name": f"P{n}", "file": library.media.adopt(path)})
    document = Session.model_validate({"name": "Table", "rate": RATE, "parts": rows})
    return Desk(library), document


def table() -> list[Row]:
    """From recordings on disk to the part x part table, nothing known before; the histograms in it."""
    with tempfile.TemporaryDirectory() as name:
        desk, document = song_of(Path(name), PARTS, SONG_S)
        for part in document.parts:
            desk.recording(part.file or "")
        # What the ear got of each when it was measured is analysed again, so that this counts.
        for kept in (Path(name) / "analyses").iterdir():
            kept.unlink()
        fresh = Analysis(desk.library, desk.recordings)
        begun = time.perf_counter()
        fresh.whole_table(document)
        took = time.perf_counter() - begun
    gathered = PARTS * _gathering_s() / CORES
    return [
        (
            "hidden-share table of 24 parts of 4 minutes, time against the song's length",
            f"{took / SONG_S:.3f}",
            "under 0.1",
            f"{took:.1f} s for {SONG_S} s",
        ),
        (
            "the clear-by histograms in it, share of its time",
            f"{gathered / took:.3f}",
            "under 0.05",
            f"{gathered:.2f} s of {took:.1f} s",
        ),
    ]


def _gathering_s() -> float:
    """How long the histograms of one part take: against all others, three hiders, and without each."""
    random = np.random.default_rng(1)
    frames, places = round(SONG_S / FRAME_S), PLACES_HZ.size
    loudness = random.random((frames, places), np.float32)
    clear_db = random.normal(0.0, 12.0, loudness.shape).astype(np.float32)
    groups = (random.random(frames) < 0.3).astype(np.int64)
    whole, narrow = np.zeros((2, places, BINS), np.float32), np.zeros((2, 1, BINS), np.float32)
    banded = np.zeros((2, BANDS, BINS), np.float32)

    def gather() -> None:
        gather_bands(clear_db, loudness, groups, 1, whole)
        few = clear_db[::THIN], loudness[::THIN], groups[::THIN]
        for _ in range(HIDERS):
            gather_bands(*few, places, narrow)
            clear_above_db(few[1], few[1])
            gather_bands(*few, PLACES_A_BAND, banded)

    gather()
    return seconds(gather)


def memory() -> Row:
    """Peak memory of the table, one minute against four, in fresh processes."""
    peaks = [_table_peak_mb(minutes) for minutes in (1, 4)]
    return (
        "peak memory of a table of 4 parts, four minutes against one",
        f"{peaks[1] / peaks[0]:.2f} x",
        "does not grow",
        f"{peaks[0]:.0f} and {peaks[1]:.0f} MB",
    )


def _table_peak_mb(minutes: int) -> float:
    with tempfile.TemporaryDirectory() as name:
        desk, document = song_of(Path(name), 4, 60 * minutes)
        for part in document.parts:
            desk.recording(part.file or "")
        desk.library.close()
        return peak_mb(_table_of, Path(name), to_json(document))


def _table_of(folder: Path, written: dict) -> None:
    Desk(Library(folder)).analysis.whole_table(parse_session(written))


def other_model() -> Row:
    """ISO 532-1 loudness of time-varying sounds in another library, on four seconds of mono."""
    from mosqito.sq_metrics import loudness_zwtv

    samples = noise(4, 1)
    pressure = samples[:, 0].astype(np.float64)

    def ours() -> None:
        total_sone(partial_loudness(excitation_of(ear_spectrum([samples], RATE)).power))

    mine, other = side_by_side(ours, lambda: loudness_zwtv(pressure, RATE), rounds=3)
    return (
        "loudness over time of 4 s, time against mosqito's ISO 532-1",
        f"{mine / other:.4f} x",
        "for the record",
        f"{mine * 1000:.0f} ms against {other * 1000:.0f} ms",
    )


def rows() -> list[Row]:
    return [memory(), one_part(), *table(), other_model()]
