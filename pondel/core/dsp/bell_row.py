"""A row of narrow bells on the ear's scale, one after another, each with a gain of its own.

    row = bell_row(100.0, 8000.0, 0.5, 48000)    # half an ERB from bell to bell
    row.bells_for(12.0)                          # how far each bell falls where all are asked 12 dB

A bell is 1 + (g - 1) B with B a fixed band-pass: at rest the signal itself, stable at any speed of
change, and without latency. Neighbours overlap, so that decibels add up: each bell takes the share with
which an evenly asked row, from its first centre to its last, reaches what is asked (the interaction of
a cascade graphic equaliser, after Valimaki and Liski, IEEE Signal Processing Letters 24(2), 2017). What
the bells spill an octave beyond the limits is taken back by a few broad bells there.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from pondel.core.dsp.compiled import kernel
from pondel.core.dsp.decibels import amplitude_to_db, db_to_amplitude
from pondel.core.dsp.lanes import (
    WIDTH,
    add,
    larger,
    last,
    load,
    moved_up,
    mul,
    smaller,
    spread,
    store,
    sub,
    where_at_least,
)
from pondel.core.dsp.limits import LOUDEST
from pondel.core.dsp.matched import response
from pondel.core.dsp.scale import cam_of, erb_hz, hz_of

OVERLAP, HEARD_OVERLAP = 3.6, 2.0
"""Width of a bell's band-pass, and of what its detector hears, in steps from bell to bell."""
REACH = 8
"""Neighbours to each side that count where what is asked is uneven."""
HIGHEST_SHARE = 0.43
OUTER = ((1.6, 2.5), (3.0, 1.2))
"""Broad bells beyond a limit: how far, as a factor of frequency, and how sharp."""
OUTER_SHARE = 0.4
BARELY = 1e-60
"""A state of a filter that is no larger is none."""
SOLVED_DB = np.arange(0.0, 31.0, 3.0)
DEGREE = 6


def bell_band_pass(hz: float | np.ndarray, width_hz: float | np.ndarray, rate: int) -> np.ndarray:
    """Band-passes of gain 1 at `hz`, -3.01 dB at edges `width_hz` apart, as sections (bands, 6).

    Regalia and Mitra, IEEE Transactions on Acoustics, Speech and Signal Processing 35(1), 1987.
    """
    hz, width_hz = np.atleast_1d(hz), np.atleast_1d(width_hz)
    c = np.tan(np.pi * np.minimum(width_hz, 0.45 * rate) / rate)
    rows = np.zeros((hz.size, 6))
    rows[:, 0] = c / (1.0 + c)
    rows[:, 2] = -rows[:, 0]
    rows[:, 3] = 1.0
    rows[:, 4] = -2.0 * np.cos(2.0 * np.pi * hz / rate) / (1.0 + c)
    rows[:, 5] = (1.0 - c) / (1.0 + c)
    return rows


@dataclass(frozen=True)
class BellRow:
    """The row's design.

    `sections` are the band-passes of the bells within the limits, lowest first, then those of the
    outer ones, (bells, 6); `heard` those of the inner ones' detectors, (inner, 6). `powers` are
    coefficients of rising powers of what is asked, in dB, that give each bell's fall where all are
    asked the same, (degree, inner); `near` says how much of a neighbour's fall reaches a centre, (2
    REACH + 1, inner), and `evenly` how much reaches it where all are asked the same, (degree,
    inner). `spill` turns 1 - g^2 of the inner bells into dB of the outer ones, (outer, inner).
    """

    centres_hz: np.ndarray
    sections: np.ndarray
    heard: np.ndarray
    powers: np.ndarray
    near: np.ndarray
    evenly: np.ndarray
    spill: np.ndarray

    @property
    def inner(self) -> int:
        """Bells within the limits."""
        return self.centres_hz.size

    def away(self, hz: np.ndarray, rate: int) -> np.ndarray:
        """How far frequencies lie from each bell: nu^2, |B|^2 = 1 / (1 + nu^2), (frequencies,
        bells)."""
        return _away(self.sections, hz, rate)

    def bells_for(self, asked_db: float) -> np.ndarray:
        """Fall in dB of all bells where every band is asked the same, (bells,)."""
        falls = np.zeros(self.inner)
        for coefficients in self.powers[::-1]:
            falls = (falls + coefficients) * asked_db
        return np.concatenate([falls, -self.spill @ (1.0 - 10.0 ** (-falls / 10.0))])


