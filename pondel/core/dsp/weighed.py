"""Filters of some dozens of taps, as they are, without a transform; all of single precision.

    add_weighed(given, taps, 1, out)     # out[n] += taps[0] given[n] + taps[1] given[n + 1] + ...

Rows of taps are what a change of rate filters with: every n-th tap from each on. Taps that are nothing
at either end of a row are left out; of a filter that stops at a whole share of the rate one row has a
single tap.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from pondel.core.dsp.compiled import kernel

AT_ONCE, REST = 8, 4
TILE = 2048
"""So many frames stay in the nearest cache with what is made of them."""
NOTHING = 1e-9
"""A tap this small against the largest is none, 180 dB down."""


class Rows(NamedTuple):
    """Rows of a filter's taps, float32 (rows, most); the first of each, and how many there are: one, or
    some whole multiple of REST."""

    taps: np.ndarray
    firsts: np.ndarray
    counts: np.ndarray


def in_rows(taps: np.ndarray) -> Rows:
    """What is needed of float (rows, taps)."""
    found = np.abs(taps) > NOTHING * np.abs(taps).max()
    firsts = found.argmax(axis=1)
    lasts = taps.shape[1] - found[:, ::-1].argmax(axis=1)
    counts = np.where(lasts - firsts == 1, 1, -(-(lasts - firsts) // REST) * REST)
    kept = np.zeros((taps.shape[0], counts.max()), np.float32)
    for row, own, first, last in zip(kept, taps, firsts, lasts, strict=True):
        row[: last - first] = own[first:last]
    return Rows(kept, firsts, counts)


def by_phase(taps: np.ndarray, factor: int) -> np.ndarray:
    """Every `factor`-th tap from each on, (factor, taps); what is missing at the end is nothing."""
    padded = np.zeros(-(-taps.size // factor) * factor)
    padded[: taps.size] = taps
    return padded.reshape(-1, factor).T


@kernel(fastmath={"contract", "nsz", "reassoc"}, error_model="numpy")
def add_weighed(given, taps, apart, out):
    """Add to each of `out` what lies at it and after it, each `apart` from the last, times its tap.

    taps: some multiple of REST; `given` is longer than `out` by as much as they reach.
    """
    size, whole = out.size, taps.size - taps.size % AT_ONCE
    for n in range(0, whole, AT_ONCE):
        a, b, c, d = taps[n], taps[n + 1], taps[n + 2], taps[n + 3]
        e, f, g, h = taps[n + 4], taps[n + 5], taps[n + 6], taps[n + 7]
        ga, gb, gc = given[n * apart :], given[(n + 1) * apart :], given[(n + 2) * apart :]
        gd, ge, gf = given[(n + 3) * apart :], given[(n + 4) * apart :], given[(n + 5) * apart :]
        gg, gh = given[(n + 6) * apart :], given[(n + 7) * apart :]
        for i in range(size):
            out[i] += (
                a * ga[i]
                + b * gb[i]
                + c * gc[i]
                + d * gd[i]
                + e * ge[i]
                + f * gf[i]
                + g * gg[i]
                + h * gh[i]
            )
    if whole < taps.size:
        a, b, c, d = taps[whole], taps[whole + 1], taps[whole + 2], taps[whole + 3]
        ga, gb = given[whole * apart :], given[(whole + 1) * apart :]
        gc, gd = given[(whole + 2) * apart :], given[(whole + 3) * apart :]
        for i in range(size):
            out[i] += a * ga[i] + b * gb[i] + c * gc[i] + d * gd[i]


@kernel(error_model="numpy", fastmath={"contract", "nsz"})
def add_row(given, taps, first, count, out):
    """Add what one of `Rows` makes of `given`, which begins where the whole filter does."""
    if count > 1:
        add_weighed(given[first:], taps[:count], 1, out)
        return
    for i in range(out.size):
        out[i] += taps[0] * given[first + i]


@kernel()
def interleave(rows, size, out):
    """A frame of each of the rows in turn; two and four rows, the usual ones, many frames at once."""
    if rows.shape[0] == 2:
        a, b = rows[0], rows[1]
        for i in range(size):
            out[2 * i], out[2 * i + 1] = a[i], b[i]
    elif rows.shape[0] == 4:
        a, b, c, d = rows[0], rows[1], rows[2], rows[3]
        for i in range(size):
            out[4 * i], out[4 * i + 1], out[4 * i + 2], out[4 * i + 3] = a[i], b[i], c[i], d[i]
    else:
        for p in range(rows.shape[0]):
            for i in range(size):
                out[i * rows.shape[0] + p] = rows[p, i]


@kernel()
def deinterleave(given, size, rows):
    """What `interleave` undoes; what is missing of `given` is silence."""
    factor = rows.shape[0]
    count = min(given.size // factor, size)
    if factor == 2:
        a, b = rows[0], rows[1]
        for i in range(count):
            a[i], b[i] = given[2 * i], given[2 * i + 1]
    elif factor == 4:
        a, b, c, d = rows[0], rows[1], rows[2], rows[3]
        for i in range(count):
            a[i], b[i], c[i], d[i] = given[4 * i], given[4 * i + 1], given[4 * i + 2], given[4 * i + 3]
    else:
        for p in range(factor):
            for i in range(count):
                rows[p, i] = given[i * factor + p]
    for p in range(factor):
        for i in range(count, size):
            at = i * factor + p
            rows[p, i] = given[at] if at < given.size else 0.0
