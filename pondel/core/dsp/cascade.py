"""Second-order sections at work, quickly: a block in tiles that stay in the nearest cache."""

from __future__ import annotations

import numpy as np

from pondel.core.dsp.compiled import kernel
from pondel.core.dsp.limits import LOUDEST

TILE = 1024


@kernel()
def still(z):
    """Nothing, before it becomes denormal."""
    return z if abs(z) > 1e-25 else 0.0


@kernel(error_model="numpy", fastmath={"contract", "nsz"})
def one_section(tile, size, sos, state):
    """One section over one channel of a tile, in place; transposed direct form II."""
    b0, b1, b2, a1, a2 = sos[0], sos[1], sos[2], sos[4], sos[5]
    z1, z2 = state[0], state[1]
    given = tile[:size]
    for i in range(size):
        x = given[i]
        y = b0 * x + z1
        z1 = b1 * x - a1 * y + z2
        z2 = b2 * x - a2 * y
        given[i] = y
    state[0], state[1] = still(z1), still(z2)


@kernel(error_model="numpy", fastmath={"contract", "nsz"})
def two_sections(first, second, size, sos, one, other):
    """One section over two channels at once, whose chains of sums do not wait for each other."""
    b0, b1, b2, a1, a2 = sos[0], sos[1], sos[2], sos[4], sos[5]
    z1, z2, w1, w2 = one[0], one[1], other[0], other[1]
    left, right = first[:size], second[:size]
    for i in range(size):
        x = left[i]
        u = right[i]
        y = b0 * x + z1
        v = b0 * u + w1
        z1 = b1 * x - a1 * y + z2
        w1 = b1 * u - a1 * v + w2
        z2 = b2 * x - a2 * y
        w2 = b2 * u - a2 * v
        left[i] = y
        right[i] = v
    one[0], one[1] = still(z1), still(z2)
    other[0], other[1] = still(w1), still(w2)


@kernel(error_model="numpy", fastmath={"contract", "nsz"})
def _two_by_two(first, second, size, sos, other_sos, states, other_states):
    """Two sections one after another over two channels: four chains side by side."""
    b0, b1, b2, a1, a2 = sos[0], sos[1], sos[2], sos[4], sos[5]
    d0, d1, d2, c1, c2 = other_sos[0], other_sos[1], other_sos[2], other_sos[4], other_sos[5]
    z1, z2, w1, w2 = states[0, 0], states[0, 1], states[1, 0], states[1, 1]
    p1, p2, q1, q2 = other_states[0, 0], other_states[0, 1], other_states[1, 0], other_states[1, 1]
    left, right = first[:size], second[:size]
    for i in range(size):
        x = left[i]
        u = right[i]
        y = b0 * x + z1
        v = b0 * u + w1
        z1 = b1 * x - a1 * y + z2
        w1 = b1 * u - a1 * v + w2
        z2 = b2 * x - a2 * y
        w2 = b2 * u - a2 * v
        r = d0 * y + p1
        s = d0 * v + q1
        p1 = d1 * y - c1 * r + p2
        q1 = d1 * v - c1 * s + q2
        p2 = d2 * y - c2 * r
        q2 = d2 * v - c2 * s
        left[i] = r
        right[i] = s
    states[0, 0], states[0, 1] = still(z1), still(z2)
    states[1, 0], states[1, 1] = still(w1), still(w2)
    other_states[0, 0], other_states[0, 1] = still(p1), still(p2)
    other_states[1, 0], other_states[1, 1] = still(q1), still(q2)


@kernel(error_model="numpy", fastmath={"contract", "nsz"})
def _open_pair(given, left, right):
    flat = given.ravel()
    for i in range(given.shape[0]):
        x, u = np.float64(flat[2 * i]), np.float64(flat[2 * i + 1])
        left[i] = x if abs(x) < LOUDEST else 0.0
        right[i] = u if abs(u) < LOUDEST else 0.0


@kernel(error_model="numpy")
def _close_pair(left, right, taken):
    for i in range(taken.shape[0]):
        taken[i, 0] = left[i]
        taken[i, 1] = right[i]


@kernel(error_model="numpy")
def _run(block, sos, state, out):
    frames, channels = block.shape
    tile = np.empty((channels, TILE))
    for start in range(0, frames, TILE):
        size = min(TILE, frames - start)
        given, taken = block[start : start + size], out[start : start + size]
        if channels == 2:
            _open_pair(given, tile[0], tile[1])
        else:
            for c in range(channels):
                for i in range(size):
                    x = np.float64(given[i, c])
                    tile[c, i] = x if abs(x) < LOUDEST else 0.0
        s = 0
        while channels == 2 and s + 1 < sos.shape[0]:
            _two_by_two(tile[0], tile[1], size, sos[s], sos[s + 1], state[s], state[s + 1])
            s += 2
        while s < sos.shape[0]:
            c = 0
            while c + 1 < channels:
                two_sections(tile[c], tile[c + 1], size, sos[s], state[s, c], state[s, c + 1])
                c += 2
            if c < channels:
                one_section(tile[c], size, sos[s], state[s, c])
            s += 1
        if channels == 2:
            _close_pair(tile[0], tile[1], taken)
            continue
        for c in range(channels):
            for i in range(size):
                taken[i, c] = tile[c, i]


class Cascade:
    """A cascade of sections, double inside, single outside; `sos` as scipy writes it."""

    def __init__(self, sos: np.ndarray, channels: int) -> None:
        self.sos = np.ascontiguousarray(sos, np.float64).reshape(-1, 6)
        self._state = np.zeros((self.sos.shape[0], channels, 2))

    def process(self, block: np.ndarray) -> np.ndarray:
        """Filter float32 (frames, channels); without sections the block itself."""
        if not self.sos.shape[0]:
            return block
        out = np.empty_like(block)
        _run(block, self.sos, self._state, out)
        return out


def settle_s(sos: np.ndarray, rate: int) -> float:
    """Seconds until sections have forgotten their past to below -100 dB."""
    slowest = 0.0
    for row in np.asarray(sos).reshape(-1, 6):
        radius = float(np.abs(np.roots(row[3:])).max()) if row[4] or row[5] else 0.0
        if radius > 0.0:
            slowest += np.log(1e5) / -np.log(min(radius, 1.0 - 1e-9)) / rate
    return slowest
