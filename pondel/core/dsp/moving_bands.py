"""Moving bands at work: the level of each, the share of its range, and its filters by so much.

    out = MovingBands(settings, rate, channels).process(block, heard)

Eight bands are judged at once; each is then laid over the sound, one after another.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from numpy.lib.stride_tricks import as_strided

from pondel.core.dsp import ballistics
from pondel.core.dsp.cascade import FEW, close_tile, one_section, open_tile, two_sections
from pondel.core.dsp.compiled import kernel
from pondel.core.dsp.decibels import amplitude_to_db
from pondel.core.dsp.followers import HeldPeaks
from pondel.core.dsp.lanes import (
    WIDTH,
    add,
    even,
    larger,
    load,
    mul,
    smaller,
    spread,
    store,
    sub,
    where_at_least,
)
from pondel.core.dsp.limits import LOUDEST, QUIETEST
from pondel.core.dsp.moving import (
    Moving,
    detector_biquads,
    member_powers,
    moving_filters,
    still_q,
    together_db,
)
from pondel.core.dsp.moving_bells import bells_in_turn, by_itself, multiples_of

KNEE_DB = 3.0
BARELY = 1e-40
"""Added to what a detector hears, so that silence is not denormal."""
TILE = 1024
AT_ONCE = 2048
"""Frames whose levels and gains stay in the nearest caches."""


@kernel(error_model="numpy")
def _levels(heard, rows, state, levels):
    """The largest of all channels after each of eight filters; levels float32 (frames, 8).

    state (channels or one more, 2, 8): channels go in pairs, whose chains of sums do not wait for each
    other; one without a partner is heard twice.
    """
    flat = levels.reshape(-1)
    b0, b1, b2 = load(rows[0], 0), load(rows[1], 0), load(rows[2], 0)
    a1, a2 = load(rows[3], 0), load(rows[4], 0)
    none, least = spread(0.0), spread(np.float64(QUIETEST))
    for c in range(0, heard.shape[1], 2):
        other = min(c + 1, heard.shape[1] - 1)
        z1, z2 = load(state[c, 0], 0), load(state[c, 1], 0)
        w1, w2 = load(state[c + 1, 0], 0), load(state[c + 1, 1], 0)
        for i in range(heard.shape[0]):
            given, beside = np.float64(heard[i, c]), np.float64(heard[i, other])
            x = spread(given + BARELY if abs(given) < LOUDEST else BARELY)
            u = spread(beside + BARELY if abs(beside) < LOUDEST else BARELY)
            y, v = add(mul(b0, x), z1), add(mul(b0, u), w1)
            z1 = add(sub(mul(b1, x), mul(a1, y)), z2)
            w1 = add(sub(mul(b1, u), mul(a1, v)), w2)
            z2 = sub(mul(b2, x), mul(a2, y))
            w2 = sub(mul(b2, u), mul(a2, v))
            top = larger(larger(y, sub(none, y)), larger(v, sub(none, v)))
            top = larger(top, load(flat, 8 * i) if c else least)
            store(flat, 8 * i, top)
        store(state[c, 0], 0, z1)
        store(state[c, 1], 0, z2)
        store(state[c + 1, 0], 0, w1)
        store(state[c + 1, 1], 0, w2)


@kernel(error_model="numpy")
def _shares(levels, levels_db, curve, times, state, shares):
    """How much of its range each of eight bands has reached, float32 (8, frames), from 0 to 1.

    curve (7, 8): threshold in dB, slope, knee / 2, 1 / (2 knee), 1 / range, 1 / full level, follows?;
    times (3, 8): poles of `ballistics.Times`; state (2, 8): both stages.
    """
    flat, flat_db, row = levels.reshape(-1), levels_db.reshape(-1), np.empty(WIDTH)
    threshold, slope, half = load(curve[0], 0), load(curve[1], 0), load(curve[2], 0)
    inverse, per_db = load(curve[3], 0), load(curve[4], 0)
    full, follows = load(curve[5], 0), load(curve[6], 0)
    rise, fall_first, fall_second = load(times[0], 0), load(times[1], 0), load(times[2], 0)
    first, second = load(state[0], 0), load(state[1], 0)
    none, one, still = spread(0.0), spread(1.0), spread(1e-12)
    least = spread(2.0 * np.float64(QUIETEST))
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
        first = larger(x, add(mul(fall_first, first), mul(sub(one, fall_first), x)))
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


@kernel(error_model="numpy", fastmath={"contract", "nsz"})
def _add_changed(dry, wet, multiples, out):
    """out += multiple (wet - dry)."""
    for i in range(multiples.size):
        out[i] += multiples[i] * (wet[i] - dry[i])


@kernel(error_model="numpy")
def _apply(sound, eight, n, powers, rows, sections, state):
    """Band n of eight over float64 (channels, frames), in place.

    eight (8, frames), the shares: one row of one frame would be of another layout, and the kernel
    compiled once more for it; powers (members, DEGREE); rows (members, most sections, 6), `sections` of
    each; state (members, most sections, channels, 2).
    """
    channels, frames = sound.shape
    members, shares = powers.shape[0], eight[n]
    in_one = channels == 2 and members == 2 and rows.shape[1] == 1
    dry, wet = np.empty((channels, TILE)), np.empty((channels, TILE))
    multiples = np.empty((members, TILE), np.float32)
    for start in range(0, frames, TILE):
        size = min(TILE, frames - start)
        end = start + size
        if in_one:
            by_itself(sound, start, end, shares, powers, rows, state)
            continue
        for m in range(members):
            multiples_of(shares[start:end], powers[m], multiples[m, :size])
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


class _Eight:
    """Up to eight bands at work, one after another; each hears the part as it came, or the key."""

    def __init__(self, bands: Sequence[Moving], rate: int, channels: int) -> None:
        self._rows = np.zeros((5, WIDTH))
        self._curve, self._times = np.zeros((7, WIDTH)), np.zeros((3, WIDTH))
        self._state, self._heard = np.zeros((2, WIDTH)), np.zeros((0, 2, WIDTH))
        holds = [round(band.hold_ms * rate / 1000.0) for band in bands]
        self._held = {n: HeldPeaks(frames + 1) for n, frames in enumerate(holds) if frames}
        self._filters = []
        for n, band in enumerate(bands):
            self._rows[:, n] = detector_biquads(band, rate)[0, [0, 1, 2, 4, 5]]
            size = max(abs(band.range_db), 1e-6)
            slope = 1.0 - 1.0 / band.ratio
            full = 10.0 ** (-band.threshold_db / 20.0)
            knee = (KNEE_DB / 2.0, 0.5 / KNEE_DB)
            follows = float(band.mode == "follow")
            self._curve[:, n] = band.threshold_db, slope, *knee, 1.0 / size, full, follows
            times = ballistics.Times.of(band.attack_ms, band.release_ms, rate)
            self._times[:, n] = times.rise, times.fall_first, times.fall_second
            self._filters.append(_filter(band, rate, channels))
        self._bells = _all_bells(self._filters) if channels == 2 else None
        self._levels = np.empty((AT_ONCE, WIDTH), np.float32)
        self._levels_db = np.empty_like(self._levels)
        # Each band's row begins a frame later than the one before: where it is its turn, lane by lane.
        self._askew = np.zeros((AT_ONCE + WIDTH, WIDTH), np.float32)
        step = self._askew.itemsize
        self._shares = as_strided(self._askew, (WIDTH, AT_ONCE), ((WIDTH + 1) * step, WIDTH * step))

    def listen(self, heard: np.ndarray) -> np.ndarray:
        """The share of its range that each band has reached, (bands, frames), up to AT_ONCE frames.

        It lasts until the next call.
        """
        if not self._heard.size:
            self._heard = np.zeros((even(heard.shape[1]), 2, WIDTH))
        size = heard.shape[0]
        levels, levels_db = self._levels[:size], self._levels_db[:size]
        shares = self._shares[:, :size]
        _levels(heard, self._rows, self._heard, levels)
        for n, held in self._held.items():
            held.hold(levels[:, n])
        amplitude_to_db(levels.reshape(-1), levels_db.reshape(-1))
        _shares(levels, levels_db, self._curve, self._times, self._state, shares)
        return shares[: len(self._filters)]

    def process(self, sound: np.ndarray, heard: np.ndarray) -> np.ndarray:
        """Treat up to AT_ONCE frames in place, float64 (channels, frames); gives their shares."""
        shares = self.listen(heard)
        eight = self._shares[:, : sound.shape[1]]
        if self._bells is not None:
            bells_in_turn(sound, self._askew, eight, *self._bells)
            return shares
        for n, (powers, rows, sections, state) in enumerate(self._filters):
            _apply(sound, eight, n, powers, rows, sections, state)
        return shares


def _all_bells(filters: list[tuple[np.ndarray, ...]]) -> tuple[np.ndarray, ...] | None:
    """Powers, rows and states of all bands, where there are some and each is two members of one
    section."""
    if len(filters) < FEW or any(rows.shape[:2] != (2, 1) for _, rows, _, _ in filters):
        return None
    powers, rows, _, states = zip(*filters, strict=True)
    return np.stack(powers), np.stack(rows), np.stack(states)


def _filter(band: Moving, rate: int, channels: int) -> tuple[np.ndarray, ...]:
    filters = moving_filters(band, rate)
    sections = np.array([sos.shape[0] for sos in filters])
    rows = np.zeros((len(filters), int(sections.max()), 6))
    for m, sos in enumerate(filters):
        rows[m, : sos.shape[0]] = sos
    state = np.zeros((*rows.shape[:2], channels, 2))
    powers = member_powers(band.shape, band.range_db, still_q(band.shape, band.q))
    return powers, rows, sections, state


class MovingBands:
    """Any number of moving bands one after another; each hears the part as it came, or the key."""

    def __init__(self, bands: Sequence[Moving], rate: int, channels: int) -> None:
        self._bands = list(bands)
        self._ranges_db = np.array([band.range_db for band in bands], np.float32)
        self._groups = [
            _Eight(bands[n : n + WIDTH], rate, channels) for n in range(0, len(bands), WIDTH)
        ]

    def listen(self, heard: np.ndarray) -> np.ndarray:
        """The gains in dB that the bands would have, (bands, frames); nothing is treated."""
        heard = np.ascontiguousarray(heard, np.float32)
        found = np.zeros((len(self._bands), heard.shape[0]), np.float32)
        for first in range(0, heard.shape[0], AT_ONCE):
            key = heard[first : first + AT_ONCE]
            rows = [group.listen(key).copy() for group in self._groups]
            if rows:
                found[:, first : first + AT_ONCE] = (
                    np.concatenate(rows) * self._ranges_db[:, np.newaxis]
                )
        return found

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
        block = np.ascontiguousarray(block, np.float32)
        out = np.empty(block.shape, np.float32)
        heard = np.ascontiguousarray(heard, np.float32)
        for first in range(0, block.shape[0], AT_ONCE):
            part, key = block[first : first + AT_ONCE], heard[first : first + AT_ONCE]
            sound = np.empty(part.shape[::-1])
            open_tile(part, sound)
            shares = [group.process(sound, key) for group in self._groups]
            close_tile(sound, out[first : first + AT_ONCE])
            if trace is not None:
                rows = np.concatenate(shares) if shares else np.zeros((0, part.shape[0]), np.float32)
                gains_db = rows * self._ranges_db[:, np.newaxis]
                trace(gains_db, together_db(self._bands, gains_db))
        return out
