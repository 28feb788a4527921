"""Gate, dynamic EQ and multiband compressor: static curves, times, flat sums."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import RATE, sine
from moves_tools import at_work, noise, pulse_response_db, rms_db, run
from pydantic import ValidationError
from scipy.fft import rfft, rfftfreq

from pondel.core.dsp.crossover import band_biquads, linear_kernels
from pondel.core.dsp.matched import prototype, response
from pondel.core.moves.complementary_eq import ComplementaryEq
from pondel.core.moves.dynamic_eq import DynamicBand, DynamicEq, DynamicEqProcessor
from pondel.core.moves.gate import Gate, static_fall_db
from pondel.core.moves.multiband import Band, Multiband
from pondel.core.moves.picture import at_full
from pondel.core.moves.registry import kind_of


def traced(move, samples, key=None):
    found: dict = {}
    run(move, samples, key, trace=lambda values, band=None: found.setdefault(band, []).append(values))
    return {band: np.concatenate(rows) for band, rows in found.items()}


@pytest.mark.parametrize("under", [0, 3, 6, 10, 25])
def test_two_to_one_downward_expansion_is_exact(under):
    move = Gate(id="g", threshold_db=-30, ratio=2, range_db=60, hysteresis_db=0, hold_ms=0)
    level = -30 - under
    square = np.full((RATE * 2, 1), 10 ** (level / 20), np.float32)
    out = run(move, square)[-1, 0]
    assert 20 * np.log10(out) == pytest.approx(level - under, abs=0.05)
    assert static_fall_db(np.array(level), -30, 2, 60) == pytest.approx(under)
    assert static_fall_db(np.array(-90.0), -30, np.inf, 40) == 40


def test_a_gate_opens_and_shuts_in_the_stated_times_after_its_hold():
    move = Gate(
        id="g", threshold_db=-30, ratio=20, range_db=40, attack_ms=10, release_ms=100, hold_ms=50
    )
    loud, quiet = np.full((RATE, 1), 0.5, "f4"), np.full((RATE, 1), 0.0002, "f4")
    reduction = traced(move, np.concatenate([quiet, loud, quiet]))[None]
    assert reduction[RATE - 1] == pytest.approx(40, abs=0.01)
    opened = np.argmax(reduction[RATE:] < 40 * np.exp(-1)) / RATE
    assert opened * 1000 == pytest.approx(10, rel=0.05)
    falling = reduction[2 * RATE :]
    begins = np.argmax(falling > 0.01) / RATE * 1000
    assert begins == pytest.approx(50, abs=0.2)
    shut = np.argmax(falling > 40 * (1 - np.exp(-1))) / RATE * 1000
    assert shut - begins == pytest.approx(100, rel=0.05)


@pytest.mark.parametrize("hz", [21, 33, 40, 62, 1000])
def test_a_gate_neither_flutters_on_a_low_tone_nor_lets_a_softer_one_through(hz):
    move = Gate(id="g", threshold_db=-30, ratio=20, range_db=40, hysteresis_db=0, hold_ms=0)
    assert traced(move, sine(hz, 2, -29))[None][RATE // 2 :].max() < 0.01
    assert traced(move, sine(hz, 2, -31))[None].min() > 18


def test_a_gate_shuts_25_ms_after_the_last_peak_or_after_its_hold_if_that_is_longer():
    burst = sine(1000, 2, -6)
    burst[RATE:] = 0
    for hold_ms, after_ms in [(0, 25), (10, 25), (80, 80)]:
        move = Gate(id="g", threshold_db=-30, ratio=20, range_db=40, hold_ms=hold_ms)
        begins = np.argmax(traced(move, burst)[None][RATE:] > 0.01) * 1000 / RATE
        assert begins == pytest.approx(after_ms, abs=0.6)


def test_hysteresis_keeps_a_gate_open_between_its_thresholds():
    move = Gate(id="g", threshold_db=-20, ratio=20, hysteresis_db=6, hold_ms=0, release_ms=5)
    steps = [-40, -24, -18, -24, -28]
    square = np.concatenate([np.full((RATE // 2, 1), 10 ** (s / 20), "f4") for s in steps])
    reduction = traced(move, square)[None]
    ends = [float(reduction[(n + 1) * RATE // 2 - 1]) for n in range(5)]
    assert ends[1] > 20 and ends[2] < 0.01 and ends[3] < 0.01 and ends[4] > 20


def test_a_gate_looks_ahead_and_hears_its_key():
    key = np.zeros((RATE, 1), "f4")
    key[RATE // 2 :] = 0.5
    part = noise(1, 0.1, 1)
    move = Gate(id="g", threshold_db=-20, range_db=60, ratio=20, look_ahead_ms=5, attack_ms=0.5)
    out = run(move, part, key)
    late = round(0.005 * RATE)
    onset = RATE // 2
    assert rms_db(out[onset - 2000 : onset - 500]) < -70
    assert rms_db(out[onset + late + 500 : onset + late + 3000]) == pytest.approx(-20, abs=0.5)
    # The frame at which the key begins is heard open, as the part comes 5 ms later.
    assert rms_db(out[onset + late - 48 : onset + late]) > -25


@pytest.mark.parametrize(("shape", "hz"), [("bell", 200), ("low shelf", 60), ("high shelf", 9000)])
@pytest.mark.parametrize("over", [0, 4, 12])
def test_a_dynamic_band_reaches_its_exact_gain(shape, hz, over):
    band = DynamicBand(
        shape=shape,
        hz=200 if shape == "bell" else 1000,
        range_db=-9,
        threshold_db=-30,
        ratio=4,
        listens="whole",
    )
    key = np.full((RATE * 3, 1), 10 ** ((-30 + over) / 20), np.float32)
    part = sine(hz, 3, -20)
    reduction = traced(DynamicEq(id="d", bands=[band]), part, key)[None][-1]
    bent = 0.75 * 1.5**2 / (2 * 3) if over == 0 else 0.75 * over
    assert reduction == pytest.approx(min(9, bent), abs=0.01)
    out = run(DynamicEq(id="d", bands=[band]), part, key)
    if shape == "bell":
        change = rms_db(out[-RATE:]) - rms_db(part[-RATE:])
        assert change == pytest.approx(-min(9, bent), abs=0.05)


@pytest.mark.parametrize("rate", [44100, 96000])
@pytest.mark.parametrize("reached", [1.0, 0.6, 0.2])
@pytest.mark.parametrize(
    ("shape", "hz", "q", "range_db"),
    [
        ("bell", 60, 3, -30),
        ("bell", 1000, 1.4, -12),
        ("bell", 9000, 0.5, 9),
        ("bell", 12000, 1, -9),
        ("bell", 16000, 2, -18),
        ("low shelf", 200, 0.7, -12),
        ("high shelf", 9000, 0.7, 10),
    ],
)
def test_a_dynamic_band_has_the_prototypes_response_at_any_gain(shape, hz, q, range_db, reached, rate):
    over = abs(range_db) * reached if reached < 1 else 60
    band = {"shape": shape, "hz": hz, "q": q, "range_db": range_db, "listens": "whole"}
    times = {"threshold_db": -60, "ratio": "inf", "attack_ms": 0.1, "release_ms": 5}
    move = DynamicEq(id="d", bands=[{**band, **times}])
    level, frames = np.float32(10 ** ((-60 + over) / 20)), 1 << 16
    processor = DynamicEqProcessor(move, rate, 1)
    processor.process(np.zeros((rate, 1), "f4"), np.full((rate, 1), level))
    pulse = np.zeros((frames, 1), "f4")
    pulse[0] = 1
    out = processor.process(pulse, np.full((frames, 1), level))[:, 0]
    heard = rfftfreq(frames, 1 / rate)
    inside = (heard > 20) & (heard < 18000)
    found = 20 * np.log10(np.abs(rfft(out.astype(float)))[inside] + 1e-9)
    wanted = prototype(shape, heard[inside], hz, range_db * reached, q)
    most = 0.1 if abs(range_db) <= 18 else 0.2
    assert np.abs(found - 20 * np.log10(np.abs(wanted))).max() < most


@pytest.mark.parametrize("shape", ["bell", "low shelf", "high shelf"])
@pytest.mark.parametrize("hz", [120, 2500, 11000])
def test_still_sides_at_equal_share_are_opposite_and_dynamic_ones_are_as_drawn(shape, hz):
    def side(name, dynamic, share=0.5):
        band = {"shape": shape, "hz": hz, "difference_db": 8, "share": share, "dynamic": dynamic}
        tied = {"part": "x", "move": "m"}
        return ComplementaryEq(id="m", side=name, tied_to=tied, bands=[{**band, "full_at_db": -80}])

    def made_of(move):
        """Its magnitude in dB while the other part sounds loudly in the band."""
        frames, rate = 1 << 16, RATE
        key = noise(2 + frames / rate, 0.5, 1)
        processor = at_work(move, rate, 1)
        processor.process(np.zeros((2 * rate, 1), "f4"), key[: 2 * rate])
        pulse = np.zeros((frames, 1), "f4")
        pulse[0] = 1
        out = processor.process(pulse, key[2 * rate :][:frames])[:, 0]
        heard = rfftfreq(frames, 1 / rate)
        inside = (heard > 20) & (heard < 18000)
        return heard[inside], 20 * np.log10(np.abs(rfft(out.astype(float)))[inside] + 1e-9)

    (_, gains), (_, gives) = (made_of(side(name, "neither")) for name in ("gains", "gives"))
    assert np.abs(gains + gives).max() < 0.01
    for dynamic, share in (("gives", 0.5), ("both", 0.3), ("gains", 0.8)):
        for name in ("gains", "gives"):
            move = side(name, dynamic, share)
            heard, found = made_of(move)
            few = slice(None, None, 50)
            drawn = kind_of("complementary eq").picture(move, heard[few], RATE)
            drawn_db = 20 * np.log10(np.abs(drawn.gain(at_full, heard[few].size)))
            assert np.abs(found[few] - drawn_db).max() < 0.1


def test_a_dynamic_band_holds_before_it_returns():
    key = np.full((2 * RATE, 1), 0.5, "f4")
    key[RATE:] = 0
    moved = {}
    for hold_ms in (0, 200):
        band = {"range_db": -10, "threshold_db": -30, "listens": "whole", "hold_ms": hold_ms}
        reduction = traced(DynamicEq(id="d", bands=[band]), sine(100, 2), key)[None]
        moved[hold_ms] = np.argmax(reduction[RATE:] < 5) / RATE * 1000
    assert moved[200] - moved[0] == pytest.approx(200, abs=1)


def test_other_frequencies_are_untouched_by_a_dynamic_bell():
    band = DynamicBand(hz=100, q=3, range_db=-12, threshold_db=-60, ratio=20, listens="whole")
    key = np.full((RATE * 2, 1), 0.5, np.float32)
    for hz, most in ((1500, 0.05), (5000, 0.02)):
        out = run(DynamicEq(id="d", bands=[band]), sine(hz, 2, -12), key)
        assert rms_db(out[RATE:]) == pytest.approx(rms_db(sine(hz, 2, -12)[RATE:]), abs=most)


def test_a_dynamic_band_hears_only_its_own_band():
    band = DynamicBand(hz=100, q=2, range_db=-12, threshold_db=-40, ratio=10)
    part = sine(100, 2, -12)
    for key_hz, moved in ((100, True), (4000, False)):
        reduction = traced(DynamicEq(id="d", bands=[band]), part, sine(key_hz, 2, -12))[None][-1]
        assert (reduction > 10) == moved


def test_follow_mode_is_in_proportion_to_the_level():
    band = DynamicBand(
        mode="follow", range_db=-8, threshold_db=-20, listens="whole", attack_ms=1, release_ms=5
    )
    for level, expected in ((-20, 8), (-26.02, 4), (-32.04, 2), (-10, 8)):
        key = np.full((RATE, 1), 10 ** (level / 20), np.float32)
        found = traced(DynamicEq(id="d", bands=[band]), sine(100, 1), key)[None][-1]
        assert found == pytest.approx(expected, abs=0.02)


def test_a_boost_and_any_speed_stay_stable():
    band = DynamicBand(
        hz=60,
        q=18,
        range_db=18,
        threshold_db=-70,
        ratio=20,
        attack_ms=0.1,
        release_ms=5,
        listens="whole",
    )
    key = noise(1, 0.5, 1) * np.sign(np.sin(np.arange(RATE) * 0.9))[:, None].astype("f4")
    out = run(DynamicEq(id="d", bands=[band]), noise(1, 0.5, 1, seed=2), key)
    assert np.isfinite(out).all() and np.abs(out).max() < 10


@pytest.mark.parametrize(
    "crossovers", [[120], [80, 400], [60, 250, 1000, 6000], [50, 150, 500, 2000, 8000]]
)
def test_bands_add_up_flat(crossovers):
    hz = np.geomspace(12, 20000, 400)
    w = 2 * np.pi * hz / RATE
    total = sum(response(sos, w) for sos in band_biquads(crossovers, RATE))
    assert np.abs(20 * np.log10(np.abs(total))).max() < 0.01
    low = 20 * np.log10(np.abs(response(band_biquads(crossovers, RATE)[0], w)))
    # 24 dB per octave above the lowest crossover: between one and three octaves up.
    at = [np.interp(crossovers[0] * 2**n, hz, low) for n in (2, 3)]
    assert at[0] - at[1] == pytest.approx(24, abs=0.5)


def idle(crossovers, **more) -> Multiband:
    bands = [Band(on=False) for _ in range(len(crossovers) + 1)]
    return Multiband(id="m", crossovers_hz=crossovers, bands=bands, **more)


def test_an_idle_multiband_is_flat():
    hz, found = pulse_response_db(idle([90, 700, 5000]))
    assert np.abs(found[(hz > 12) & (hz < 20000)]).max() < 0.01


@pytest.mark.parametrize("count", [3, 5, 8, 8 + 3])
@pytest.mark.parametrize("sizes", [[20_000], [1, 5, 12, 13, 2069, 2047, 7000]])
def test_many_bells_at_once_are_as_many_moves_with_one_each(count, sizes):
    """A single bell is worked out by itself, in another way."""
    samples, key = noise(0.5, 0.3, 2)[: sum(sizes)], noise(0.5, 0.3, 1, seed=5)[: sum(sizes)]
    ends = np.cumsum(sizes)[:-1]
    bells = [
        DynamicBand(hz=50 * 1.7**n, range_db=(-9, 6, -4)[n % 3], threshold_db=-40) for n in range(count)
    ]

    def through(bands: list[DynamicBand], sound: np.ndarray) -> np.ndarray:
        processor = DynamicEqProcessor(DynamicEq.model_construct(bands=bands), RATE, 2)
        pieces = zip(np.split(sound, ends), np.split(key, ends), strict=True)
        return np.concatenate([processor.process(*both) for both in pieces])

    wanted = samples
    for bell in bells:
        wanted = through([bell], wanted)
    found = through(bells, samples)
    assert np.abs(found - samples).max() > 0.02
    assert np.abs(found - wanted).max() < 10 ** (-120 / 20)


def test_the_linear_phase_split_is_a_plain_delay_when_idle():
    kernels = linear_kernels(
        (
            90,
            700,
        ),
        RATE,
    )
    whole = kernels.sum(axis=0)
    assert whole[kernels.shape[1] // 2] == pytest.approx(1) and np.abs(whole).sum() == pytest.approx(1)
    assert np.allclose(kernels, kernels[:, ::-1], atol=1e-9)
    sound = noise(0.6)
    move = idle([90, 700], phase="linear")
    from moves_tools import at_work

    late = at_work(move).latency
    out = run(move, sound)
    assert np.abs(out[late:] - sound[: sound.shape[0] - late]).max() < 1e-5


def test_only_the_low_band_is_ducked_and_the_top_is_left_alone():
    bands = [Band(threshold_db=-40, ratio=20, range_db=10, attack_ms=1), Band(on=False)]
    move = Multiband(id="m", crossovers_hz=[150], bands=bands)
    key = np.full((RATE, 1), 0.5, np.float32)
    low, high = sine(40, 1, -20), sine(2000, 1, -20)
    assert rms_db(run(move, low, key)[RATE // 2 :]) == pytest.approx(-33.0, abs=0.15)
    assert rms_db(run(move, high, key)[RATE // 2 :]) == pytest.approx(-23.0, abs=0.02)


def test_bands_hear_themselves_the_whole_key_or_the_same_band_of_it():
    bands = [Band(threshold_db=-30, range_db=12, ratio=20) for _ in range(2)]
    part, key = noise(1, 0.001, 1), sine(3000, 1, -6)
    for listens, moved in (("whole", (True, True)), ("same band", (False, True))):
        move = Multiband(id="m", crossovers_hz=[300], bands=bands, listens=listens)
        found = traced(move, part, key)
        assert tuple(found[n][-1] > 10 for n in (0, 1)) == moved
    cut = [Band(threshold_db=-30, range_db=12, ratio=20, key_high_cut_hz=100), bands[1]]
    found = traced(Multiband(id="m", crossovers_hz=[300], bands=cut), part, key)
    assert found[0][-1] < 1 and found[1][-1] > 10


def test_a_band_is_heard_alone():
    bands = [Band(on=False), Band(on=False, solo=True)]
    move = Multiband(id="m", crossovers_hz=[300], bands=bands)
    assert rms_db(run(move, sine(50, 1, -10))[RATE // 2 :]) < -60
    assert rms_db(run(move, sine(5000, 1, -10))[RATE // 2 :]) == pytest.approx(-13, abs=0.05)


def test_crossovers_fit_their_bands_and_rise():
    with pytest.raises(ValidationError, match="one crossover fewer"):
        Multiband(id="m", crossovers_hz=[100, 200])
    with pytest.raises(ValidationError, match="rise"):
        Multiband(id="m", crossovers_hz=[200, 100], bands=[Band(), Band(), Band()])
