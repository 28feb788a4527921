"""Moving bells over two channels: one by itself, and up to eight of them at once.

A bell is two members of one section each, both added to the sound as far as its share of its range says
(`moving.member_powers`). Eight bells act one after another: while one works at a frame, the next one
works at the frame before.
"""

from __future__ import annotations

import numpy as np

from pondel.core.dsp.cascade import still
from pondel.core.dsp.compiled import kernel
from pondel.core.dsp.lanes import WIDTH, add, last, load, moved_up, mul, spread, store, sub


@kernel(error_model="numpy", fastmath={"contract", "nsz"})
def multiples_of(shares, p, out):
    """A member's multiple of each frame, for what is reached of the range; all float32."""
    p1, p2, p3, p4, p5, p6, p7 = p[0], p[1], p[2], p[3], p[4], p[5], p[6]
    for i in range(out.size):
        x = shares[i]
        out[i] = x * (p1 + x * (p2 + x * (p3 + x * (p4 + x * (p5 + x * (p6 + x * p7))))))


@kernel(error_model="numpy", fastmath={"contract", "nsz"})
def _add_two(left, right, first, second, one, other, states):
    """Two members of one section each over two channels: four chains of sums side by side."""
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
def _polynomial(x, p):
    """`multiples_of` eight bands at once; p (DEGREE, 8)."""
    high = add(mul(x, add(mul(x, load(p[6], 0)), load(p[5], 0))), load(p[4], 0))
    high = add(mul(x, add(mul(x, high), load(p[3], 0))), load(p[2], 0))
    return mul(x, add(mul(x, add(mul(x, high), load(p[1], 0))), load(p[0], 0)))


@kernel(error_model="numpy")
def _section(x, c, z1, z2):
    """One frame of a section less one in every lane: what it adds, and its states.

    c (5, 8): b0 - 1, b1 - a1, b2 - a2, a1, a2.
    """
    y = add(mul(load(c[0], 0), x), z1)
    z1 = add(sub(mul(load(c[1], 0), x), mul(load(c[3], 0), y)), z2)
    return y, z1, sub(mul(load(c[2], 0), x), mul(load(c[4], 0), y))


@kernel(error_model="numpy")
def by_itself(sound, first, end, shares, powers, rows, states):
    """One bell over some frames of two channels, in place."""
    if end <= first:
        return
    multiples = np.empty((2, end - first), np.float32)
    for m in range(2):
        multiples_of(shares[first:end], powers[m], multiples[m])
    left, right = sound[0, first:end], sound[1, first:end]
    _add_two(left, right, multiples[0], multiples[1], rows[0, 0], rows[1, 0], states)


@kernel(error_model="numpy")
def _by_lane(rows, powers, states):
    """What `_section` and `_polynomial` take of both members; their states (members, channels, 2, 8).

    A lane without a bell passes on what it gets.
    """
    c, p = np.zeros((2, 5, WIDTH)), np.zeros((2, powers.shape[2], WIDTH))
    z = np.zeros((2, 2, 2, WIDTH))
    for k in range(rows.shape[0]):
        for m in range(2):
            b, a1, a2 = rows[k, m, 0], rows[k, m, 0, 4], rows[k, m, 0, 5]
            c[m, 0, k], c[m, 1, k], c[m, 2, k] = b[0] - 1.0, b[1] - a1, b[2] - a2
            c[m, 3, k], c[m, 4, k] = a1, a2
            p[m, :, k] = powers[k, m]
            z[m, :, :, k] = states[k, m, 0]
    return c, p, z


@kernel(error_model="numpy")
def bells_in_turn(sound, askew, shares, powers, rows, states):
    """Up to eight bells after one another over float64 (2, frames), in place.

    While one works at a frame, the next one works at the frame before. Where they do not overlap, at
    both ends, each works by itself. askew: float32 (frames and 7 more, 8), the shares as the lanes need
    them; shares: the same by band; powers (bands, 2, DEGREE); rows (bands, 2, 1, 6); states (bands, 2,
    1, 2, 2).
    """
    count, size, ahead = rows.shape[0], sound.shape[1], WIDTH - 1
    if size < WIDTH:
        for k in range(count):
            by_itself(sound, 0, size, shares[k], powers[k], rows[k], states[k])
        return
    for k in range(count):
        by_itself(sound, 0, ahead - k, shares[k], powers[k], rows[k], states[k])
    left, right, flat = sound[0], sound[1], askew.reshape(-1)
    c, p, z = _by_lane(rows, powers, states)
    y1, y2, z1, z2 = load(z[0, 0, 0], 0), load(z[0, 0, 1], 0), load(z[0, 1, 0], 0), load(z[0, 1, 1], 0)
    u1, u2, v1, v2 = load(z[1, 0, 0], 0), load(z[1, 0, 1], 0), load(z[1, 1, 0], 0), load(z[1, 1, 1], 0)
    done, beside = spread(0.0), spread(0.0)
    for i in range(ahead):
        done, beside = moved_up(done, left[i]), moved_up(beside, right[i])
    for i in range(ahead, size):
        reached = load(flat, WIDTH * i)
        by, along = _polynomial(reached, p[0]), _polynomial(reached, p[1])
        x, w = moved_up(done, left[i]), moved_up(beside, right[i])
        one, y1, y2 = _section(x, c[0], y1, y2)
        other, u1, u2 = _section(x, c[1], u1, u2)
        done = add(add(x, mul(by, one)), mul(along, other))
        one, z1, z2 = _section(w, c[0], z1, z2)
        other, v1, v2 = _section(w, c[1], v1, v2)
        beside = add(add(w, mul(by, one)), mul(along, other))
        left[i - ahead], right[i - ahead] = last(done), last(beside)
    store(z[0, 0, 0], 0, y1)
    store(z[0, 0, 1], 0, y2)
    store(z[0, 1, 0], 0, z1)
    store(z[0, 1, 1], 0, z2)
    store(z[1, 0, 0], 0, u1)
    store(z[1, 0, 1], 0, u2)
    store(z[1, 1, 0], 0, v1)
    store(z[1, 1, 1], 0, v2)
    for k, m, channel, s in np.ndindex(count, 2, 2, 2):
        states[k, m, 0, channel, s] = still(z[m, channel, s, k])
    ends = np.empty((2, WIDTH))
    store(ends[0], 0, done)
    store(ends[1], 0, beside)
    for k in range(ahead):
        left[size - 1 - k], right[size - 1 - k] = ends[0, k], ends[1, k]
    for k in range(1, count):
        by_itself(sound, size - k, size, shares[k], powers[k], rows[k], states[k])
