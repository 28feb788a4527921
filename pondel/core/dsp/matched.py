"""Second-order filters whose magnitude is that of the analogue prototype up to the top.

The bilinear transform squeezes what lies near half the rate. Here the squared magnitude of the
prototype is fitted, as a rational function of tan(w/2) squared, by iteratively reweighted linear
least squares (Sanathanan and Koerner, 1963; the squared-magnitude view is that of Vicanek, "Matched
second order digital filters", 2016), with one order more than the prototype where that is needed;
the minimum-phase factor is the filter. Prototypes: Bristow-Johnson, "Cookbook formulae for audio
equalizer biquad filter coefficients".
"""

from __future__ import annotations

from functools import lru_cache
from typing import Literal

import numpy as np

Shape = Literal["bell", "low shelf", "high shelf", "band-pass", "notch", "low cut", "high cut"]
GAINING = ("bell", "low shelf", "high shelf")
GOOD_DB = 0.04
GOOD_BELL_DB = 0.065
"""With which error on the grid a fit is good enough; between its points a bell gains little more."""
NO_GAIN_DB = 0.005
LEAST_POWER = 1e-9
HIGHEST_SHARE = 0.4536
TOP_SHARE = 0.455
ROUNDS = 10
FIT_POINTS = 90


def prototype(shape: Shape, hz: np.ndarray, centre_hz: float, gain_db: float, q: float) -> np.ndarray:
    """The analogue prototype's complex response at frequencies in Hz."""
    a = 10.0 ** (gain_db / 40.0)
    s = 1j * np.asarray(hz, np.float64) / centre_hz
    if shape == "bell":
        return (s * s + s * a / q + 1) / (s * s + s / (a * q) + 1)
    root = np.sqrt(a) / q
    if shape == "low shelf":
        return a * (s * s + root * s + a) / (a * s * s + root * s + 1)
    if shape == "high shelf":
        return a * (a * s * s + root * s + 1) / (s * s + root * s + a)
    numerators = {"band-pass": s / q, "notch": s * s + 1, "low cut": s * s, "high cut": 1.0}
    return numerators[shape] / (s * s + s / q + 1)


def first_order(shape: Literal["low cut", "high cut"], hz: np.ndarray, centre_hz: float) -> np.ndarray:
    """The analogue cut of 6 dB per octave."""
    s = 1j * np.asarray(hz, np.float64) / centre_hz
    return (s if shape == "low cut" else 1.0) / (s + 1)


@lru_cache(maxsize=4096)
def biquads(shape: Shape, centre_hz: float, gain_db: float, q: float, rate: int) -> np.ndarray:
    """One to three second-order sections as scipy writes them, float64 (sections, 6).

    A cut is the boost of as many decibels turned over: both together are nothing at all. A centre above
    0.4536 of the rate, 20 kHz at 44.1, is held there.
    """
    if shape in GAINING:
        if abs(gain_db) < NO_GAIN_DB:
            return np.array([[1.0, 0.0, 0.0, 1.0, 0.0, 0.0]])
        if gain_db < 0.0:
            return _inverse(biquads(shape, centre_hz, -gain_db, q, rate))
    centre_hz = min(centre_hz, HIGHEST_SHARE * rate)
    hz = _grid(centre_hz, rate)
    power = np.abs(prototype(shape, hz, centre_hz, gain_db, q)) ** 2
    zeros = {"low cut": 2, "band-pass": 1}.get(shape, 0)
    good_db = GOOD_BELL_DB if shape == "bell" else GOOD_DB
    return _fitted(hz, power, centre_hz, rate, 2, zeros, good_db)


def _inverse(sos: np.ndarray) -> np.ndarray:
    """Sections that undo others of minimum phase."""
    return np.concatenate([sos[:, 3:], sos[:, :3]], axis=1) / sos[:, :1]


@lru_cache(maxsize=1024)
def first_order_biquads(
    shape: Literal["low cut", "high cut"], centre_hz: float, rate: int
) -> np.ndarray:
    """A cut of 6 dB per octave as second-order sections."""
    centre_hz = min(centre_hz, HIGHEST_SHARE * rate)
    hz = _grid(centre_hz, rate)
    power = np.abs(first_order(shape, hz, centre_hz)) ** 2
    return _fitted(hz, power, centre_hz, rate, 1, 1 if shape == "low cut" else 0, GOOD_DB)


