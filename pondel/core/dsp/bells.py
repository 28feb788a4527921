"""The row of bells at work: what its bands hear, what they are asked, and the sound through the bells.

    band_peaks(key, heard, 0, 16, state, power)      # what each band hears, step by step
    set_bells(asked, row.powers, row.evenly, row.near, row.spill, falls, less)
    through_bells(sound, bells, lines, 0, 16, state)

Arrays of steps lie band by band where a band is followed through time, and step by step where the
bands of one step are worked at together.
"""

from __future__ import annotations

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

BARELY = 1e-60
"""A state of a filter that is no larger is none."""
QUIETEST_POWER = 1e-24


@kernel(error_model="numpy")
def _next(x, a1, a2, z1, z2):
    """One step of a band-pass but for its b0: b1 = 0, b2 = -b0, a1 and a2 turned over."""
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

    key: finite float64 (an even number of channels, frames), `offset` frames into its first step; rows
    (3, bands): b0 and the turned feedback, a multiple of eight of them; state (channels, 4, bands);
    power (steps, bands). Channels go in pairs, whose chains of sums do not wait for each other.
    """
    channels, frames = key.shape
    bands = rows.shape[1]
    flat = power.reshape(-1)
    for g in range(0, bands, WIDTH):
        b0, a1, a2 = load(rows[0], g), load(rows[1], g), load(rows[2], g)
        scale = mul(mul(b0, b0), mul(b0, b0))
        for c in range(0, channels, 2):
            first, second = key[c], key[c + 1]
            p1, p2, q1, q2 = _four(state[c], g)
            r1, r2, s1, s2 = _four(state[c + 1], g)
            i = 0
            for n in range(power.shape[0]):
                end = min(frames, (n + 1) * step - offset)
                top = spread(0.0)
                for j in range(i, end):
                    y, p1, p2 = _next(spread(first[j]), a1, a2, p1, p2)
                    v, r1, r2 = _next(spread(second[j]), a1, a2, r1, r2)
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
    """Eight bells after one another over two channels, in place.

    While one works at a frame, the next one works at the frame before. Where they do not overlap, at
    both ends, each works by itself.
    """
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
def levels_of(power, out):
    """Powers as levels for `asked_for`, float32, none of them nothing."""
    given, level = power.reshape(-1), out.reshape(-1)
    for i in range(level.size):
        level[i] = max(given[i], QUIETEST_POWER)


@kernel(error_model="numpy")
def asked_for(level, settings, tilt_db, times, state, asked):
    """From the level of the key to the fall that each band is asked for, in dB, float32 (bands, steps).

    level: (steps, bands) of `levels_of`. settings: threshold in dB, share of each decibel over it
    that is answered, depth in dB; times: poles of rise and fall; state (bands,): fall asked for. The
    bands are a multiple of eight.
    """
    steps, bands = level.shape
    level_db, row = np.empty(steps * bands, np.float32), np.empty(WIDTH)
    amplitude_to_db(level.reshape(-1), level_db)
    half, none = spread(0.5), spread(0.0)
    threshold, answered, depth = spread(settings[0]), spread(settings[1]), spread(settings[2])
    rise, fall, still = spread(times[0]), spread(times[1]), spread(1e-9)
    for g in range(0, bands, WIDTH):
        tilt = sub(load(tilt_db, g), threshold)
        now = load(state, g)
        for s in range(steps):
            over = add(mul(half, load(level_db, s * bands + g)), tilt)
            wanted = smaller(larger(mul(over, answered), none), depth)
            pole = where_at_least(wanted, now, rise, fall)
            now = add(wanted, mul(pole, sub(now, wanted)))
            now = where_at_least(now, still, now, none)
            store(row, 0, now)
            for k in range(WIDTH):
                asked[g + k, s] = row[k]
        store(state, g, now)


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
    """The fall of each bell in dB, and its g - 1, for what is asked; all float32 (bands, steps).

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