def _away(sections: np.ndarray, hz: np.ndarray, rate: int) -> np.ndarray:
    """How far frequencies lie from each bell: nu^2 of |B|^2 = 1 / (1 + nu^2), (frequencies, bells)."""
    w = 2.0 * np.pi * hz / rate
    passed = np.stack([np.abs(response(row[None], w)) ** 2 for row in sections], axis=1)
    return 1.0 / np.maximum(passed, 1e-12) - 1.0


def falls_db(away: np.ndarray, bells_db: np.ndarray) -> np.ndarray:
    """What bells that fall by so many dB make of each frequency, in dB, (frequencies, bells)."""
    return -10.0 * np.log10((10.0 ** (-bells_db / 10.0) + away) / (1.0 + away))


@lru_cache(maxsize=64)
def bell_row(low_hz: float, high_hz: float, step_erb: float, rate: int) -> BellRow:
    """Bells from one limit to the other, `step_erb` apart; a limit above 0.43 of the rate is held
    there."""
    high_hz = min(high_hz, HIGHEST_SHARE * rate)
    low_hz = min(low_hz, high_hz / 1.05)
    first, final = float(cam_of(low_hz)), float(cam_of(high_hz))
    count = max(2, round((final - first) / step_erb) + 1)
    cams = np.linspace(first, final, count)
    centres = hz_of(cams)
    inner, heard = (
        bell_band_pass(centres, erb_hz(centres) * step_erb * width, rate)
        for width in (OVERLAP, HEARD_OVERLAP)
    )
    beyond = [(low_hz / far, q) for far, q in OUTER] + [(high_hz * far, q) for far, q in OUTER]
    beyond = [(hz, q) for hz, q in beyond if hz < OUTER_SHARE * rate]
    outer_hz = np.array([hz for hz, _ in beyond])
    outer = bell_band_pass(outer_hz, outer_hz / np.array([q for _, q in beyond]), rate)
    seen = 1.0 / (1.0 + _away(outer, outer_hz, rate))
    spilled = 4.343 / (1.0 + _away(inner, outer_hz, rate))
    spill = np.linalg.solve(seen, spilled)
    sections = np.concatenate([inner, outer])
    at = [_away(sections, centres, rate)]
    if count > 2:
        between = hz_of(cams[:-1] + np.diff(cams) / 2.0)
        above = _away(sections, between, rate)
        at = [at[0], np.concatenate([above, above[-1:]]), np.concatenate([above[:1], above])]
    powers = _solved(at, spill, count)
    shared = 1.0 / (1.0 + at[0][:, :count])
    near = np.zeros((2 * REACH + 1, count))
    within = range(-min(REACH, count - 1), min(REACH, count - 1) + 1)
    for n in within:
        row = np.diagonal(shared, n)
        near[n + REACH, max(0, -n) : max(0, -n) + row.size] = row
    evenly = np.zeros_like(powers)
    for n in within:
        evenly += near[n + REACH] * _moved(powers, n)
    small = (one.astype(np.float32) for one in (powers, near, evenly, spill))
    return BellRow(centres, sections, heard, *small)


def _moved(rows: np.ndarray, n: int) -> np.ndarray:
    """The n-th neighbour of each column, nothing where there is none."""
    out = np.zeros_like(rows)
    if n >= 0:
        out[:, : rows.shape[1] - n] = rows[:, n:]
    else:
        out[:, -n:] = rows[:, :n]
    return out


def _solved(at: list[np.ndarray], spill: np.ndarray, count: int) -> np.ndarray:
    """Powers with which an evenly asked row does what is asked, at the centres and between them."""
    weights = [0.5, 0.25, 0.25] if len(at) == 3 else [1.0]
    falls = np.zeros(count)
    rows = []
    for asked in SOLVED_DB:
        for _ in range(8):
            outer = -spill @ (1.0 - 10.0 ** (-falls / 10.0))
            bells = np.concatenate([falls, outer])
            done = sum(w * falls_db(a, bells).sum(axis=1) for w, a in zip(weights, at, strict=True))
            power = 10.0 ** (-falls / 10.0)
            slope = sum(w * power / (power + a[:, :count]) for w, a in zip(weights, at, strict=True))
            step = np.linalg.solve(slope, asked - done)
            falls = falls + np.clip(step, -4.0, 4.0)
            if np.abs(step).max() < 1e-3:
                break
        rows.append(falls)
    powers = SOLVED_DB[1:, None] ** np.arange(1, DEGREE + 1)
    scale = np.abs(powers).max(axis=0)
    return np.linalg.lstsq(powers / scale, np.array(rows[1:]), rcond=None)[0] / scale[:, None]


