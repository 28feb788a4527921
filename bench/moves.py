"""Benchmarks of moves against the same work in pedalboard, one thread, 48 kHz stereo, 60 s."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pedalboard
import pyloudnorm

from bench.timing import RATE, Row, noise, seconds, side_by_side
from pondel.core.dsp.tone import TONE_HZ
from pondel.core.measures.levels import LevelMeter
from pondel.core.moves.base import Place
from pondel.core.moves.compressor import Compressor
from pondel.core.moves.contrast_eq import ContrastEq
from pondel.core.moves.dynamic_eq import DynamicBand, DynamicEq
from pondel.core.moves.eq import Eq, EqBand
from pondel.core.moves.gate import Gate
from pondel.core.moves.multiband import Band, Multiband
from pondel.core.moves.noise_layer import NoiseLayer
from pondel.core.moves.registry import kind_of
from pondel.core.moves.saturation import Saturation
from pondel.core.moves.spectral_duck import SpectralDuck
from pondel.core.moves.sub_layer import SubLayer

SONG_S = 60
BLOCK = 16384


def through(move, samples: np.ndarray) -> Callable[[], None]:
    def work() -> None:
        processor = kind_of(move.kind).at_work(move, RATE, samples.shape[1])
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


def gate() -> Row:
    move = Gate(id="g", threshold_db=-12, ratio=10, attack_ms=1, release_ms=120)
    board = [pedalboard.NoiseGate(-12, 10, 1, 120)]
    return against("gate, throughput against pedalboard's", move, board, "at least 1 x")


def real_time(name: str, move, wanted: int) -> Row:
    """A move that has no counterpart among the peer's, against the time its sound lasts."""
    samples = noise(SONG_S)
    mine = min(seconds(through(move, samples)) for _ in range(5))
    return (name, f"{SONG_S / mine:.0f} x", f"at least {wanted} x", f"{mine * 1000:.0f} ms")


def by_themselves() -> list[Row]:
    bells = [DynamicBand(hz=hz, threshold_db=-40) for hz in (60, 120, 250, 500, 1000, 2000, 4000, 8000)]
    cuts = [60.0, 150.0, 400.0, 1000.0, 3000.0]
    split = Multiband(id="m", phase="linear", crossovers_hz=cuts, bands=[Band()] * 6)
    wide = {"id": "s", "threshold_db": -60}
    middle = SpectralDuck(**wide)
    narrow = SpectralDuck(**wide, bands="narrow", low_hz=20, high_hz=18_000)
    times = "against real time"
    return [
        real_time(f"dynamic EQ of eight bells, {times}", DynamicEq(id="d", bands=bells), 150),
        real_time(f"spectral duck, 100 Hz to 8 kHz in half ERBs, {times}", middle, 100),
        real_time(f"spectral duck, all frequencies in thirds of ERBs, {times}", narrow, 50),
        real_time(f"linear-phase compressor of six bands, {times}", split, 60),
    ]


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


def added() -> list[Row]:
    """Moves that add to a sound, or filter it by a curve."""
    times = "against real time"
    spectra = {
        "own_db": [-40.0] * TONE_HZ.size,
        "other_db": np.linspace(-20, -60, TONE_HZ.size).tolist(),
    }
    hits_s = np.arange(0.1, SONG_S, 0.5)

    def placed(move) -> Row:
        samples = noise(SONG_S)

        def work() -> None:
            processor = kind_of(move.kind).at_work(move, RATE, 2)
            processor.start_at(Place(hits_s=hits_s))
            for first in range(0, samples.shape[0], BLOCK):
                processor.process(samples[first : first + BLOCK], None)

        mine = min(seconds(work) for _ in range(5))
        return (
            f"{move.kind}, {times}",
            f"{SONG_S / mine:.0f} x",
            "for the record",
            f"{mine * 1000:.0f} ms",
        )

    return [
        real_time(f"contrast EQ, {times}", ContrastEq(id="c", **spectra), 50),
        placed(Saturation(id="s", drive_db=12, level_match=False)),
        placed(SubLayer(id="u")),
        placed(NoiseLayer(id="n")),
    ]


def rows() -> list[Row]:
    return [peaking(), compressor(), gate(), multiband(), *by_themselves(), *added(), loudness()]
