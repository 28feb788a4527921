"""Hits with their lengths, tempo, stereo, low-end sums, and where a part lives."""

from __future__ import annotations

import tracemalloc

import numpy as np
import pytest
from conftest import RATE, sine
from hearing_tools import band
from scipy.signal import butter, sosfilt

from pondel.core.advice.lengths import (
    length_words,
    lengths_of,
    note_value,
    overlap_share,
    which_to_shorten,
)
from pondel.core.engine.hits import corrected
from pondel.core.hearing.packing import pack
from pondel.core.hearing.spectra import FRAME_S, ear_spectrum
from pondel.core.measures import tempo
from pondel.core.measures.build_up import build_up_db
from pondel.core.measures.hits import Hits, Onset, hits_among, times_s
from pondel.core.measures.home import home_of, pitch_hz, pitched_stretches, usual_pitch_hz
from pondel.core.measures.lowsum import low_sum
from pondel.core.measures.restruck import BandRises, band_rises
from pondel.core.measures.spectrum import average_spectrum, axis_hz
from pondel.core.measures.stereo import middle_and_side, stereo_image
from pondel.core.measures.tempo import estimate_bpm
from pondel.core.notes import note_name


def strokes(times: list[float], levels_db: list[float], seconds: float, fall_s: float = 0.05):
    """Struck tones with a snare-like rush, float64 (frames,)."""
    out = np.zeros(round(seconds * RATE))
    t = np.arange(round(0.4 * RATE)) / RATE
    rush = np.random.default_rng(9).standard_normal(t.size)
    for at, level in zip(times, levels_db, strict=True):
        first = round(at * RATE)
        sound = (np.sin(2 * np.pi * 190 * t) + 0.5 * rush) * np.exp(-t / fall_s)
        room = out[first : first + t.size]
        room += 0.4 * 10 ** (level / 20) * sound[: room.size]
    return out


def found(samples: np.ndarray, sensitivity: float = 0.5) -> np.ndarray:
    finder, sound = Hits(RATE), samples.astype(np.float32)[:, None]
    finder.write(sound)
    anew = band_rises(pack(ear_spectrum([sound], RATE)), FRAME_S)
    return times_s(hits_among(finder.onsets(anew), sensitivity))


def ringing(notes: list[tuple[float, float]], seconds: float, attack_s: float = 0.004) -> np.ndarray:
    """Notes (seconds, Hz) of eight partials that go on ringing, float64 (frames,)."""
    t = np.arange(round(seconds * RATE)) / RATE
    out = np.zeros(t.size)
    for start, hz in notes:
        age = np.maximum(t - start, 0.0)
        shape = np.where(t >= start, (1 - np.exp(-age / attack_s)) * np.exp(-age / 2.5), 0.0)
        for n in range(1, 9):
            out += 0.1 / n * shape * np.exp(-age * n / 4) * np.sin(2 * np.pi * hz * n * age)
    return out


@pytest.mark.parametrize(("low_hz", "right"), [(55, 0.85), (220, 0.95)])
def test_notes_struck_anew_while_others_ring_are_hits(low_hz, right):
    """Two low notes beat with each other, so that a few more are heard there than were played."""
    times = np.arange(0.3, 7.8, 0.375)
    steps = [0, 7, 12, 5, 9, 16, 4, 11]
    notes = [(at, low_hz * 2 ** (steps[n % 8] / 12)) for n, at in enumerate(times)]
    hits = found(ringing(notes, 8.5))
    near = np.abs(hits[:, None] - times).min(axis=1)
    assert (np.abs(hits[:, None] - times).min(axis=0) < 0.05).mean() >= 0.95
    assert (near < 0.05).mean() >= right and np.median(near) < 0.015


@pytest.mark.parametrize("period_s", [1.0, 3.0])
def test_slow_swells_are_no_hits(period_s):
    """A pad whose chord swells by 14 dB, its partials beating with each other."""
    t = np.arange(8 * RATE) / RATE
    swell = 0.6 - 0.4 * np.cos(2 * np.pi * t / period_s)
    chord = sum(np.sin(2 * np.pi * hz * t) for hz in (220, 220.7, 277, 330, 331, 440.5, 660))
    hits = found(0.05 * swell * chord)
    assert hits.size <= 1 and (hits < 0.05).all()


