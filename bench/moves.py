"""Benchmarks of moves against the same work in pedalboard, one thread, 48 kHz stereo, 60 s."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pedalboard
import pyloudnorm

from bench.timing import RATE, Row, noise, side_by_side
from pondel.core.measures.levels import LevelMeter
from pondel.core.moves.compressor import Compressor
from pondel.core.moves.eq import Eq, EqBand
from pondel.core.moves.multiband import Band, Multiband
from pondel.core.moves.registry import kind_of

SONG_S = 60
BLOCK = 16384


def through(move, samples: np.ndarray) -> Callable[[], None]:
    def work() -> None:
        processor = kind_of(move.kind).make(move, RATE, samples.shape[1], None)
        for first in range(0, samples.shape[0], BLOCK):
            processor.process(samples[first : first + BLOCK], None)

    return work


def against(name: str, move, board: list, wanted: str) -> Row:
    samples = noise(SONG_S)
    turned = np.ascontiguousarray(samples.T)
    peer = pedalboard.Pedalboard(board)
    mine, other = side_by_side(
        through(move, samples), lambda: peer(turned, RATE, buffer_size=BLOCK), rounds=7
    )
    times = f"{mine * 1000:.0f} ms against {other * 1000:.0f} ms"
    return (name, f"{other / mine:.2f} x", wanted, times)


def peaking() -> Row:
    settings = [
        (60, 3, 1.0),
        (180, -4, 1.4),
        (450, 2, 2.0),
        (1200, -3, 1.0),
        (3500, 4, 0.8),
        (9000, -2, 0.7),
    ]
    bands = [EqBand(hz=hz, gain_db=gain, q=q) for hz, gain, q in settings]
    board = [pedalboard.PeakFilter(hz, gain, q) for hz, gain, q in settings]
    return against(
        "six peaking bands, throughput against pedalboard's",
        Eq(id="e", bands=bands),
        board,
        "at least 3 x",
    )


def compressor() -> Row:
    move = Compressor(id="c", threshold_db=-30, ratio=4, attack_ms=5, release_ms=100)
    board = [pedalboard.Compressor(-30, 4, 5, 100)]
    return against("compressor, throughput against pedalboard's", move, board, "at least 3 x")


def multiband() -> Row:
    bands = [Band(threshold_db=-30, ratio=4, attack_ms=5, release_ms=100) for _ in range(5)]
    move = Multiband(id="m", crossovers_hz=[80, 300, 1200, 5000], bands=bands)
    board = [pedalboard.Compressor(-30, 4, 5, 100) for _ in range(5)]
    for hz in (80, 300, 1200, 5000):
        board += [pedalboard.LowpassFilter(hz), pedalboard.HighpassFilter(hz)]
    return against(
        "five-band multiband compressor, throughput against five compressors and eight filters",
        move,
        board,
        "at least 1 x",
    )


def loudness() -> Row:
    samples = noise(SONG_S)
    wide = samples.astype(np.float64)
    meter = pyloudnorm.Meter(RATE)
    blocks = [samples[i : i + (1 << 16)] for i in range(0, len(samples), 1 << 16)]

    def ours() -> None:
        levels = LevelMeter(RATE, 2)
        for block in blocks:
            levels.write(block)
        levels.levels()

    mine, other = side_by_side(ours, lambda: meter.integrated_loudness(wide), rounds=7)
    return (
        "integrated loudness, true peak and all other levels, throughput against pyloudnorm's loudness",
        f"{other / mine:.2f} x",
        "at least 3 x",
        f"{mine * 1000:.0f} ms against {other * 1000:.0f} ms",
    )


def rows() -> list[Row]:
    return [peaking(), compressor(), multiband(), loudness()]