@kernel(error_model="numpy")
def _next(x, a1, a2, z1, z2):
    """One step of a band-pass, but for its b0: b1 = 0, b2 = -b0, a1 and a2 turned over. Output and
    states."""
    y = add(x, z1)
    return y, add(z2, mul(a1, y)), sub(mul(a2, y), x)


@kernel(error_model="numpy")
def _awake(z):
    """A state, or nothing where it is next to nothing, so that silence is not denormal."""
    none = spread(0.0)
    return where_at_least(larger(z, sub(none, z)), spread(BARELY), z, none)


@kernel(error_model="numpy")
def band_peaks(key, rows, offset, step, state, power):
    """Largest squared output of each band in each step of the song; a band is its section twice over.

    key: float32 (frames, channels), `offset` frames into its first step; rows (3, bands): b0 and
    the turned feedback, a multiple of eight of them; state (channels or one more, 4, bands); power
    (steps, bands). Channels go in pairs, whose chains of sums do not wait for each other; one
    without a partner is heard twice.
    """
    frames, channels = key.shape
    bands = rows.shape[1]
    flat = power.reshape(-1)
    for g in range(0, bands, WIDTH):
        b0, a1, a2 = load(rows[0], g), load(rows[1], g), load(rows[2], g)
        scale = mul(mul(b0, b0), mul(b0, b0))
        for c in range(0, channels, 2):
            other = min(c + 1, channels - 1)
            p1, p2, q1, q2 = _four(state[c], g)
            r1, r2, s1, s2 = _four(state[c + 1], g)
            i = 0
            for n in range(power.shape[0]):
                end = min(frames, (n + 1) * step - offset)
                top = spread(0.0)
                for j in range(i, end):
                    given, beside = np.float64(key[j, c]), np.float64(key[j, other])
                    x = spread(given if abs(given) < LOUDEST else 0.0)
                    u = spread(beside if abs(beside) < LOUDEST else 0.0)
                    y, p1, p2 = _next(x, a1, a2, p1, p2)
                    v, r1, r2 = _next(u, a1, a2, r1, r2)
                    y, q1, q2 = _next(y, a1, a2, q1, q2)
                    v, s1, s2 = _next(v, a1, a2, s1, s2)
                    top = larger(larger(mul(y, y), mul(v, v)), top)
                i = end
                p1, p2, q1, q2 = _awake(p1), _awake(p2), _awake(q1), _awake(q2)
                r1, r2, s1, s2 = _awake(r1), _awake(r2), _awake(s1), _awake(s2)
                top = mul(top, scale)
                if c:
                    top = larger(top, load(flat, n * bands + g))
                store(flat, n * bands + g, top)
            _keep_four(state[c], g, p1, p2, q1, q2)
            _keep_four(state[c + 1], g, r1, r2, s1, s2)


@kernel(error_model="numpy")
def _four(state, g):
    return load(state[0], g), load(state[1], g), load(state[2], g), load(state[3], g)


@kernel(error_model="numpy")
def _keep_four(state, g, first, second, third, fourth):
    store(state[0], g, first)
    store(state[1], g, second)
    store(state[2], g, third)
    store(state[3], g, fourth)


@kernel(error_model="numpy")
def _one_bell(sound, first, end, rows, k, bounds, late, step, state):
    """One bell over some frames of one channel, in place."""
    a1, a2 = rows[1, k], rows[2, k]
    z1, z2 = state[0, k], state[1, k]
    for i in range(first, end):
        s = (i + late) // step
        start = bounds[s, k]
        gain = start + (bounds[s + 1, k] - start) * np.float64(i + late - s * step + 1) / step
        x = sound[i]
        y = x + z1
        z1 = z2 + a1 * y
        z2 = a2 * y - x
        sound[i] = x + gain * y
    state[0, k] = z1 if abs(z1) > BARELY else 0.0
    state[1, k] = z2 if abs(z2) > BARELY else 0.0