def test_ghost_notes_count_and_bleed_does_not():
    rng = np.random.default_rng(2)
    main, ghosts = [0.5, 1.5, 2.5, 3.5], [0.75, 1.25, 2.25, 3.1]
    times = sorted(main + ghosts)
    levels = [0 if t in main else -18 for t in times]
    drum = strokes(times, levels, 4.5)
    # The bleed of another part: strokes elsewhere 34 dB down, and a steady murmur.
    bleed = strokes([0.9, 1.9, 2.9, 3.9], [-34] * 4, 4.5)
    bleed += rng.standard_normal(drum.size) * 10 ** (-62 / 20)
    hits = found(drum + bleed)
    assert hits.size == len(times)
    assert np.abs(hits - times).max() < 0.005


def test_sensitivity_leaves_ghosts_out_or_lets_bleed_in():
    drum = strokes([0.5, 1.0, 1.5, 2.0], [0, -18, 0, -40], 2.5)
    assert found(drum, 0.0).size == 2
    assert found(drum, 0.5).size == 3
    assert found(drum, 1.0).size >= 4


def test_hits_are_corrected_by_hand():
    base = np.array([0.5, 1.0, 1.5])
    assert corrected(base, [1.2], [1.01]).tolist() == [0.5, 1.2, 1.5]


@pytest.mark.parametrize("fall_s", [0.03, 0.06])
def test_a_hit_lasts_as_long_as_its_exponential_says(fall_s):
    finder = Hits(RATE)
    samples = strokes([0.2, 1.2, 2.2], [0, 0, 0], 3.2, fall_s)
    finder.write(samples.astype(np.float32)[:, None])
    lengths = lengths_of(hits_among(finder.onsets()))
    # Amplitude falls 20 dB in 2.3 time constants.
    assert lengths.fall_20_s == pytest.approx(2.303 * fall_s, abs=0.02)
    assert lengths.fall_40_s == pytest.approx(4.605 * fall_s, abs=0.02)
    assert lengths.gap_s == pytest.approx(1.0, abs=0.005)


def test_lengths_in_words():
    kick = [Onset(t, 30, 0, 0.35, 0.6) for t in (0.0, 1.0, 2.0, 3.0)]
    bass = [Onset(t, 20, 0, None, None) for t in (0.0, 2.5)]
    assert overlap_share(kick, bass) == 1.0
    words = length_words("Kick", kick, "Bass", bass, 120)
    assert words == "Long Kick, long Bass notes: they overlap on 100 % of hits"
    short = [Onset(t, 20, 0, 0.1, 0.2) for t in (0.5, 1.0, 2.5)]
    assert overlap_share([Onset(t, 30, 0, 0.1, 0.2) for t in (0.0, 1.0)], short) == 0.5
    assert length_words("Kick", [], "Bass", bass, 120) is None
    assert note_value(0.125, 120) == "a sixteenth" and note_value(0.26, 120) == "an eighth"


def test_the_part_is_shortened_that_gives_up_less_of_itself():
    """Long notes begin an eighth before each hit: cut to an eighth they end where the hit begins."""
    hits = [Onset(float(t), 30, 0, 0.2, 0.4) for t in (1, 2, 3, 4)]
    notes = [Onset(t - 0.25, 20, 0, 0.6, 0.8) for t in (1.0, 2.0, 3.0, 4.0)]
    first, *others = which_to_shorten(hits, notes, 120)
    assert not first.is_leader and not others
    assert first.beats == 0.5 and first.end_s == pytest.approx(0.25)
    words = "Shorten Bass to an eighth (250 of 600 ms): both sound for 0 ms of a hit, not 200 ms"
    assert first.words("Bass") == words


