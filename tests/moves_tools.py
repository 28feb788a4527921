"""What the tests of moves share."""

from __future__ import annotations

import numpy as np
from conftest import RATE
from scipy.fft import rfft, rfftfreq

from pondel.core.beats import steady
from pondel.core.moves.base import Place
from pondel.core.moves.registry import kind_of

HITS_S = tuple(np.arange(0.1, 4.0, 0.5))


def at_work(
    move,
    rate: int = RATE,
    channels: int = 2,
    trace=None,
    frame: int = 0,
    bpm: float = 120,
    hits_s=HITS_S,
):
    """A processor, told where it begins."""
    processor = kind_of(move.kind).at_work(move, rate, channels, trace)
    if hasattr(processor, "start_at"):
        processor.start_at(Place(frame, steady(bpm), np.array(hits_s, np.float64)))
    return processor


def run(move, samples, key=None, rate: int = RATE, block: int = 4096, **options):
    """Everything through a move in blocks; float32 (frames, channels)."""
    processor = at_work(move, rate, samples.shape[1], **options)
    pieces = []
    for i in range(0, samples.shape[0], block):
        heard = None if key is None else key[i : i + block]
        pieces.append(processor.process(samples[i : i + block], heard))
    return np.concatenate(pieces)


def pulse_response_db(move, rate: int = RATE, frames: int = 1 << 17, channel: int = 0, given=(1, 1)):
    """Frequencies and the magnitude in dB of a move's answer to one frame of sound."""
    pulse = np.zeros((frames, 2), np.float32)
    pulse[0] = given
    out = run(move, pulse, rate=rate)[:, channel]
    spectrum = np.abs(rfft(out.astype(np.float64)))
    return rfftfreq(frames, 1 / rate), 20 * np.log10(np.maximum(spectrum, 1e-9))


def noise(seconds: float, level: float = 0.2, channels: int = 2, seed: int = 1, rate: int = RATE):
    random = np.random.default_rng(seed)
    return (random.standard_normal((round(seconds * rate), channels)) * level).astype(np.float32)


def rms_db(samples) -> float:
    return float(10 * np.log10(np.mean(np.square(samples, dtype=np.float64)) + 1e-20))
