"""Benchmark of printing: its memory does not grow with the song."""

from __future__ import annotations

import tempfile
from pathlib import Path

import soundfile

from bench.timing import RATE, Row, noise, peak_mb
from pondel.core.audio.media import FolderMedia
from pondel.core.engine import render
from pondel.core.engine.graph import song_frames
from pondel.core.reading import parse_session


def memory() -> Row:
    """Peak memory of printing a song from disk, one minute against four, in fresh processes."""
    peaks = []
    for minutes in (1, 4):
        with tempfile.TemporaryDirectory() as folder:
            peaks.append(_peak_of_minutes(Path(folder), minutes))
    return (
        "peak memory of a print, four minutes against one",
        f"{peaks[1] / peaks[0]:.2f} x",
        "does not grow",
        f"{peaks[0]:.0f} and {peaks[1]:.0f} MB",
    )


def _peak_of_minutes(folder: Path, minutes: int) -> float:
    for n in range(3):
        with soundfile.SoundFile(str(folder / f"p{n}.wav"), "w", RATE, 2, "PCM_16") as file:
            for _ in range(minutes):
                file.write(noise(60, 2, n))
    parts = [{"id": f"p{n}", "name": f"P{n}", "file": f"p{n}.wav"} for n in range(3)]
    return peak_mb(_print_long, {"name": "Long", "rate": RATE, "parts": parts}, folder)


def _print_long(written: dict, folder: Path) -> None:
    document, media = parse_session(written), FolderMedia(folder)
    for _ in render.blocks(document, media, ["mix"], 0, song_frames(document, media)):
        pass
