"""Compiles every kernel once, in the order of likely use: `python -m pondel.core.warming`.

Compiling holds the interpreter, so a server lets a process of its own do it; the kernels then lie in
the cache on disk (`dsp/compiled.py`) and are loaded from there on first use.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial
from typing import TYPE_CHECKING

import numpy as np

from pondel.core.dsp.compiled import HEARING, RECORDINGS, reached, warming

if TYPE_CHECKING:
    from pondel.core.moves.base import MoveKind

RATE = 48_000
FRAMES = 9_600


def steps() -> Iterator[tuple[str, Callable[[], object]]]:
    """What is compiled, in words and as work to be done, in order."""
    from pondel.core.moves.registry import KINDS

    yield RECORDINGS, _recordings
    yield HEARING, _hearing
    for kind in sorted(KINDS.values(), key=lambda kind: kind.place):
        yield kind.in_words, partial(_kind, kind)


def _noise(channels: int) -> np.ndarray:
    random = np.random.default_rng(1)
    swell = np.abs(np.sin(np.arange(FRAMES) * 2 * np.pi * 10 / RATE))[:, None]
    return (random.normal(0.0, 0.3, (FRAMES, channels)) * swell).astype(np.float32)


def _recordings() -> None:
    from pondel.core.hearing.spectra import EarSpectrum
    from pondel.core.measures.hits import Hits
    from pondel.core.measures.levels import LevelMeter
    from pondel.core.measures.loudness import loudness_lufs
    from pondel.core.measures.restruck import band_rises
    from pondel.core.measures.stereo import stereo_image

    band_rises(np.random.default_rng(1).uniform(-60.0, 0.0, (100, 8)), 0.01)
    for channels in (1, 2):
        block = np.clip(4 * _noise(channels), -1.0, 1.0)
        levels, hits = LevelMeter(RATE, channels), Hits(RATE)
        levels.write(block)
        levels.levels()
        hits.write(block)
        hits.onsets()
        stereo_image([block] * 4, RATE)
        loudness_lufs(block, RATE)
        EarSpectrum(RATE, channels).write(block)


def _hearing() -> None:
    from pondel.core.hearing.excitation import excite
    from pondel.core.hearing.table_maker import TableMaker

    powers = np.stack([excite([_noise(channels)], RATE).power for channels in (1, 2)])
    maker = TableMaker(["one", "other"])
    maker.add(0, powers, np.zeros(powers.shape[:2], bool))
    maker.table().pairs()


def _kind(kind: MoveKind) -> None:
    from pondel.core.beats import steady
    from pondel.core.moves.base import Place

    def trace(values: np.ndarray, band: int | str | None = None) -> None:
        """Nobody looks at it."""

    hits = Place(0, steady(120.0), np.array([0.01, 0.1]))
    for settings in kind.warmed_by:
        move = kind.params.model_validate({"id": "warm", **settings})
        for channels in (1, 2):
            processor = kind.at_work(move, RATE, channels, trace)
            if hasattr(processor, "start_at"):
                processor.start_at(hits)
            processor.process(_noise(channels), _noise(1) if kind.keyed else None)


def main() -> None:
    with warming() as is_wanted:
        if not is_wanted:
            return
        for name, work in steps():
            work()
            reached(name)


if __name__ == "__main__":
    main()