def test_a_long_hit_is_shortened_before_the_note_that_answers_it():
    """The hit rings for 0.9 s, the note enters 0.4 s after it and ends before the next."""
    hits = [Onset(float(t), 30, 0, 0.9, 1.0) for t in (0, 1, 2, 3)]
    notes = [Onset(t + 0.4, 20, 0, 0.55, 0.6) for t in (0.0, 1.0, 2.0, 3.0)]
    first = which_to_shorten(hits, notes, 120)[0]
    assert first.is_leader and first.beats == 0.75
    assert first.together_now_s == pytest.approx(0.5) and first.together_then_s == 0.0


def test_nothing_is_shortened_where_both_begin_together_or_hardly_meet():
    together = [Onset(float(t), 30, 0, 0.3, 0.5) for t in (0, 1, 2)]
    assert which_to_shorten(together, together, 120) == []
    apart = [Onset(t + 0.5, 30, 0, 0.2, 0.3) for t in (0.0, 1.0, 2.0)]
    assert which_to_shorten(together, apart, 120) == []


def test_without_a_tempo_lengths_are_in_ms():
    hits = [Onset(float(t), 30, 0, 0.2, 0.4) for t in (1, 2, 3, 4)]
    notes = [Onset(t - 0.25, 20, 0, 0.64, 0.8) for t in (1.0, 2.0, 3.0, 4.0)]
    first = which_to_shorten(hits, notes, None)[0]
    # Seven sixteenths of 640 ms end 30 ms after the hit begins; a fifth of its 200 ms is 40.
    assert first.beats is None and first.end_s == pytest.approx(0.28)
    assert "to 280 of 640 ms: both sound for 30 ms of a hit, not 200 ms" in first.words("Bass")


@pytest.mark.parametrize("bpm", [72, 104, 128, 174])
def test_tempo_of_loose_patterns(bpm):
    rng = np.random.default_rng(bpm)
    beat = 60 / bpm
    kick = np.arange(0, 60, 2) * beat * 1.0
    snare = (np.arange(1, 60, 2)) * beat
    hats = np.arange(0, 120) * beat / 2
    parts = [h + rng.normal(0, 0.004, h.size) for h in (kick, snare, hats)]
    estimate = estimate_bpm(parts)
    assert min(abs(estimate / bpm - factor) for factor in (0.5, 1, 2)) < 0.003
    if 80 <= bpm <= 150:
        assert estimate == pytest.approx(bpm, rel=0.003)


def test_too_few_hits_have_no_tempo():
    assert estimate_bpm([np.array([0.0, 1.0])]) is None


def test_correlation_of_equal_opposite_and_unrelated_channels():
    rng = np.random.default_rng(3)
    a, b = rng.standard_normal((2, RATE * 4)).astype("f4") * 0.1
    for right, expected in ((a, 1.0), (-a, -1.0), (b, 0.0)):
        image = stereo_image([np.stack([a, right], axis=1)], RATE)
        assert image.correlation == pytest.approx(expected, abs=0.02)
        assert all(band == pytest.approx(expected, abs=0.15) for band in image.bands)
        assert len(image.over_time) == 40
    assert image.side_db == pytest.approx(0, abs=0.2)
    # Two unrelated channels lose half of their power in the mean of both.
    assert image.mono_loss_db == pytest.approx(-3.01, abs=0.1)


def test_correlation_by_band_and_over_time():
    low, high = sine(80, 2)[:, 0], sine(3000, 2)[:, 0]
    image = stereo_image([np.stack([low + high, low - high], axis=1)], RATE)
    assert image.bands[1] == pytest.approx(1, abs=0.01)
    assert image.bands[6] == pytest.approx(-1, abs=0.01)
    half = np.concatenate([np.stack([low, low], 1), np.stack([low, -low], 1)])
    times = stereo_image([half], RATE).over_time
    assert times[5] == pytest.approx(1, abs=0.01) and times[30] == pytest.approx(-1, abs=0.01)
    assert stereo_image([np.zeros((RATE, 2), "f4")], RATE).correlation is None


def test_middle_and_side_spectra():
    tone = sine(1000, 2, -20)
    middle, side = middle_and_side(np.hstack([tone, -tone]), RATE)
    assert side.max() == pytest.approx(-23.0, abs=0.2) and middle.max() < -100