@kernel(error_model="numpy")
def _through_eight(first, second, rows, g, bounds, offset, step, state, other):
    """Eight bells after one another over two channels, in place: while one works at a frame, the next
    one works at the frame before. Where they do not overlap, at both ends, each works by itself."""
    frames, bands = first.size, rows.shape[1]
    # Row 0 of the bounds is a step in the past, and gains come so late that no bell is ahead of them.
    late = offset + step - (WIDTH - 1)
    most = min(frames, WIDTH - 1)
    for k in range(WIDTH):
        alone = frames if frames < WIDTH else most - k
        _one_bell(first, 0, alone, rows, g + k, bounds, late + k, step, state)
        _one_bell(second, 0, alone, rows, g + k, bounds, late + k, step, other)
    if frames < WIDTH:
        return
    flat = bounds.reshape(-1)
    a1, a2 = load(rows[1], g), load(rows[2], g)
    p1, p2, q1, q2 = load(state[0], g), load(state[1], g), load(other[0], g), load(other[1], g)
    done, beside, one = spread(0.0), spread(0.0), spread(1.0 / step)
    for i in range(most):
        done, beside = moved_up(done, first[i]), moved_up(beside, second[i])
    i = most
    while i < frames:
        s = (i + late) // step
        end = min(frames, (s + 1) * step - late)
        start = load(flat, s * bands + g)
        slope = mul(sub(load(flat, (s + 1) * bands + g), start), one)
        gain = add(start, mul(slope, spread(np.float64(i + late - s * step))))
        for j in range(i, end):
            gain = add(gain, slope)
            x, u = moved_up(done, first[j]), moved_up(beside, second[j])
            y, p1, p2 = _next(x, a1, a2, p1, p2)
            v, q1, q2 = _next(u, a1, a2, q1, q2)
            done, beside = add(x, mul(gain, y)), add(u, mul(gain, v))
            first[j - most], second[j - most] = last(done), last(beside)
        i = end
        p1, p2, q1, q2 = _awake(p1), _awake(p2), _awake(q1), _awake(q2)
    store(state[0], g, p1)
    store(state[1], g, p2)
    store(other[0], g, q1)
    store(other[1], g, q2)
    left, right = np.empty(WIDTH), np.empty(WIDTH)
    store(left, 0, done)
    store(right, 0, beside)
    for k in range(most):
        first[frames - 1 - k], second[frames - 1 - k] = left[k], right[k]
    for k in range(1, WIDTH):
        _one_bell(first, frames - k, frames, rows, g + k, bounds, late + k, step, state)
        _one_bell(second, frames - k, frames, rows, g + k, bounds, late + k, step, other)


@kernel(error_model="numpy")
def through_bells(sound, rows, bounds, offset, step, state):
    """All bells over float64 (an even number of channels, frames), in place.

    `bounds` are b0 (g - 1) of each bell at the borders of steps, (steps + 2, bells), in a line
    between; rows 1 and 2 are those of the step into which the song is `offset` frames. Gains come 7
    frames late at most. rows (3, bells), state (channels, 2, bells); the bells are a multiple of
    eight.
    """
    for c in range(0, sound.shape[0], 2):
        for g in range(0, rows.shape[1], WIDTH):
            _through_eight(
                sound[c], sound[c + 1], rows, g, bounds, offset, step, state[c], state[c + 1]
            )


@kernel(error_model="numpy")
def asked_for(power, settings, tilt_db, times, hold_steps, state, asked):
    """From the power of the key to the fall that each band is asked for, in dB, float32 (bands, steps).

    settings: threshold in dB, share of each decibel over it that is answered, depth in dB; times:
    poles of rise and fall; state (2, bands): fall asked for, steps of hold left. The bands are a
    multiple of eight.
    """
    steps, bands = power.shape
    level, flat = np.empty(steps * bands, np.float32), power.reshape(-1)
    for i in range(level.size):
        level[i] = max(flat[i], 1e-24)
    level_db, row = np.empty_like(level), np.empty(WIDTH)
    amplitude_to_db(level, level_db)
    half, none, near, one = spread(0.5), spread(0.0), spread(1e-4), spread(1.0)
    threshold, answered, depth = spread(settings[0]), spread(settings[1]), spread(settings[2])
    rise, fall, hold = spread(times[0]), spread(times[1]), spread(np.float64(hold_steps))
    still = spread(1e-9)
    for g in range(0, bands, WIDTH):
        tilt = sub(load(tilt_db, g), threshold)
        now, left = load(state[0], g), load(state[1], g)
        for s in range(steps):
            over = add(mul(half, load(level_db, s * bands + g)), tilt)
            wanted = smaller(larger(mul(over, answered), none), depth)
            reached = where_at_least(wanted, sub(now, near), one, none)
            pole = where_at_least(reached, one, rise, fall)
            moved = add(wanted, mul(pole, sub(now, wanted)))
            stays = where_at_least(left, one, now, moved)
            now = where_at_least(reached, one, moved, stays)
            now = where_at_least(now, still, now, none)
            left = where_at_least(reached, one, hold, larger(sub(left, one), none))
            store(row, 0, now)
            for k in range(WIDTH):
                asked[g + k, s] = row[k]
        store(state[0], g, now)
        store(state[1], g, left)


