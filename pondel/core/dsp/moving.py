"""Bells and shelves whose gain moves with a level, each with the response of the still EQ at that gain.

    out = MovingBands(settings, rate, channels).process(block, heard)

A moving band is the signal plus multiples of fixed filters, H = 1 + sum of c_m(g) (F_m - 1), where
the F_m are the still EQ's own filters at its full range and at one or two gains on the way there.
As only the multiples move, it is the signal itself at rest, and stable at any speed of change. The
multiples are chosen so that at every gain g on the way the response is that of the prototype at g:
exactly at the centre, within 0.1 dB (0.2 dB for ranges over 18 dB) elsewhere.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import lru_cache
from typing import Protocol

import numpy as np
from scipy.signal import butter

from pondel.core.dsp import ballistics
from pondel.core.dsp.ballistics import REACHED_DB
from pondel.core.dsp.cascade import one_section, settle_s, still, two_sections
from pondel.core.dsp.compiled import kernel
from pondel.core.dsp.decibels import amplitude_to_db
from pondel.core.dsp.lanes import (
    WIDTH,
    add,
    larger,
    load,
    mul,
    smaller,
    spread,
    store,
    sub,
    where_at_least,
)
from pondel.core.dsp.limits import LOUDEST, QUIETEST, finite
from pondel.core.dsp.matched import biquads, prototype, response

KNEE_DB = 3.0
BARELY = 1e-40
"""Added to what a detector hears, so that silence is not denormal."""
TILE = 1024
AT_ONCE = 2048
"""Frames whose levels and gains stay in the nearest caches."""
DEGREE = 7
STEPS = 33
"""Points of a member's multiple from rest to its full range."""


class Moving(Protocol):
    """The settings of a moving band."""

    @property
    def shape(self) -> str: ...
    @property
    def hz(self) -> float: ...
    @property
    def q(self) -> float: ...
    @property
    def range_db(self) -> float: ...
    @property
    def mode(self) -> str: ...
    @property
    def threshold_db(self) -> float: ...
    @property
    def ratio(self) -> float: ...
    @property
    def attack_ms(self) -> float: ...
    @property
    def hold_ms(self) -> float: ...
    @property
    def release_ms(self) -> float: ...
    @property
    def listens(self) -> str: ...


def band_pass(hz: float, q: float, rate: int) -> np.ndarray:
    """Band-pass of gain 1 at its centre, as one section (cookbook, constant peak gain)."""
    w = 2.0 * np.pi * min(hz, 0.45 * rate) / rate
    alpha = np.sin(w) / (2.0 * q)
    a0 = 1.0 + alpha
    return np.array([[alpha / a0, 0.0, -alpha / a0, 1.0, -2.0 * np.cos(w) / a0, (1.0 - alpha) / a0]])


def detector_biquads(band: Moving, rate: int) -> np.ndarray:
    """What the band's detector hears: its band, or the side its shelf acts on; one section."""
    if band.listens == "whole":
        return np.array([[1.0, 0.0, 0.0, 1.0, 0.0, 0.0]])
    if band.shape == "bell":
        return band_pass(band.hz, band.q, rate)
    kind = "lowpass" if band.shape == "low shelf" else "highpass"
    return butter(2, min(band.hz, 0.45 * rate), kind, fs=rate, output="sos")


def still_q(shape: str, q: float) -> float:
    """The Q with which a bell or shelf is drawn: a shelf's bend ends at 1."""
    return min(q, 1.0) if shape.endswith("shelf") else q


def member_gains_db(range_db: float) -> tuple[float, ...]:
    """The gains at which a moving band has fixed filters, the full range first."""
    size = abs(range_db)
    if size <= 2.0:
        return (range_db,)
    if size <= 9.0:
        return (range_db, range_db / 2.0)
    return (range_db, 0.6 * range_db, 0.25 * range_db)