def low_pair(delay_ms: float, flipped: bool):
    """Thumps at known hits, and the same ones late and perhaps upside down, with overtones."""
    hits = np.array([0.3, 0.9, 1.5, 2.1])
    t = np.arange(round(0.25 * RATE)) / RATE
    thump = 0.3 * np.sin(2 * np.pi * 61 * t) * np.exp(-t / 0.08)
    parts = np.zeros((2, 3 * RATE))
    for hit in hits:
        for row, late, sign in ((0, 0.0, 1), (1, delay_ms / 1000, -1 if flipped else 1)):
            first = round((hit + late) * RATE)
            parts[row, first : first + t.size] += sign * thump
    overtones = sosfilt(
        butter(4, 900, "highpass", fs=RATE, output="sos"),
        np.random.default_rng(1).standard_normal(3 * RATE),
    )
    return parts[0][:, None], (parts[1] + 0.05 * overtones)[:, None], hits


def test_two_equal_lows_in_step_gain_three_decibels():
    a, b, hits = low_pair(0, False)
    both = low_sum(a, b, RATE, hits, 150)
    assert both.hits == 4 and both.gain_db == pytest.approx(3.01, abs=0.05)
    assert both.best_nudge_ms == pytest.approx(0, abs=0.2) and not both.best_flipped


@pytest.mark.parametrize(("delay_ms", "flipped"), [(4.0, False), (0.0, True), (-3.0, True)])
def test_the_best_nudge_and_polarity_undo_what_was_done(delay_ms, flipped):
    a, b, hits = low_pair(delay_ms, flipped)
    both = low_sum(a, b, RATE, hits, 150)
    # The smallest nudge within 0.2 dB of the best; half a period of 61 Hz does what a flip does.
    away_ms = abs(both.best_nudge_ms + delay_ms)
    undone_ms = 0.0 if both.best_flipped == flipped else 1000 / 61 / 2
    assert away_ms == pytest.approx(undone_ms, abs=1.3) and not (both.best_flipped and not flipped)
    assert abs(both.best_nudge_ms) <= max(abs(delay_ms), 1000 / 61 / 2)
    assert both.best_gain_db == pytest.approx(2.91, abs=0.11)
    assert both.gain_db < 2.0 and both.to_win_db > 1.0


def test_a_nudge_is_told_only_where_it_wins_on_hits_it_was_not_fitted_on():
    """Two lows that have nothing to do with each other: what fits some hits does nothing for others."""
    random = np.random.default_rng(8)
    a, b = (
        sosfilt(butter(4, 120, fs=RATE, output="sos"), random.standard_normal((12 * RATE, 1)), axis=0)
        for _ in range(2)
    )
    both = low_sum(a, b, RATE, np.arange(0.2, 11.5, 0.5), 150)
    assert both.best_nudge_ms == 0 and not both.best_flipped
    assert both.best_gain_db == both.gain_db


def test_turning_over_is_told_by_itself():
    a = np.asarray(sine(60, 4))
    both = low_sum(a, -a, RATE, np.arange(0.2, 3.5, 0.5), 150)
    assert both.gain_db < -30 and both.flipped_gain_db == pytest.approx(3.01, abs=0.02)


def test_a_part_without_lows_has_no_low_sum():
    a, _, hits = low_pair(0, False)
    assert low_sum(a, sine(5000, 3), RATE, hits, 150) is None
    assert low_sum(a, a, RATE, np.empty(0), 150) is None


def test_where_noise_between_two_edges_lives():
    noise = np.random.default_rng(4).standard_normal(RATE * 20)
    noise = sosfilt(butter(10, [200, 800], "bandpass", fs=RATE, output="sos"), noise)
    home = home_of(average_spectrum([noise.astype("f4")[:, None] * 0.1], RATE))
    # Flat between 200 and 800 Hz: a twentieth of it lies below 230, nine tenths below 740.
    assert home.low_hz == pytest.approx(230, rel=0.05)
    assert home.high_hz == pytest.approx(770, rel=0.05)
    assert home.crossover_hz == pytest.approx(740, rel=0.05)
    assert home_of(np.full_like(average_spectrum([], RATE), -140)) is None