@kernel(error_model="numpy", fastmath={"contract", "nsz"})
def _raised(powers, k, asked, out):
    """A polynomial without a constant, of the degrees in (degree, bands), over some steps."""
    out[:] = 0.0
    for n in range(powers.shape[0] - 1, -1, -1):
        power = powers[n, k]
        for s in range(out.size):
            out[s] = (out[s] + power) * asked[s]
    # Next to nothing, what a fit leaves may lie below it.
    for s in range(out.size):
        out[s] = max(out[s], np.float32(0.0))


@kernel(error_model="numpy", fastmath={"contract", "nsz"})
def _add_scaled(out, scale, row):
    for s in range(out.size):
        out[s] += scale * row[s]


@kernel(error_model="numpy", fastmath={"contract", "nsz"})
def _least(even, whole, given, wanted, out):
    for s in range(out.size):
        out[s] = min(even[s] * whole[s] / given[s], wanted[s])


@kernel(error_model="numpy", fastmath={"contract", "nsz"})
def _gain_less_one(falls, turned, less):
    """g - 1 for falls in dB, exactly nothing for no fall."""
    for i in range(falls.size):
        turned[i] = -falls[i]
    db_to_amplitude(turned, less)
    for i in range(falls.size):
        less[i] = less[i] - np.float32(1.0) if falls[i] != 0.0 else np.float32(0.0)


@kernel(error_model="numpy", fastmath={"contract", "nsz"})
def _add_spilled(risen, scale, less):
    """risen -= scale (1 - g^2)."""
    for s in range(risen.size):
        gain = less[s] + np.float32(1.0)
        risen[s] -= scale * (np.float32(1.0) - gain * gain)


@kernel(error_model="numpy")
def set_bells(asked, powers, evenly, near, spill, falls, less):
    """The fall of each bell in dB, and its g - 1, for what each band is asked; all float32 (bands,
    steps).

    Where a band is asked more than its neighbours, its bell does more of it by itself.
    """
    inner, steps, reach = powers.shape[1], asked.shape[1], near.shape[0] // 2
    even = np.empty((inner, steps), np.float32)
    whole, given = np.empty(steps, np.float32), np.empty(steps, np.float32)
    turned = np.empty(steps, np.float32)
    for k in range(inner):
        _raised(powers, k, asked[k], even[k])
    for k in range(inner):
        _raised(evenly, k, asked[k], whole)
        given[:] = 1e-9
        for n in range(max(-reach, -k), min(reach, inner - 1 - k) + 1):
            _add_scaled(given, near[n + reach, k], even[k + n])
        _least(even[k], whole, given, asked[k], falls[k])
        _gain_less_one(falls[k], turned, less[k])
    for m in range(spill.shape[0]):
        falls[inner + m] = 0.0
        for k in range(inner):
            _add_spilled(falls[inner + m], spill[m, k], less[k])
        _gain_less_one(falls[inner + m], turned, less[inner + m])


@kernel(error_model="numpy")
def turned_over(rows, scale, out):
    """out[s, k] = scale[k] rows[k, s], in small squares that stay in the nearest cache."""
    for k in range(0, rows.shape[0], 16):
        for s in range(0, rows.shape[1], 16):
            for n in range(k, min(k + 16, rows.shape[0])):
                for i in range(s, min(s + 16, rows.shape[1])):
                    out[i, n] = scale[n] * rows[n, i]


@kernel(error_model="numpy", fastmath={"contract", "nsz"})
def applied_db(bells_db, away, mix, out):
    """What all bells together make of each inner centre, in dB of fall.

    bells_db (bells, steps), away (inner, bells), out (inner, steps).
    """
    power = np.empty(away.shape[1])
    for s in range(bells_db.shape[1]):
        for k in range(power.size):
            power[k] = 10.0 ** (-0.1 * bells_db[k, s])
        for j in range(away.shape[0]):
            left = 1.0
            for k in range(power.size):
                left *= (power[k] + away[j, k]) / (1.0 + away[j, k])
            out[j, s] = -20.0 * np.log10(1.0 - mix + mix * np.sqrt(left))
