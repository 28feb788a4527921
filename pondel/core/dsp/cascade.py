"""Second-order sections at work, quickly: a block in tiles that stay in the nearest cache."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from pondel.core.dsp.compiled import kernel
from pondel.core.dsp.lanes import (
    WIDTH,
    add,
    even,
    fourth,
    last,
    load,
    moved_up,
    mul,
    second,
    sixth,
    spread,
    store,
)
from pondel.core.dsp.limits import LOUDEST

TILE = 1024
FEW = 3
"""Fewer sections than this are done one by one."""
TAPS = 3
"""Where eight sections can be listened to on their way: after every second one but the last."""


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


@kernel(error_model="numpy")
def _pair(left, right, first, end, sos, state):
    """A section each, over some frames of two channels, in place; `sos` and `state` by channel."""
    one_section(left[first:end], end - first, sos[0], state[0])
    one_section(right[first:end], end - first, sos[1], state[1])


@kernel(error_model="numpy")
def _answers(sos, rows):
    """What eight frames answer to a pulse in each, and to both states before them, (10, WIDTH)."""
    b0, b1, b2, a1, a2 = sos[0], sos[1], sos[2], sos[4], sos[5]
    one, other = 1.0, 0.0
    for k in range(WIDTH):
        rows[8, k], rows[9, k] = one, other
        one, other = -a1 * one - a2 * other, one
    for k in range(WIDTH):
        answer = b0 * rows[8, k] + b1 * rows[9, k]
        answer += b2 * rows[9, k - 1] if k else 0.0
        for j in range(WIDTH - k):
            rows[j, j + k] = answer


@kernel(error_model="numpy")
def _eight_frames(tile, i, c0, c1, c2, c3, c4, c5, c6, c7, c8, c9, z1, z2):
    """What comes out of a section in eight frames from frame i on."""
    one = add(mul(c0, spread(tile[i])), mul(c1, spread(tile[i + 1])))
    other = add(mul(c2, spread(tile[i + 2])), mul(c3, spread(tile[i + 3])))
    one, other = add(one, mul(c4, spread(tile[i + 4]))), add(other, mul(c5, spread(tile[i + 5])))
    one, other = add(one, mul(c6, spread(tile[i + 6]))), add(other, mul(c7, spread(tile[i + 7])))
    return add(add(add(one, other), mul(c9, spread(z2))), mul(c8, spread(z1)))


@kernel(error_model="numpy")
def _ten(rows):
    flat = rows.reshape(-1)
    return (
        load(flat, 0),
        load(flat, WIDTH),
        load(flat, 2 * WIDTH),
        load(flat, 3 * WIDTH),
        load(flat, 4 * WIDTH),
        load(flat, 5 * WIDTH),
        load(flat, 6 * WIDTH),
        load(flat, 7 * WIDTH),
        load(flat, 8 * WIDTH),
        load(flat, 9 * WIDTH),
    )


@kernel(error_model="numpy", fastmath={"contract", "nsz"})
def _by_blocks(left, right, size, sos, state):
    """A section each over two channels, in place; sos (channels, 6), state (channels, 2).

    Eight frames at a time, as the sum of what each of them and what was before answer, so that the
    section does not wait for itself.
    """
    rows = np.zeros((2, 10, WIDTH))
    _answers(sos[0], rows[0])
    _answers(sos[1], rows[1])
    c0, c1, c2, c3, c4, c5, c6, c7, c8, c9 = _ten(rows[0])
    d0, d1, d2, d3, d4, d5, d6, d7, d8, d9 = _ten(rows[1])
    b1, b2, a1, a2 = sos[0, 1], sos[0, 2], sos[0, 4], sos[0, 5]
    e1, e2, f1, f2 = sos[1, 1], sos[1, 2], sos[1, 4], sos[1, 5]
    z1, z2, w1, w2 = state[0, 0], state[0, 1], state[1, 0], state[1, 1]
    whole = size - size % WIDTH
    for i in range(0, whole, WIDTH):
        j, k = i + WIDTH - 2, i + WIDTH - 1
        x, x1, u, u1 = left[j], left[k], right[j], right[k]
        store(left, i, _eight_frames(left, i, c0, c1, c2, c3, c4, c5, c6, c7, c8, c9, z1, z2))
        store(right, i, _eight_frames(right, i, d0, d1, d2, d3, d4, d5, d6, d7, d8, d9, w1, w2))
        z1 = b1 * x1 - a1 * left[k] + (b2 * x - a2 * left[j])
        z2 = b2 * x1 - a2 * left[k]
        w1 = e1 * u1 - f1 * right[k] + (e2 * u - f2 * right[j])
        w2 = e2 * u1 - f2 * right[k]
    state[0, 0], state[0, 1], state[1, 0], state[1, 1] = z1, z2, w1, w2
    _pair(left, right, whole, size, sos, state)


@kernel(error_model="numpy")
def _step(x, b0, b1, b2, a1, a2, z1, z2):
    """One frame of a section in every lane, a1 and a2 turned over: what comes out, and its states."""
    y = add(mul(b0, x), z1)
    return y, add(mul(a1, y), add(mul(b1, x), z2)), add(mul(a2, y), mul(b2, x))


@kernel(error_model="numpy")
def _in_lanes(sos, c, rows):
    """What the sections of one channel are made of, a1 and a2 turned over, by lane.

    A lane without a section passes on what it gets.
    """
    rows[:] = 0.0
    rows[0] = 1.0
    for k in range(sos.shape[0]):
        rows[0, k], rows[1, k], rows[2, k] = sos[k, c, 0], sos[k, c, 1], sos[k, c, 2]
        rows[3, k], rows[4, k] = -sos[k, c, 4], -sos[k, c, 5]
    return load(rows[0], 0), load(rows[1], 0), load(rows[2], 0), load(rows[3], 0), load(rows[4], 0)


@kernel(error_model="numpy")
def _listen(taps, k, left, right, first, end):
    """Keep what comes out of section k in some frames, where it is listened to."""
    if k % 2 == 0 or k // 2 >= taps.shape[0]:
        return
    tap = taps[k // 2]
    for i in range(first, end):
        tap[0, i], tap[1, i] = left[i], right[i]


@kernel(error_model="numpy")
def eight(left, right, size, sos, state, taps):
    """Up to eight sections each after one another over two channels, in place.

    sos (sections, channels, 6), state (sections, channels, 2); taps (TAPS, 2, frames) are filled with
    what comes out of every second section, or (0, 2, frames) where nobody listens. While one works at
    a frame, the next one works at the frame before. Where they do not overlap, at both ends, each
    works by itself.
    """
    count, ahead = sos.shape[0], WIDTH - 1
    if size < WIDTH:
        for k in range(count):
            _pair(left, right, 0, size, sos[k], state[k])
            _listen(taps, k, left, right, 0, size)
        return
    for k in range(count):
        _pair(left, right, 0, ahead - k, sos[k], state[k])
        _listen(taps, k, left, right, 0, ahead - k)
    rows = np.empty((5, WIDTH))
    b0, b1, b2, a1, a2 = _in_lanes(sos, 0, rows)
    d0, d1, d2, c1, c2 = _in_lanes(sos, 1, rows)
    carried = np.zeros((4, WIDTH))
    for k in range(count):
        carried[0, k], carried[1, k] = state[k, 0, 0], state[k, 0, 1]
        carried[2, k], carried[3, k] = state[k, 1, 0], state[k, 1, 1]
    z1, z2, w1, w2 = load(carried[0], 0), load(carried[1], 0), load(carried[2], 0), load(carried[3], 0)
    done, beside = spread(0.0), spread(0.0)
    for i in range(ahead):
        done, beside = moved_up(done, left[i]), moved_up(beside, right[i])
    if taps.shape[0] == 0:
        for i in range(ahead, size):
            done, z1, z2 = _step(moved_up(done, left[i]), b0, b1, b2, a1, a2, z1, z2)
            beside, w1, w2 = _step(moved_up(beside, right[i]), d0, d1, d2, c1, c2, w1, w2)
            left[i - ahead], right[i - ahead] = last(done), last(beside)
    else:
        for i in range(ahead, size):
            done, z1, z2 = _step(moved_up(done, left[i]), b0, b1, b2, a1, a2, z1, z2)
            beside, w1, w2 = _step(moved_up(beside, right[i]), d0, d1, d2, c1, c2, w1, w2)
            taps[0, 0, i - 1], taps[0, 1, i - 1] = second(done), second(beside)
            taps[1, 0, i - 3], taps[1, 1, i - 3] = fourth(done), fourth(beside)
            taps[2, 0, i - 5], taps[2, 1, i - 5] = sixth(done), sixth(beside)
            left[i - ahead], right[i - ahead] = last(done), last(beside)
    store(carried[0], 0, z1)
    store(carried[1], 0, z2)
    store(carried[2], 0, w1)
    store(carried[3], 0, w2)
    for k in range(count):
        state[k, 0, 0], state[k, 0, 1] = still(carried[0, k]), still(carried[1, k])
        state[k, 1, 0], state[k, 1, 1] = still(carried[2, k]), still(carried[3, k])
    store(carried[0], 0, done)
    store(carried[1], 0, beside)
    for k in range(ahead):
        left[size - 1 - k], right[size - 1 - k] = carried[0, k], carried[1, k]
    for k in range(1, count):
        _pair(left, right, size - k, size, sos[k], state[k])
        _listen(taps, k, left, right, size - k, size)


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
def through(left, right, size, sos, state):
    """All sections over two channels, in place: as many at once as there are.

    sos (sections, channels, 6), state (sections, channels, 2).
    """
    s, count = 0, sos.shape[0]
    nobody = np.empty((0, 2, 0))
    while s < count:
        end = min(s + WIDTH, count)
        if end - s < FEW:
            for k in range(s, end):
                _by_blocks(left, right, size, sos[k], state[k])
        else:
            eight(left, right, size, sos[s:end], state[s:end], nobody)
        s = end


@kernel(error_model="numpy")
def open_tile(given, tile):
    """Finite float64 (channels, frames) of float32 (frames, channels), in a tile as long or longer.

    Channels go in pairs; where an odd one lacks a partner there is silence.
    """
    frames, channels = given.shape
    if channels == 2:
        _open_pair(given, tile[0], tile[1])
        return
    for c in range(channels):
        for i in range(frames):
            x = np.float64(given[i, c])
            tile[c, i] = x if abs(x) < LOUDEST else 0.0


@kernel(error_model="numpy")
def close_tile(tile, taken):
    """Write a tile as float32 (frames, channels)."""
    frames, channels = taken.shape
    if channels == 2:
        _close_pair(tile[0], tile[1], taken)
        return
    for c in range(channels):
        for i in range(frames):
            taken[i, c] = tile[c, i]


@kernel(error_model="numpy")
def _unfold(left, right, size, share):
    """The sum and the difference of two channels, times a share, in their place."""
    for i in range(size):
        x, u = left[i], right[i]
        left[i], right[i] = share * (x + u), share * (x - u)


@kernel(error_model="numpy")
def _run(block, sos, state, folds, out):
    frames = block.shape[0]
    tile = np.zeros((state.shape[1], TILE))
    for start in range(0, frames, TILE):
        size = min(TILE, frames - start)
        open_tile(block[start : start + size], tile)
        if folds:
            _unfold(tile[0], tile[1], size, 0.5)
        for c in range(0, tile.shape[0], 2):
            through(tile[c], tile[c + 1], size, sos[:, c : c + 2], state[:, c : c + 2])
        if folds:
            _unfold(tile[0], tile[1], size, 1.0)
        close_tile(tile, out[start : start + size])


def for_each_channel(sos: np.ndarray, channels: int) -> np.ndarray:
    """The same sections (sections, 6) for an even number of channels: (sections, channels, 6)."""
    rows = np.asarray(sos, np.float64).reshape(-1, 1, 6)
    return np.ascontiguousarray(np.repeat(rows, even(channels), axis=1))


def _side_by_side(each: Sequence[np.ndarray]) -> np.ndarray:
    """Sections (sections, 6) of each channel beside each other; where one has fewer, some idle."""
    rows = np.zeros((max(sos.shape[0] for sos in each), len(each), 6))
    rows[:, :, [0, 3]] = 1.0
    for c, sos in enumerate(each):
        rows[: sos.shape[0], c] = sos
    return rows


class Cascade:
    """A cascade of sections, double inside, single outside; `sos` as scipy writes it."""

    def __init__(self, sos: np.ndarray, channels: int) -> None:
        self._begin(for_each_channel(sos, channels), folds=False)

    @classmethod
    def of_two(cls, first: np.ndarray, second: np.ndarray, *, folds: bool = False) -> Cascade:
        """One with sections of its own for left and right, or for middle and sides if it `folds`."""
        made = cls.__new__(cls)
        made._begin(_side_by_side([first, second]), folds=folds)
        return made

    def _begin(self, sos: np.ndarray, *, folds: bool) -> None:
        self._sos, self._folds = sos, folds
        self._state = np.zeros((*sos.shape[:2], 2))

    @property
    def state(self) -> np.ndarray:
        """What the sections hold, float64; writing into it makes them go on from there."""
        return self._state

    def process(self, block: np.ndarray) -> np.ndarray:
        """Filter float32 (frames, channels); without sections the block itself."""
        if not self._sos.shape[0]:
            return block
        out = np.empty_like(block)
        _run(block, self._sos, self._state, self._folds, out)
        return out


def settle_s(sos: np.ndarray, rate: int) -> float:
    """Seconds until sections have forgotten their past to below -100 dB."""
    slowest = 0.0
    for row in np.asarray(sos).reshape(-1, 6):
        radius = float(np.abs(np.roots(row[3:])).max()) if row[4] or row[5] else 0.0
        if radius > 0.0:
            slowest += np.log(1e5) / -np.log(min(radius, 1.0 - 1e-9)) / rate
    return slowest