@lru_cache(maxsize=1024)
def butterworth_cut(
    shape: Literal["low cut", "high cut"], cut_hz: float, slope_db_oct: int, rate: int
) -> np.ndarray:
    """A Butterworth cut of 6 to 96 dB per octave, -3 dB at `cut_hz`."""
    order = slope_db_oct // 6
    rows = [first_order_biquads(shape, cut_hz, rate)] if order % 2 else []
    for k in range(order // 2):
        damping = 2.0 * np.sin(np.pi * (2 * k + 1 + order % 2) / (2 * order))
        if order % 2:
            damping = 2.0 * np.cos(np.pi * (k + 1) / order)
        rows.append(biquads(shape, cut_hz, 0.0, float(1.0 / damping), rate))
    return np.concatenate(rows)


def _grid(centre_hz: float, rate: int) -> np.ndarray:
    top = TOP_SHARE * rate
    wide = np.geomspace(5.0, top, FIT_POINTS)
    near = np.clip(centre_hz, 10.0, top) * np.geomspace(0.6, 1.6, FIT_POINTS // 2)
    return np.unique(np.concatenate([wide, near[near <= top]]))


def _fitted(
    hz: np.ndarray,
    power: np.ndarray,
    centre_hz: float,
    rate: int,
    order: int,
    zeros: int,
    good_db: float,
) -> np.ndarray:
    scale = np.tan(np.pi * min(centre_hz, 0.45 * rate) / rate) ** 2
    u = np.tan(np.pi * hz / rate) ** 2 / scale
    heard = power > LEAST_POWER
    u, power = u[heard], power[heard]
    best: tuple[float, np.ndarray, np.ndarray] | None = None
    for extra in (0, 1, 2):
        found = _fit(u, power, order + extra, zeros)
        if found is not None and (best is None or found[0] < 0.7 * best[0]):
            best = found
        if best is not None and best[0] <= good_db:
            break
    if best is None:
        raise ArithmeticError(f"no stable filter at {centre_hz} Hz")
    _, numerator, denominator = best
    sos = _to_biquads(numerator, denominator, float(np.sqrt(scale)))
    at = int(np.argmax(power))
    w = 2.0 * np.arctan(np.sqrt(u[at] * scale))
    sos[0, :3] *= np.sqrt(power[at]) / np.abs(response(sos, np.array([w])))[0]
    return sos


def _fit(u: np.ndarray, power: np.ndarray, order: int, zeros: int):
    """(largest error in dB, numerator, denominator), rising powers of u; None when unstable."""
    columns = u[:, None] ** np.arange(order + 1)
    top = columns[:, zeros:]
    previous = (1.0 + u) ** order
    best = None
    for _ in range(ROUNDS):
        weight = 1.0 / (previous * power)
        known = power * weight
        matrix = np.concatenate([top * weight[:, None], -columns[:, 1:] * known[:, None]], axis=1)
        norms = np.linalg.norm(matrix, axis=0)
        solved = np.linalg.lstsq(matrix / norms, known, rcond=None)[0] / norms
        numerator = np.concatenate([np.zeros(zeros), solved[: top.shape[1]]])
        denominator = np.concatenate([[1.0], solved[top.shape[1] :]])
        previous = np.maximum(np.abs(columns @ denominator), 1e-300)
        ratio = np.maximum(np.abs(columns @ numerator), 1e-300) / previous / power
        error = float(np.abs(10.0 * np.log10(ratio)).max())
        if (best is None or error < best[0]) and _is_filter(numerator, denominator):
            best = (error, numerator, denominator)
    return best


def _positive(roots: np.ndarray) -> np.ndarray:
    """Which roots in u lie at a real frequency: as poles unstable, as zeros a notch."""
    return (roots.real > 0) & (np.abs(roots.imag) < 2e-3 * np.abs(roots))


def _is_filter(numerator: np.ndarray, denominator: np.ndarray) -> bool:
    """Whether the squared magnitude is positive: no real poles, and real zeros only twice over."""
    if denominator[-1] == 0 or _positive(np.roots(denominator[::-1])).any():
        return False
    roots = np.roots(np.trim_zeros(numerator[::-1], "f"))
    notches = np.sort(roots[_positive(roots)].real)
    if notches.size % 2:
        return False
    return bool(np.all(np.abs(np.diff(notches)[::2]) < 0.05 * notches[::2]))


def _to_biquads(numerator: np.ndarray, denominator: np.ndarray, scale: float) -> np.ndarray:
    """Sections with the minimum-phase roots of both polynomials."""
    poles = _pairs(_to_z(np.roots(denominator[::-1]), scale))
    zeros = _pairs(_zeros_in_z(np.roots(np.trim_zeros(numerator[::-1], "f")), scale))
    # A numerator of lower degree has the missing zeros at half the rate.
    missing = denominator.size - np.trim_zeros(numerator, "b").size
    zeros = _pairs(np.concatenate([*zeros, np.full(missing, -1.0)])) if missing else zeros
    rows = []
    for n in range(max(len(poles), len(zeros))):
        b = np.real(np.poly(zeros[n])) if n < len(zeros) else np.ones(1)
        a = np.real(np.poly(poles[n])) if n < len(poles) else np.ones(1)
        rows.append(np.concatenate([np.pad(b, (0, 3 - b.size)), np.pad(a, (0, 3 - a.size))]))
    return np.array(rows)


def _to_z(roots: np.ndarray, scale: float) -> np.ndarray:
    """From u = tan^2(w/2) / scale^2 to the root inside the unit circle."""
    s = -np.sqrt(-roots.astype(complex)) * scale
    return (1.0 + s) / (1.0 - s)


def _zeros_in_z(roots: np.ndarray, scale: float) -> np.ndarray:
    """Zeros of the filter; a notch, twice a zero of the squared magnitude, counts once."""
    plain, notches = roots[~_positive(roots)], np.sort(roots[_positive(roots)].real)
    on_circle = [
        np.exp(sign * 2j * np.arctan(np.sqrt(u) * scale))
        for u in (notches[::2] + notches[1::2]) / 2
        for sign in (1, -1)
    ]
    return np.concatenate([_to_z(plain, scale), np.array(on_circle, complex)])


def _pairs(roots: np.ndarray) -> list[np.ndarray]:
    """Roots two by two, conjugates together."""
    roots = np.asarray(roots, complex)
    real = np.sort(roots[np.abs(roots.imag) < 1e-9].real)
    upper = roots[roots.imag >= 1e-9]
    pairs = [np.array([root, np.conj(root)]) for root in upper]
    return pairs + [real[i : i + 2].astype(complex) for i in range(0, real.size, 2)]


def response(sos: np.ndarray, w: np.ndarray) -> np.ndarray:
    """Complex response of sections at angular frequencies in radians per frame."""
    z = np.exp(-1j * np.asarray(w))
    out = np.ones_like(z)
    for b0, b1, b2, a0, a1, a2 in sos:
        out = out * (b0 + b1 * z + b2 * z * z) / (a0 + a1 * z + a2 * z * z)
    return out
