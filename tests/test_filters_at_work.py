"""Long and short filters at work against scipy's, in double precision, however the sound is cut up."""

import numpy as np
import pytest
from scipy.signal import oaconvolve, upfirdn

from pondel.core.dsp.decimate import keep_every
from pondel.core.dsp.delay import ShortFilter
from pondel.core.dsp.minimum_phase import Convolved
from pondel.core.dsp.oversample import Oversampled, factors
from pondel.core.dsp.partitioned import PIECE, Partitioned
from pondel.core.dsp.weighed import by_phase, in_rows

FAINT = 10 ** (-120 / 20)
CUTS = ([5000], [1, 2, 97, 4900], [4096, 904], [3000, 2000])


def sound(frames: int, channels: int, seed: int = 1) -> np.ndarray:
    return np.random.default_rng(seed).uniform(-1, 1, (frames, channels)).astype(np.float32)


def fading(taps: int, seed: int = 2) -> np.ndarray:
    found = np.random.default_rng(seed).normal(size=taps) * 0.999 ** np.arange(taps)
    return found / np.sqrt(np.sum(found**2))


def in_pieces(processor, samples: np.ndarray, sizes: list[int]) -> np.ndarray:
    ends = np.cumsum(sizes)
    assert ends[-1] == len(samples)
    return np.concatenate([processor.process(one) for one in np.split(samples, ends[:-1])])


@pytest.mark.parametrize("channels", [1, 2, 5])
@pytest.mark.parametrize("sizes", CUTS)
@pytest.mark.parametrize("taps", [1, 2, 8, 98])
def test_a_short_filter_is_the_plain_sum(taps, sizes, channels):
    samples, kernel = sound(5000, channels), fading(taps)
    wanted = oaconvolve(samples.astype(float), kernel[:, None], axes=0)[: len(samples)]
    found = in_pieces(ShortFilter(kernel, channels), samples, sizes)
    assert np.abs(found - wanted).max() < FAINT


@pytest.mark.parametrize("sizes", CUTS)
@pytest.mark.parametrize("taps", [1, PIECE - 1, PIECE, PIECE + 1, 3 * PIECE + 7])
def test_a_long_filter_is_the_plain_sum(taps, sizes):
    samples, kernel = sound(5000, 2), fading(taps)
    wanted = oaconvolve(samples.astype(float), kernel[:, None], axes=0)[: len(samples)]
    found = in_pieces(Convolved(kernel, 2), samples, sizes)
    assert np.abs(found - wanted).max() < FAINT * np.abs(wanted).max()


def test_several_filters_share_one_transform_of_the_sound():
    kernels = np.stack([fading(6145, seed) for seed in range(3)])
    filters, joined = Partitioned(kernels), sound(6144 + 700, 2).T.copy()
    for kernel, found in zip(kernels, filters.valid(joined), strict=True):
        wanted = oaconvolve(joined.astype(float), kernel[None], mode="valid", axes=1)
        assert found.shape == (2, 700)
        assert np.abs(found - wanted).max() < FAINT * np.abs(wanted).max()


@pytest.mark.parametrize("factor", [2, 3, 4, 16])
@pytest.mark.parametrize("taps", [1, 33, 130])
def test_every_nth_frame_of_what_is_filtered(factor, taps):
    samples, kernel = sound(9000, 2).T.copy(), fading(taps)
    wanted = upfirdn(kernel[::-1], samples.astype(float), down=1, axis=1)[:, taps - 1 : 9000 : factor]
    found = np.empty(wanted.shape, np.float32)
    keep_every(samples, *in_rows(by_phase(kernel, factor)), found)
    assert np.abs(found - wanted).max() < FAINT


@pytest.mark.parametrize("rate", [44100, 48000, 96000, 192000])
def test_up_and_down_again_is_what_the_filters_say(rate):
    """Both stages as scipy works them out, with the taps the stages were made of."""
    samples = sound(3000, 2)
    oversampled = Oversampled(rate, 2)
    found = oversampled.process(samples, lambda inner: None)
    wanted = samples.T.astype(float)
    kernels = [stage.taps.astype(float) for stage in oversampled.stages]
    for factor, taps in zip(factors(rate), kernels, strict=True):
        wanted = upfirdn(taps * factor, wanted, up=factor, axis=1)
    for factor, taps in reversed(list(zip(factors(rate), kernels, strict=True))):
        wanted = upfirdn(taps, wanted, down=factor, axis=1)
    assert np.abs(found - wanted[:, : len(samples)].T).max() < FAINT


def test_a_filter_that_stops_at_half_the_rate_has_a_row_of_one_tap():
    taps = np.sinc((np.arange(79) - 39) / 2) * np.kaiser(79, 10)
    rows = in_rows(by_phase(taps, 2))
    assert sorted(rows.counts) == [1, 40]