def test_the_strongest_bands_of_two_tones():
    home = home_of(average_spectrum([sine(60, 4, -10) + sine(2000, 4, -20)], RATE))
    assert home.strongest_hz[0] == pytest.approx(60, rel=0.03)
    assert home.strongest_hz[1] == pytest.approx(2000, rel=0.03)


@pytest.mark.parametrize("hz", [31, 55, 98, 440])
def test_pitch_of_a_tone_with_overtones(hz):
    t = np.arange(round(0.25 * RATE)) / RATE
    tone = sum(np.sin(2 * np.pi * hz * n * t + n) / n for n in (1, 2, 3, 4))
    assert pitch_hz(tone, RATE) == pytest.approx(hz, rel=0.01)


def test_the_highest_spectrum_of_a_long_sound_takes_no_more_memory_than_of_a_short_one():
    block = np.random.default_rng(3).normal(0, 0.1, (RATE, 2)).astype("f4")

    def peak_bytes(blocks: int) -> int:
        tracemalloc.start()
        average_spectrum((block for _ in range(blocks)), RATE, peak=True)
        peak = tracemalloc.get_traced_memory()[1]
        tracemalloc.stop()
        return peak

    peak_bytes(2)
    assert peak_bytes(24) < 1.2 * peak_bytes(4)


