"""Benchmarks of moves against the same work in pedalboard, one thread, 48 kHz stereo, 60 s."""

from __future__ import annotations

import statistics
from collections.abc import Callable

import numpy as np
import pedalboard
import pyloudnorm

from bench.timing import RATE, Row, noise, seconds, side_by_side
from pondel.core.dsp.tone import TONE_HZ
from pondel.core.measures.levels import LevelMeter
from pondel.core.moves.alignment import Alignment
from pondel.core.moves.base import Place
from pondel.core.moves.compressor import Compressor
from pondel.core.moves.contrast_eq import ContrastEq
from pondel.core.moves.delay import Delay
from pondel.core.moves.drawn_duck import DrawnDuck
from pondel.core.moves.dynamic_eq import DynamicBand, DynamicEq
from pondel.core.moves.eq import Eq, EqBand
from pondel.core.moves.gate import Gate
from pondel.core.moves.multiband import Band, Multiband
from pondel.core.moves.noise_layer import NoiseLayer
from pondel.core.moves.registry import kind_of
from pondel.core.moves.reverb import Reverb
from pondel.core.moves.saturation import Saturation
from pondel.core.moves.snap_and_ring import SnapAndRing
from pondel.core.moves.spectral_duck import SpectralDuck
from pondel.core.moves.sub_layer import SubLayer
from pondel.core.moves.tail_trim import TailTrim

SONG_S = 60
BLOCK = 16384
PEAKS = (
    (60, 3, 1.0),
    (180, -4, 1.4),
    (450, 2, 2.0),
    (1200, -3, 1.0),
    (3500, 4, 0.8),
    (9000, -2, 0.7),
)
"""Frequency in Hz, gain in dB and Q."""


def through(move, samples: np.ndarray, place: Place | None = None) -> Callable[[], None]:
    def work() -> None:
        processor = kind_of(move.kind).at_work(move, RATE, samples.shape[1])
        if place is not None and hasattr(processor, "start_at"):
            processor.start_at(place)
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
    bands = [EqBand(hz=hz, gain_db=gain, q=q) for hz, gain, q in PEAKS]
    board = [pedalboard.PeakFilter(hz, gain, q) for hz, gain, q in PEAKS]
    return against(
        "six peaking bands, throughput against pedalboard's",
        Eq(id="e", bands=bands),
        board,
        "at least 3.5 x",
    )


def compressor() -> Row:
    move = Compressor(id="c", threshold_db=-30, ratio=4, attack_ms=5, release_ms=100)
    board = [pedalboard.Compressor(-30, 4, 5, 100)]
    return against("compressor, throughput against pedalboard's", move, board, "at least 3.5 x")


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
        "at least 2 x",
    )


def gate() -> Row:
    move = Gate(id="g", threshold_db=-12, ratio=10, attack_ms=1, release_ms=120)
    board = [pedalboard.NoiseGate(-12, 10, 1, 120)]
    return against("gate, throughput against pedalboard's", move, board, "at least 1 x")


def real_time(words: str, move, wanted: int) -> Row:
    """A move that has no counterpart among the peer's, against the time its sound lasts."""
    samples, hits_s = noise(SONG_S), np.arange(0.1, SONG_S, 0.5)
    work = through(move, samples, Place(hits_s=hits_s))
    work()
    mine = statistics.median(seconds(work) for _ in range(5))
    return (
        f"{words}, against real time",
        f"{SONG_S / mine:.0f} x",
        f"at least {wanted} x",
        f"{mine * 1000:.0f} ms",
    )


def by_themselves() -> list[Row]:
    bells = [DynamicBand(hz=hz, threshold_db=-40) for hz in (60, 120, 250, 500, 1000, 2000, 4000, 8000)]
    cuts = [60.0, 150.0, 400.0, 1000.0, 3000.0]
    split = Multiband(id="m", phase="linear", crossovers_hz=cuts, bands=[Band()] * 6)
    wide = {"id": "s", "threshold_db": -60}
    narrow = SpectralDuck(**wide, bands="narrow", low_hz=20, high_hz=18_000)
    spectra = {
        "own_db": [-40.0] * TONE_HZ.size,
        "other_db": np.linspace(-20, -60, TONE_HZ.size).tolist(),
    }
    return [
        real_time("dynamic EQ of eight bells", DynamicEq(id="d", bands=bells), 150),
        real_time("spectral duck, 100 Hz to 8 kHz in half ERBs", SpectralDuck(**wide), 100),
        real_time("spectral duck, all frequencies in thirds of ERBs", narrow, 50),
        real_time("linear-phase compressor of six bands", split, 60),
        real_time("drawn duck", DrawnDuck(id="d"), 800),
        real_time("tail trim", TailTrim(id="t"), 800),
        real_time("alignment by a share of a frame", Alignment(id="a", nudge_ms=-0.37), 800),
        real_time("contrast EQ", ContrastEq(id="c", **spectra), 150),
        real_time("reverb", Reverb(id="r"), 150),
        real_time("delay", Delay(id="y"), 150),
        real_time("saturation", Saturation(id="s", drive_db=12, level_match=False), 150),
        real_time("sub layer", SubLayer(id="u"), 150),
        real_time("noise layer", NoiseLayer(id="n"), 150),
        real_time("snap and ring", SnapAndRing(id="g", snap_db=6, ring_db=-6), 150),
    ]


def middle_and_sides() -> Row:
    """The same bands in the middle alone, and in turn in the middle and at the sides."""
    samples = noise(SONG_S)

    def placed(*where: str) -> Callable[[], None]:
        bands = [
            EqBand(hz=hz, gain_db=gain, q=q, placement=where[n % len(where)])
            for n, (hz, gain, q) in enumerate(PEAKS)
        ]
        return through(Eq(id="e", bands=bands), samples)

    stereo = placed("both")
    middle, alone = side_by_side(placed("middle"), stereo, rounds=7)
    mixed, beside = side_by_side(placed("middle", "sides"), stereo, rounds=7)
    return (
        "six peaking bands in the middle, and in turn in the middle and at the sides, time against stereo",
        f"{middle / alone:.2f} x, {mixed / beside:.2f} x",
        "at most 1.4 x",
        f"{middle * 1000:.0f}, {mixed * 1000:.0f} and {beside * 1000:.0f} ms",
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
    return [
        peaking(),
        middle_and_sides(),
        compressor(),
        gate(),
        multiband(),
        *by_themselves(),
        loudness(),
    ]
