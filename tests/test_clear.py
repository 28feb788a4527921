"""Clear by and beside an equal share: what they are, and what they do not depend on."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import RATE

from pondel.core.hearing.clear import BINS, LOWEST_DB, clear_by_db, standing, too_small_to_hear
from pondel.core.hearing.ear import CONSTANTS
from pondel.core.hearing.excitation import excite
from pondel.core.hearing.recovery import recovery_s
from pondel.core.hearing.scale import PLACES_HZ
from pondel.core.hearing.table import Scope
from pondel.core.hearing.table_maker import TableMaker

FRAMES = 200
HIGH = PLACES_HZ > 1100


def steady(level_db: float, where: np.ndarray = HIGH, frames: int = FRAMES) -> np.ndarray:
    return np.where(where, 10 ** (level_db / 10), 1e-10).astype("f4") * np.ones((frames, 1), "f4")


def table_of(powers: dict[str, np.ndarray], on_hits=None, segments=()):
    maker = TableMaker(list(powers), segments)
    frames = next(iter(powers.values())).shape[0]
    at = np.zeros((len(powers), frames), bool) if on_hits is None else on_hits
    maker.add(0, np.stack(list(powers.values())), at)
    return maker.table()


def test_a_quarter_of_the_loudness_lies_above_it():
    weights = np.zeros(BINS)
    weights[round(10 - LOWEST_DB) : round(20 - LOWEST_DB)] = 1.0
    assert clear_by_db(weights) == pytest.approx(17.5)
    weights[round(30 - LOWEST_DB)] = 10.0
    assert clear_by_db(weights) == pytest.approx(30.5)
    assert clear_by_db(np.zeros(BINS)) is None


@pytest.mark.parametrize("others_db", [40.0, 50.0, 62.0])
def test_it_is_the_height_over_the_masked_threshold(others_db):
    """MGB 1997, equation 17, at places over 1 kHz, where the ratio at threshold is -3 dB."""
    table = table_of({"a": steady(60), "b": steady(others_db)})
    threshold_db = 10 * np.log10(10 ** (others_db / 10 - 0.3) + CONSTANTS.quiet[HIGH].mean())
    assert table.clear_db("a") == pytest.approx(60 - threshold_db, abs=0.6)


def chord(hz: float, seed: int, seconds: float = 4.0) -> np.ndarray:
    """Notes of six partials that swell and die away, each a little louder or softer than the last."""
    random = np.random.default_rng(seed)
    t = np.arange(round(seconds * RATE)) / RATE
    out = np.zeros(t.size)
    for start in np.arange(0.0, seconds, 0.5):
        age = np.maximum(t - start, 0.0)
        shape = np.where(t >= start, (1 - np.exp(-age / 0.01)) * np.exp(-age / 0.4), 0.0)
        for n in range(1, 7):
            out += random.uniform(0.3, 1) / n * shape * np.sin(2 * np.pi * hz * n * age)
    return (0.1 * out / np.sqrt(np.mean(out**2)))[:, np.newaxis].astype("f4")


PARTS_HZ = {
    "bass": 55,
    "low": 110,
    "keys": 220,
    "pad": 262,
    "lead": 330,
    "high": 523,
    "top": 880,
    "air": 1760,
}


@pytest.fixture(scope="module")
def parts() -> dict[str, np.ndarray]:
    return {name: excite([chord(hz, n)], RATE).power for n, (name, hz) in enumerate(PARTS_HZ.items())}


@pytest.mark.parametrize("part", ["bass", "keys", "lead", "air"])
def test_it_moves_a_decibel_with_each_decibel_of_the_fader(parts, part):
    faders_db = np.arange(-6, 7, 3)
    found = []
    for fader_db in faders_db:
        moved = {**parts, part: parts[part] * np.float32(10 ** (fader_db / 10))}
        found.append(table_of(moved).clear_db(part))
    assert np.abs(np.diff(found) / 3 - 1).max() < 0.3, found
    assert (found[-1] - found[0]) / 12 == pytest.approx(1, abs=0.1)


def test_zones_sections_and_hits_have_their_own(parts):
    low, high = steady(60, PLACES_HZ < 300), steady(60)
    masker = np.concatenate([steady(75, PLACES_HZ < 300, 100), steady(30, PLACES_HZ < 300, 100)])
    at = np.zeros((2, FRAMES), bool)
    at[0, 150:] = True
    table = table_of({"a": low + high, "b": masker}, at, [(0, 100)])
    lows = table.clear_db("a", Scope(zone_hz=(40, 250)))
    assert lows < table.clear_db("a", Scope(zone_hz=(2000, 8000))) - 10
    early = table.clear_db("a", Scope((0,), zone_hz=(40, 250)))
    late = table.clear_db("a", Scope((1,), zone_hz=(40, 250)))
    assert early < -5 < 15 < late
    assert table.clear_db("a", Scope(None, True, (40, 250))) == pytest.approx(late, abs=0.1)
    assert table.clear_db("b", Scope(on_hits=True)) is None


def test_what_would_be_won_is_what_is_won_without_that_hider(parts):
    three = {name: parts[name] for name in ("keys", "pad", "lead")}
    table = table_of(three)
    for by in ("keys", "lead"):
        rest = table_of({name: power for name, power in three.items() if name != by})
        won = rest.clear_db("pad") - table.clear_db("pad")
        assert table.would_win_db("pad", by) == pytest.approx(max(won, 0), abs=0.7)
    alone = table_of({"pad": parts["pad"], "lead": parts["lead"]})
    assert table.clear_of_db("pad", "lead") == pytest.approx(alone.clear_db("pad"), abs=0.7)


def test_only_the_three_worst_hiders_are_told_apart(parts):
    table = table_of(parts)
    lost = {by: table.sone("pad", by) for by in parts if by != "pad"}
    worst = sorted(lost, key=lambda by: -lost[by])[:3]
    assert table.hiders("pad") == worst
    others = set(lost) - set(worst)
    assert all(
        table.clear_of_db("pad", by) is None and table.would_win_db("pad", by) is None for by in others
    )


def test_equal_parts_stand_at_an_equal_share():
    """The same sound thrice; then one of them louder, and one that hardly sounds at all."""
    one = steady(60, (PLACES_HZ > 500) & (PLACES_HZ < 800))
    short = np.full_like(one, 1e-10)
    short[:3] = steady(40, (PLACES_HZ > 5000) & (PLACES_HZ < 5500), 3)
    equal = table_of({"a": one, "b": one, "c": one, "short": short})
    assert equal.beside_equal_db("a") == pytest.approx(0, abs=1e-3)
    louder = table_of({"a": 4 * one, "b": one, "c": one, "short": short})
    left = {part: louder.loudness_sone(part) * (1 - louder.share(part)) for part in "abc"}
    assert louder.beside_equal_db("a") == pytest.approx(10 * np.log10(left["a"] / left["b"]), abs=1e-3)
    assert louder.beside_equal_db("b") < -3
    assert table_of({"a": one}).beside_equal_db("a") is None


@pytest.mark.parametrize(
    ("db", "words"),
    [(3.1, "clear"), (3, "in the texture"), (-3, "in the texture"), (-4, "low"), (-6.1, "buried")],
)
def test_heights_have_their_words(db, words):
    assert standing(db) == words


def test_what_is_too_small_to_hear():
    assert too_small_to_hear(0.9, 0.029) and too_small_to_hear(None, 0.01)
    assert not too_small_to_hear(1.0, 0.0) and not too_small_to_hear(0.2, -0.03)


@pytest.mark.parametrize("length_s", [0.06, 0.12, 0.24])
def test_the_recovery_time_is_the_length_of_what_hides(length_s):
    """Bursts every 400 ms that hide a steady sound while they last: 20 ms of window, 10 of frames."""
    hits_s = np.arange(0.1, 3.6, 0.4)
    t = np.arange(4 * RATE) / RATE
    age = (t - 0.1) % 0.4
    random = np.random.default_rng(3)
    steady = 0.02 * np.sin(2 * np.pi * 1000 * t)
    burst = np.where(age < length_s, 0.3 * random.standard_normal(t.size), 0.0)
    part, hider = (excite([one[:, None].astype("f4")], RATE).power for one in (steady, burst))
    found = recovery_s(part, hider, hits_s, (900, 1100))
    assert found == pytest.approx(length_s + 0.02, abs=0.021)
    assert recovery_s(part, 1e-6 * hider, hits_s, (900, 1100)) is None
    assert recovery_s(part, hider, np.empty(0), (900, 1100)) is None