@pytest.mark.parametrize("hits", [1, 39, 40, 41, 79, 400])
def test_a_pitch_is_looked_for_after_forty_hits_at_most_all_over_the_part(hits):
    places = pitched_stretches(RATE, np.arange(hits, dtype=float))
    assert min(hits, 20) <= len(places) <= 40
    assert places[0] == (round(0.06 * RATE), RATE // 4) and places[-1][0] > 0.9 * (hits - 1) * RATE


def test_noise_and_silence_have_no_pitch():
    assert pitch_hz(np.random.default_rng(1).standard_normal(12000), RATE) is None
    assert pitch_hz(np.zeros(12000), RATE) is None
    silence = np.zeros((RATE, 2))
    hits_s = np.array([0.1, 0.9, 1.5])
    assert usual_pitch_hz(lambda at, size: silence[at : at + size], RATE, RATE, hits_s) is None


def test_names_of_notes():
    assert note_name(440) == "A4" and note_name(55.5) == "A1 +16 ct"


def test_times_of_onsets_are_sorted():
    finder = Hits(RATE)
    finder.write(strokes([0.2, 0.6], [0, 0], 1.2).astype("f4")[:, None])
    assert (np.diff(times_s(finder.onsets())) > 0).all()


def test_tempo_of_very_many_hits_is_looked_at_a_bounded_way_ahead(monkeypatch):
    """Twice as many hits make twice as many distances, not four times."""
    counted = []
    distances = tempo._distances

    def counting(*given):
        for far in distances(*given):
            counted.append(given[0].size)
            yield far

    monkeypatch.setattr(tempo, "_distances", counting)
    sizes = []
    for seconds in (400.0, 800.0):
        counted.clear()
        found = tempo.estimate_bpm([np.arange(0.0, seconds, 60 / 104 / 8)])
        assert found == pytest.approx(104, rel=0.001) or found == pytest.approx(208, rel=0.001)
        sizes.append(sum(counted))
    assert sizes[1] < 2.2 * sizes[0]


def test_what_builds_up_is_where_both_are_strong_and_their_sum_stands_out():
    """Two parts that share a tone at 200 Hz in a mix that is even, each with a tone of its own."""
    even = band(40, 12000, -40, 5)[: 3 * RATE]
    first = sine(200, 3, -20) + sine(900, 3, -20) + 0.05 * even
    second = sine(200, 3, -22) + sine(3000, 3, -20) + 0.05 * even
    spectra = [average_spectrum([np.asarray(s, "f4")], RATE) for s in (first, second, first + second)]
    mix = average_spectrum([np.asarray(first + second + even, "f4")], RATE)
    found = build_up_db(*spectra, mix)
    hz = axis_hz()
    near = np.abs(np.log2(hz / 200)) < 0.1
    assert found[near].max() > 6
    assert found[np.abs(np.log2(hz / 200)) > 0.3].max() == 0


def test_the_highest_of_a_spectrum_is_that_of_its_loudest_moment():
    t = np.arange(4 * RATE) / RATE
    tone = 10 ** (-20 / 20) * np.sin(2 * np.pi * 1000 * t)
    burst = np.where((t > 2) & (t < 2.5), tone * 10, tone)[:, None].astype("f4")
    at = int(np.argmin(np.abs(axis_hz() - 1000)))
    assert average_spectrum([burst], RATE, peak=True)[at] == pytest.approx(-3.01, abs=0.2)
    assert average_spectrum([burst], RATE)[at] < -10


@pytest.mark.parametrize("gap_s", [0.005, 0.012, 0.018])
def test_a_hit_after_the_end_of_another_begins_where_it_begins(gap_s):
    """A bass note that is let go shortly before the next: its last cycles are not the next one's."""
    frames, every = RATE * 4, RATE // 2
    sound = np.zeros(frames)
    for first in range(0, frames, every):
        length = every - round(gap_s * RATE)
        t = np.arange(length) / RATE
        body = np.sin(2 * np.pi * 55 * t + 0.3) * np.exp(-1.5 * t)
        fall = np.minimum(1.0, (length - np.arange(length)) / (0.004 * RATE))
        sound[first : first + length] = 0.5 * body * fall * np.minimum(1.0, t / 0.003)
    meter = Hits(RATE)
    meter.write(sound.astype(np.float32)[:, None])
    away = meter.times_s() - np.arange(8) * 0.5
    assert np.abs(away).max() < 0.005


def test_notes_of_a_flam_are_two_hits_and_what_is_nearer_is_one():
    for apart_s, count in ((0.045, 2), (0.020, 1)):
        t = np.arange(RATE) / RATE
        sound = np.zeros(RATE)
        for at_s in (0.1, 0.1 + apart_s):
            since = t - at_s
            sound += np.where(since >= 0, np.sin(2 * np.pi * 300 * since) * np.exp(-since / 0.006), 0.0)
        meter = Hits(RATE)
        meter.write((0.5 * sound).astype(np.float32)[:, None])
        assert meter.times_s().size == count


@pytest.mark.parametrize("ahead_s", [0.015, 0.020])
def test_a_thud_that_damps_a_bass_note_is_not_the_beginning_of_the_next(ahead_s):
    """A hand on the string, 14 dB under full scale: the note begins where its bands rise."""
    t = np.arange(5 * RATE) / RATE
    starts = 0.3 + 0.5 * np.arange(8)
    sound = np.zeros(t.size)
    for start, hz in zip(starts, (65, 98, 87, 110, 65, 98, 73, 82), strict=True):
        age = np.maximum(t - start, 0.0)
        shape = (
            np.exp(-age / 0.4)
            * np.clip(age / 0.003, 0, 1)
            * np.clip((0.5 - ahead_s - age) / 0.004, 0, 1)
        )
        for n in (1, 2, 3, 4):
            sound += 0.2 / n * shape * np.sin(2 * np.pi * hz * n * age)
        since = np.maximum(t - start - 0.5 + ahead_s, 0.0)
        sound += 10 ** (-14 / 20) * np.exp(-since / 0.008) * np.sin(2 * np.pi * 60 * since)
    hits = found(sound)[:8]
    assert np.abs(hits - starts).max() < 0.005


@pytest.mark.parametrize(("anew", "count"), [([(0.11, 60.0)], 1), ([(0.11, 60.0), (0.16, 30.0)], 2)])
def test_a_note_that_goes_on_swelling_is_one_hit(anew, count):
    """Strings that rise twice within 90 ms: two hits only where the bands were struck twice."""
    t = np.arange(RATE) / RATE
    bow = 0.1 * np.clip((t - 0.1) / 0.004, 0, 1) + 0.5 * np.clip((t - 0.155) / 0.012, 0, 1)
    meter = Hits(RATE)
    meter.write((bow * np.sin(2 * np.pi * 440 * t)).astype(np.float32)[:, None])
    bands = BandRises(anew, np.full(round(1.0 / FRAME_S), 30.0), FRAME_S)
    assert len(hits_among(meter.onsets(bands))) == count