@lru_cache(maxsize=256)
def member_curves(shape: str, range_db: float, q: float) -> np.ndarray:
    """The multiple of each member at evenly spaced gains from 0 to the range, (members, STEPS).

    Least squares over frequency against the prototype at each gain; the extreme is held exactly. A
    bell's do not depend on its Q, nor any on the frequency.
    """
    hz = np.geomspace(1e-3, 1e3, 241)
    gains = member_gains_db(range_db)
    members = np.stack([prototype(shape, hz, 1.0, gain, q) - 1.0 for gain in gains], axis=1)  # type: ignore[arg-type]
    extreme = {"bell": hz.size // 2, "low shelf": 0, "high shelf": hz.size - 1}[shape]
    curves = np.zeros((len(gains), STEPS))
    for n in range(1, STEPS):
        wanted = prototype(shape, hz, 1.0, range_db * n / (STEPS - 1), q)  # type: ignore[arg-type]
        weight = 1.0 / np.abs(wanted)
        weight[extreme] *= 1e4
        rows, aim = members * weight[:, None], (wanted - 1.0) * weight
        curves[:, n] = np.linalg.lstsq(
            np.concatenate([rows.real, rows.imag]), np.concatenate([aim.real, aim.imag]), rcond=None
        )[0]
    return curves


@lru_cache(maxsize=256)
def _powers(shape: str, range_db: float, q: float) -> np.ndarray:
    """Each member's multiple as powers of the share of the range that is reached, (members, DEGREE)."""
    reached = np.linspace(0.0, 1.0, STEPS)[1:]
    rows = reached[:, None] ** np.arange(1, DEGREE + 1)
    curves = member_curves(shape, range_db, q)[:, 1:]
    return np.linalg.lstsq(rows, curves.T, rcond=None)[0].T.astype(np.float32)


def moving_filters(band: Moving, rate: int) -> list[np.ndarray]:
    """The fixed filters F of a band, the full range first, each as sections (sections, 6)."""
    q = still_q(band.shape, band.q)
    return [biquads(band.shape, band.hz, gain, q, rate) for gain in member_gains_db(band.range_db)]  # type: ignore[arg-type]


@kernel(error_model="numpy")
def _pair_of_levels(heard, rows, state, levels):
    """`_levels` of two channels, whose chains of sums do not wait for each other."""
    flat = levels.reshape(-1)
    b0, b1, b2 = load(rows[0], 0), load(rows[1], 0), load(rows[2], 0)
    a1, a2 = load(rows[3], 0), load(rows[4], 0)
    none, least = spread(0.0), spread(np.float64(QUIETEST))
    z1, z2 = load(state[0, 0], 0), load(state[0, 1], 0)
    w1, w2 = load(state[1, 0], 0), load(state[1, 1], 0)
    for i in range(heard.shape[0]):
        given, beside = np.float64(heard[i, 0]), np.float64(heard[i, 1])
        x = spread(given + BARELY if abs(given) < LOUDEST else BARELY)
        u = spread(beside + BARELY if abs(beside) < LOUDEST else BARELY)
        y, v = add(mul(b0, x), z1), add(mul(b0, u), w1)
        z1 = add(sub(mul(b1, x), mul(a1, y)), z2)
        w1 = add(sub(mul(b1, u), mul(a1, v)), w2)
        z2 = sub(mul(b2, x), mul(a2, y))
        w2 = sub(mul(b2, u), mul(a2, v))
        top = larger(larger(y, sub(none, y)), larger(v, sub(none, v)))
        store(flat, 8 * i, larger(top, least))
    store(state[0, 0], 0, z1)
    store(state[0, 1], 0, z2)
    store(state[1, 0], 0, w1)
    store(state[1, 1], 0, w2)


@kernel(error_model="numpy")
def _levels(heard, rows, state, levels):
    """The largest of all channels after each of eight filters; levels float32 (frames, 8)."""
    flat = levels.reshape(-1)
    b0, b1, b2 = load(rows[0], 0), load(rows[1], 0), load(rows[2], 0)
    a1, a2 = load(rows[3], 0), load(rows[4], 0)
    none, least = spread(0.0), spread(np.float64(QUIETEST))
    if heard.shape[1] == 2:
        _pair_of_levels(heard, rows, state, levels)
        return
    for c in range(heard.shape[1]):
        z1, z2 = load(state[c, 0], 0), load(state[c, 1], 0)
        for i in range(heard.shape[0]):
            given = np.float64(heard[i, c])
            x = spread(given + BARELY if abs(given) < LOUDEST else BARELY)
            y = add(mul(b0, x), z1)
            z1 = add(sub(mul(b1, x), mul(a1, y)), z2)
            z2 = sub(mul(b2, x), mul(a2, y))
            top = larger(larger(y, sub(none, y)), least)
            if c:
                top = larger(top, load(flat, 8 * i))
            store(flat, 8 * i, top)
        store(state[c, 0], 0, z1)
        store(state[c, 1], 0, z2)


@kernel(error_model="numpy")
def _shares(levels, levels_db, curve, times, state, shares):
    """How much of its range each of eight bands has reached, float32 (8, frames), from 0 to 1.

    curve (7, 8): threshold in dB, slope, knee / 2, 1 / (2 knee), 1 / range, 1 / full level, follows?;
    times (4, 8): poles of `ballistics.Times`, frames of hold; state (3, 8): both stages, hold left.
    """
    flat, flat_db, row = levels.reshape(-1), levels_db.reshape(-1), np.empty(WIDTH)
    threshold, slope, half = load(curve[0], 0), load(curve[1], 0), load(curve[2], 0)
    inverse, per_db = load(curve[3], 0), load(curve[4], 0)
    full, follows = load(curve[5], 0), load(curve[6], 0)
    rise, fall_first, fall_second = load(times[0], 0), load(times[1], 0), load(times[2], 0)
    hold = load(times[3], 0)
    first, second, left = load(state[0], 0), load(state[1], 0), load(state[2], 0)
    none, one, still = spread(0.0), spread(1.0), spread(1e-12)
    near, least = mul(spread(REACHED_DB), per_db), spread(2.0 * np.float64(QUIETEST))
    knee = add(half, half)
    for i in range(levels.shape[0]):
        over = sub(load(flat_db, 8 * i), threshold)
        bent = smaller(larger(add(over, half), none), knee)
        straight = larger(sub(over, half), none)
        bent = add(mul(mul(bent, bent), inverse), straight)
        beyond = mul(mul(slope, bent), per_db)
        level = load(flat, 8 * i)
        # A level that stands for silence is none.
        followed = where_at_least(level, least, mul(level, full), none)
        x = smaller(where_at_least(follows, one, followed, beyond), one)
        # As in ballistics.smooth_reduction, for eight bands.
        fallen = add(mul(fall_first, first), mul(sub(one, fall_first), x))
        stays = where_at_least(left, one, first, fallen)
        reached = where_at_least(x, sub(first, near), one, none)
        first = where_at_least(reached, one, x, stays)
        left = where_at_least(reached, one, hold, larger(sub(left, one), none))
        second = smaller(
            add(mul(rise, second), mul(sub(one, rise), first)),
            add(mul(fall_second, second), mul(sub(one, fall_second), first)),
        )
        second = where_at_least(second, still, second, none)
        store(row, 0, second)
        for k in range(WIDTH):
            shares[k, i] = row[k]
    store(state[0], 0, where_at_least(first, still, first, none))
    store(state[1], 0, second)
    store(state[2], 0, left)


@kernel(error_model="numpy", fastmath={"contract", "nsz"})
def _multiples(shares, p, out):
    """A member's multiple of each frame, for what is reached of the range; all float32."""
    p1, p2, p3, p4, p5, p6, p7 = p[0], p[1], p[2], p[3], p[4], p[5], p[6]
    for i in range(out.size):
        x = shares[i]
        out[i] = x * (p1 + x * (p2 + x * (p3 + x * (p4 + x * (p5 + x * (p6 + x * p7))))))


@kernel(error_model="numpy", fastmath={"contract", "nsz"})
def _add_changed(dry, wet, multiples, out):
    """out += multiple (wet - dry)."""
    for i in range(multiples.size):
        out[i] += multiples[i] * (wet[i] - dry[i])


@kernel(error_model="numpy", fastmath={"contract", "nsz"})
def _add_two(left, right, first, second, one, other, states):
    """Two members of one section each over two channels: four chains that do not wait for each
    other."""
    a1, a2, c1, c2 = one[4], one[5], other[4], other[5]
    # What each adds to the signal: its section less one.
    b0, b1, b2 = one[0] - 1.0, one[1] - a1, one[2] - a2
    d0, d1, d2 = other[0] - 1.0, other[1] - c1, other[2] - c2
    z1, z2, w1, w2 = states[0, 0, 0, 0], states[0, 0, 0, 1], states[0, 0, 1, 0], states[0, 0, 1, 1]
    p1, p2, q1, q2 = states[1, 0, 0, 0], states[1, 0, 0, 1], states[1, 0, 1, 0], states[1, 0, 1, 1]
    for i in range(first.size):
        x, u = left[i], right[i]
        y, v = b0 * x + z1, b0 * u + w1
        z1, w1 = b1 * x - a1 * y + z2, b1 * u - a1 * v + w2
        z2, w2 = b2 * x - a2 * y, b2 * u - a2 * v
        r, s = d0 * x + p1, d0 * u + q1
        p1, q1 = d1 * x - c1 * r + p2, d1 * u - c1 * s + q2
        p2, q2 = d2 * x - c2 * r, d2 * u - c2 * s
        left[i] = x + first[i] * y + second[i] * r
        right[i] = u + first[i] * v + second[i] * s
    states[0, 0, 0, 0], states[0, 0, 0, 1] = still(z1), still(z2)
    states[0, 0, 1, 0], states[0, 0, 1, 1] = still(w1), still(w2)
    states[1, 0, 0, 0], states[1, 0, 0, 1] = still(p1), still(p2)
    states[1, 0, 1, 0], states[1, 0, 1, 1] = still(q1), still(q2)


@kernel(error_model="numpy")
def _apply(sound, shares, powers, rows, sections, state):
    """One band over float64 (channels, frames), in place.

    shares (frames,); powers (members, DEGREE); rows (members, most sections, 6), `sections` of each;
    state (members, most sections, channels, 2).
    """
    channels, frames = sound.shape
    members = powers.shape[0]
    in_one = channels == 2 and members == 2 and rows.shape[1] == 1
    dry, wet = np.empty((channels, TILE)), np.empty((channels, TILE))
    multiples = np.empty((members, TILE), np.float32)
    for start in range(0, frames, TILE):
        size = min(TILE, frames - start)
        end = start + size
        for m in range(members):
            _multiples(shares[start:end], powers[m], multiples[m, :size])
        if in_one:
            _add_two(
                sound[0, start:end],
                sound[1, start:end],
                multiples[0, :size],
                multiples[1, :size],
                rows[0, 0],
                rows[1, 0],
                state,
            )
            continue
        for c in range(channels):
            dry[c, :size] = sound[c, start:end]
        for m in range(members):
            for c in range(channels):
                wet[c, :size] = dry[c, :size]
            for s in range(sections[m]):
                if channels == 2:
                    two_sections(wet[0], wet[1], size, rows[m, s], state[m, s, 0], state[m, s, 1])
                else:
                    for c in range(channels):
                        one_section(wet[c], size, rows[m, s], state[m, s, c])
            for c in range(channels):
                _add_changed(dry[c, :size], wet[c, :size], multiples[m, :size], sound[c, start:end])


def together_db(bands: Sequence[Moving], gains_db: np.ndarray) -> np.ndarray:
    """What bands at their gains make of the place where each acts most, in dB, (bands, frames).

    That is the centre of a bell and the far end of a shelf; magnitudes of the prototypes (cookbook).
    """
    ends = {"low shelf": 10.0, "high shelf": 24_000.0}
    places = np.array([ends.get(band.shape, band.hz) for band in bands])
    total = np.zeros_like(gains_db)
    for band, gain_db in zip(bands, gains_db, strict=True):
        q, a = still_q(band.shape, band.q), 10.0 ** (gain_db / 40.0)
        for n, hz in enumerate(places):
            way = (hz / band.hz) ** 2
            if band.shape == "bell":
                away = q * q * (way - 1.0) ** 2 / way
                power = (away + a * a) / (away + 1.0 / (a * a))
            else:
                way = way if band.shape == "low shelf" else 1.0 / way
                bend = a * way / (q * q)
                power = a * a * ((a - way) ** 2 + bend) / ((1.0 - a * way) ** 2 + bend)
            total[n] += 10.0 * np.log10(power)
    return total


class _Eight:
    """Up to eight bands at work, one after another; each hears the part as it came, or the key."""

    def __init__(self, bands: Sequence[Moving], rate: int, channels: int) -> None:
        self._rows = np.zeros((5, WIDTH))
        self._curve, self._times = np.zeros((7, WIDTH)), np.zeros((4, WIDTH))
        self._state, self._heard = np.zeros((3, WIDTH)), np.zeros((0, 2, WIDTH))
        self._filters = []
        for n, band in enumerate(bands):
            self._rows[:, n] = detector_biquads(band, rate)[0, [0, 1, 2, 4, 5]]
            size = max(abs(band.range_db), 1e-6)
            slope = 1.0 - 1.0 / band.ratio
            full = 10.0 ** (-band.threshold_db / 20.0)
            knee = (KNEE_DB / 2.0, 0.5 / KNEE_DB)
            follows = float(band.mode == "follow")
            self._curve[:, n] = band.threshold_db, slope, *knee, 1.0 / size, full, follows
            times = ballistics.Times.of(band.attack_ms, band.hold_ms, band.release_ms, rate)
            self._times[:, n] = times.rise, times.fall_first, times.fall_second, times.hold_frames
            self._filters.append(_filter(band, rate, channels))
        self._levels = np.empty((AT_ONCE, WIDTH), np.float32)
        self._levels_db = np.empty_like(self._levels)
        # Rows are a little longer than is used, so that they do not fall on the same lines of a cache.
        self._shares = np.empty((WIDTH, AT_ONCE + 16), np.float32)

    def process(self, sound: np.ndarray, heard: np.ndarray) -> np.ndarray:
        """Treat up to AT_ONCE frames, float64 (channels, frames), in place.

        The share of its range that each has reached, (8, frames), lasts until the next call.
        """
        if self._heard.shape[0] != heard.shape[1]:
            self._heard = np.zeros((heard.shape[1], 2, WIDTH))
        size = heard.shape[0]
        levels, levels_db = self._levels[:size], self._levels_db[:size]
        shares = self._shares[:, :size]
        _levels(heard, self._rows, self._heard, levels)
        amplitude_to_db(levels.reshape(-1), levels_db.reshape(-1))
        _shares(levels, levels_db, self._curve, self._times, self._state, shares)
        for reached, (powers, rows, sections, state) in zip(shares, self._filters, strict=False):
            _apply(sound, reached, powers, rows, sections, state)
        return shares[: len(self._filters)]


def _filter(band: Moving, rate: int, channels: int) -> tuple[np.ndarray, ...]:
    filters = moving_filters(band, rate)
    sections = np.array([sos.shape[0] for sos in filters])
    rows = np.zeros((len(filters), int(sections.max()), 6))
    for m, sos in enumerate(filters):
        rows[m, : sos.shape[0]] = sos
    state = np.zeros((*rows.shape[:2], channels, 2))
    powers = _powers(band.shape, band.range_db, still_q(band.shape, band.q))
    return powers, rows, sections, state


class MovingBands:
    """Any number of moving bands one after another; each hears the part as it came, or the key."""

    def __init__(self, bands: Sequence[Moving], rate: int, channels: int) -> None:
        self._bands = list(bands)
        self._ranges_db = np.array([band.range_db for band in bands], np.float32)
        self._groups = [
            _Eight(bands[n : n + WIDTH], rate, channels) for n in range(0, len(bands), WIDTH)
        ]

    def process(
        self,
        block: np.ndarray,
        heard: np.ndarray,
        trace: Callable[[np.ndarray, np.ndarray], None] | None = None,
    ) -> np.ndarray:
        """The treated block, float32 (frames, channels).

        `trace` gets the bands' own gains in dB, and what they do together where each acts most,
        both (bands, frames).
        """
        out = np.empty(block.shape, np.float32)
        heard = np.ascontiguousarray(heard, np.float32)
        for first in range(0, block.shape[0], AT_ONCE):
            part, key = block[first : first + AT_ONCE], heard[first : first + AT_ONCE]
            sound = np.ascontiguousarray(finite(part).T, np.float64)
            shares = [group.process(sound, key) for group in self._groups]
            out[first : first + AT_ONCE] = sound.T
            if trace is not None:
                rows = np.concatenate(shares) if shares else np.zeros((0, part.shape[0]), np.float32)
                gains_db = rows * self._ranges_db[:, np.newaxis]
                trace(gains_db, together_db(self._bands, gains_db))
        return out


def second_form_change_db(band: Moving, rate: int) -> float:
    """How far a band's full range is from that of documents of form 2, at most, in dB.

    There a bell was 1 + (g - 1) B with B a band-pass of the band's own Q, a shelf two of first order.
    """
    hz = np.geomspace(20.0, min(20_000.0, 0.45 * rate), 300)
    w = 2.0 * np.pi * hz / rate
    now = np.ones(hz.size, complex)
    for sos in moving_filters(band, rate)[:1]:
        now = response(sos, w)
    if band.shape == "bell":
        before = 1.0 + (10.0 ** (band.range_db / 20.0) - 1.0) * response(
            band_pass(band.hz, band.q, rate), w
        )
    else:
        kind = "lowpass" if band.shape == "low shelf" else "highpass"
        side = response(butter(1, min(band.hz, 0.45 * rate), kind, fs=rate, output="sos"), w)
        before = (1.0 + (10.0 ** (band.range_db / 40.0) - 1.0) * side) ** 2
    return float(np.abs(20.0 * np.log10(np.abs(now) / np.abs(before))).max())


def moving_settle_s(band: Moving, rate: int = 48000) -> tuple[float, float]:
    """Seconds for the detector and its ballistics, and for the band's own filters."""
    times = ballistics.settle_s(
        band.attack_ms, band.hold_ms, band.release_ms, max(abs(band.range_db), 6.0)
    )
    own = max(settle_s(sos, rate) for sos in moving_filters(band, rate))
    return settle_s(detector_biquads(band, rate), rate) + times, own
