"""What a picture of a move shows: its response over frequency, and the handles on it.

A move's moving gain is drawn as |S + sum (g_n - 1) W_n| over frequency, where S is what stands
still, W_n the complex weight of its n-th band and g_n that band's gain now.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from scipy.signal import butter

from pondel.core.dsp.crossover import band_biquads
from pondel.core.dsp.decibels import to_amplitude
from pondel.core.dsp.matched import response
from pondel.core.dsp.moving import band_pass
from pondel.core.moves.complementary_eq import _moves, _moving, _still, gain_db
from pondel.core.moves.eq import band_biquads as eq_biquads
from pondel.core.moves.spectral_duck import WIDTHS, bank

WHOLE = ("compressor", "gate", "tail trim")
"""Moves with one moving gain for all frequencies."""


@dataclass(frozen=True)
class Handle:
    """A point or line on the response that can be moved; fields are paths into the move."""

    name: str
    hz: float
    hz_field: str
    db: float | None = None
    db_field: str | None = None
    q: float | None = None
    q_field: str | None = None
    band: int | None = None
    low_hz: float | None = None
    high_hz: float | None = None


@dataclass(frozen=True)
class Response:
    """A move over frequency; `bands` are (trace suffix, complex weights)."""

    still: np.ndarray
    bands: list[tuple[str, np.ndarray]] = field(default_factory=list)
    handles: list[Handle] = field(default_factory=list)


def _edges(hz: float, q: float) -> dict[str, float]:
    """Where a bell is half as deep, for hearing its band alone."""
    half = np.arcsinh(0.5 / max(q, 0.05)) / np.log(2)
    return {"low_hz": max(20.0, hz * 2**-half), "high_hz": min(20000.0, hz * 2**half)}


def response_of(move: Any, hz: np.ndarray, rate: int) -> Response:
    """The picture of a move at frequencies in Hz; flat for those that act on all alike."""
    w = 2.0 * np.pi * np.minimum(hz, 0.49 * rate) / rate
    drawn = {
        "eq": _eq,
        "dynamic eq": _dynamic,
        "multiband": _multiband,
        "spectral duck": _spectral,
        "complementary eq": _complementary,
        "drawn duck": _drawn,
        "width": _width,
    }.get(move.kind)
    if drawn is not None:
        return drawn(move, w, rate)
    flat = np.ones(w.size, complex)
    if move.kind == "level":
        return Response(flat * to_amplitude(move.gain_db))
    return Response(flat, [("", flat)] if move.kind in WHOLE else [])


def _eq(move: Any, w: np.ndarray, rate: int) -> Response:
    still = np.ones(w.size, complex)
    handles = []
    for n, band in enumerate(move.bands):
        still = still * response(eq_biquads(band, rate), w)
        gains = band.shape in ("bell", "low shelf", "high shelf", "tilt")
        bent = band.shape not in ("low cut", "high cut", "tilt")
        handles.append(
            Handle(
                f"{band.shape} {n + 1}" + ("" if band.placement == "both" else f", {band.placement}"),
                band.hz,
                f"bands.{n}.hz",
                band.gain_db if gains else None,
                f"bands.{n}.gain_db" if gains else None,
                band.q if bent else None,
                f"bands.{n}.q" if bent else None,
                n,
                **_edges(band.hz, band.q),
            )
        )
    return Response(still, [], handles)


def _shelf_weight(shape: str, hz: float, w: np.ndarray, rate: int) -> np.ndarray:
    kind = "lowpass" if shape == "low shelf" else "highpass"
    return response(butter(1, min(hz, 0.45 * rate), kind, fs=rate, output="sos"), w)


def _dynamic(move: Any, w: np.ndarray, rate: int) -> Response:
    weights, handles, live = [], [], 0
    for n, band in enumerate(move.bands):
        handles.append(
            Handle(
                f"{band.shape} {n + 1}",
                band.hz,
                f"bands.{n}.hz",
                band.range_db,
                f"bands.{n}.range_db",
                band.q,
                f"bands.{n}.q",
                n,
                **_edges(band.hz, band.q),
            )
        )
        if not band.on:
            continue
        if band.shape == "bell":
            weight = response(band_pass(band.hz, band.q, rate), w)
        else:
            weight = _shelf_weight(band.shape, band.hz, w, rate)
        weights.append((f"/{live}", weight))
        live += 1
    return Response(np.ones(w.size, complex), weights, handles)


def _multiband(move: Any, w: np.ndarray, rate: int) -> Response:
    parts = [response(sos, w) for sos in band_biquads(list(move.crossovers_hz), rate)]
    whole = sum(parts)
    handles = [
        Handle(f"crossover {n + 1}", hz, f"crossovers_hz.{n}")
        for n, hz in enumerate(move.crossovers_hz)
    ]
    weights = [(f"/{n}", part / whole) for n, part in enumerate(parts)]
    return Response(np.ones(w.size, complex), weights, handles)


def _spectral(move: Any, w: np.ndarray, rate: int) -> Response:
    _, rows, _ = bank(move.low_hz, move.high_hz, WIDTHS[move.bands], rate)
    passed = sum(np.abs(response(row[None], w)) ** 2 for row in rows)
    weight = np.minimum(passed / np.maximum(np.median(passed[passed > 0.3 * passed.max()]), 1e-9), 1.0)
    handles = [
        Handle("from", move.low_hz, "low_hz", band=None),
        Handle("to", move.high_hz, "high_hz", band=None),
    ]
    return Response(np.ones(w.size, complex), [("", weight.astype(complex))], handles)


def _complementary(move: Any, w: np.ndarray, rate: int) -> Response:
    still = response(_still(move, rate), w)
    handles = []
    for n, band in enumerate(move.bands):
        gain = gain_db(band, move.side)
        if band.on and _moves(band, move.side):
            moving = _moving(band, move.side)
            full = 10.0 ** (moving.range_db / 20.0) - 1.0
            if band.shape == "bell":
                still = still * (1.0 + full * response(band_pass(band.hz, band.q, rate), w))
        handles.append(
            Handle(
                f"{band.shape} {n + 1}, {move.side}",
                band.hz,
                f"bands.{n}.hz",
                gain,
                None,
                band.q,
                f"bands.{n}.q",
                n,
                **_edges(band.hz, band.q),
            )
        )
    return Response(still, [], handles)


def _drawn(move: Any, w: np.ndarray, rate: int) -> Response:
    if move.acts_on == "all":
        return Response(np.ones(w.size, complex), [("", np.ones(w.size, complex))])
    low, high = (response(sos, w) for sos in band_biquads([move.crossover_hz], rate))
    side = low if move.acts_on == "lows" else high
    handles = [Handle("crossover", move.crossover_hz, "crossover_hz")]
    return Response(np.ones(w.size, complex), [("", side / (low + high))], handles)


def _width(move: Any, w: np.ndarray, rate: int) -> Response:
    still = np.ones(w.size, complex)
    if move.mono_below_hz is None:
        return Response(still)
    return Response(still, [], [Handle("mono below", move.mono_below_hz, "mono_below_hz")])
