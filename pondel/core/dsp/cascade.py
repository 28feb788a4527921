"""Second-order sections at work, quickly: a block in tiles that stay in the nearest cache."""

from __future__ import annotations

import numpy as np
from numba import njit

TILE = 512
LOUDEST = 1e6


@njit(nogil=True, cache=True, error_model="numpy", fastmath={"contract", "nsz"})
def _one(tile, size, sos, state):
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
    state[0] = z1 if abs(z1) > 1e-25 else 0.0
    state[1] = z2 if abs(z2) > 1e-25 else 0.0


@njit(nogil=True, cache=True, error_model="numpy", fastmath={"contract", "nsz"})
def _two(first, second, size, sos, one, other):
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
    one[0] = z1 if abs(z1) > 1e-25 else 0.0
    one[1] = z2 if abs(z2) > 1e-25 else 0.0
    other[0] = w1 if abs(w1) > 1e-25 else 0.0
    other[1] = w2 if abs(w2) > 1e-25 else 0.0


@njit(nogil=True, cache=True, error_model="numpy")
def _run(block, sos, state, out):
    frames, channels = block.shape
    tile = np.empty((channels, TILE))
    for start in range(0, frames, TILE):
        size = min(TILE, frames - start)
        for c in range(channels):
            for i in range(size):
                x = np.float64(block[start + i, c])
                tile[c, i] = x if abs(x) < LOUDEST else 0.0
        for s in range(sos.shape[0]):
            c = 0
            while c + 1 < channels:
                _two(tile[c], tile[c + 1], size, sos[s], state[s, c], state[s, c + 1])
                c += 2
            if c < channels:
                _one(tile[c], size, sos[s], state[s, c])
        for c in range(channels):
            for i in range(size):
                out[start + i, c] = tile[c, i]


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
