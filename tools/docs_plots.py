"""Draws the plots of docs/hearing.md: the model's curves against published points.

make docs-plots
"""

from __future__ import annotations

import sys
from pathlib import Path

import matplotlib as mpl
import numpy as np
from scipy.optimize import brentq

ROOT = Path(__file__).parents[1]
sys.path.insert(0, str(ROOT / "tests"))

import iso226  # noqa: E402
from hearing_tools import band, loudness, share, steady_excitation, tone  # noqa: E402
from test_hearing_agreement import CRITICAL_RATIOS_DB  # noqa: E402

from pondel.core.hearing.ear import constants, quiet_excitation_db  # noqa: E402
from pondel.core.hearing.loudness import partial_loudness, total_sone  # noqa: E402
from pondel.core.hearing.scale import PLACES_HZ, erb_hz  # noqa: E402

mpl.use("svg")
from matplotlib import pyplot as plt  # noqa: E402

OUT = ROOT / "docs" / "hearing"
INKS = ["#2b4a8f", "#a84a20", "#1d6a6e", "#763c76", "#9a2136"]
MARKS_HZ = [20, 50, 100, 200, 500, 1000, 2000, 5000, 10000]


def sheet(title: str, across: str, up: str):
    figure, axes = plt.subplots(figsize=(7.2, 3.6), layout="constrained")
    figure.set_facecolor("#fbf8f0")
    axes.set_facecolor("#fbf8f0")
    axes.grid(color="#e6ddcb", linewidth=0.7)
    axes.set_title(title, loc="left", fontsize=11, fontweight="bold")
    axes.set_xlabel(across)
    axes.set_ylabel(up)
    return figure, axes


def hertz(axes) -> None:
    axes.set_xscale("log")
    axes.set_xticks(MARKS_HZ, [f"{hz // 1000}k" if hz >= 1000 else str(hz) for hz in MARKS_HZ])
    axes.minorticks_off()


def keep(figure, name: str) -> None:
    figure.savefig(OUT / f"{name}.svg", metadata={"Date": None})
    plt.close(figure)
    print(f"{name}.svg")


def as_loud_as(wanted: float, hz: float) -> float:
    return brentq(lambda level: loudness(tone(hz, level)) - wanted, -5, 115, xtol=0.1)


def equal_loudness() -> None:
    figure, axes = sheet("Equal loudness: model (lines) and ISO 226:2003 (dots)", "Hz", "dB SPL")
    for ink, phon in zip(INKS, (20, 40, 60, 80), strict=False):
        wanted = loudness(tone(1000, phon))
        hz = list(iso226.TABLE)
        found = [as_loud_as(wanted, f) for f in hz]
        axes.plot(hz, found, color=ink, label=f"{phon} phon")
        axes.plot(hz, [iso226.level_db_spl(f, phon) for f in hz], "o", color=ink, markersize=3.5)
    hertz(axes)
    axes.legend(frameon=False, fontsize=8)
    keep(figure, "equal-loudness")


def growth() -> None:
    figure, axes = sheet("Loudness of 1 kHz: doubles per 10 dB above 40 phon", "dB SPL", "sone")
    levels = np.arange(5, 96, 5)
    axes.semilogy(
        levels, [loudness(tone(1000, level)) for level in levels], color=INKS[0], label="model"
    )
    above = levels[levels >= 40]
    axes.semilogy(
        above,
        2 ** ((above - 40) / 10),
        "o",
        color=INKS[1],
        markersize=4,
        label="ISO 532: 2^((L-40)/10)",
    )
    axes.legend(frameon=False, fontsize=8)
    keep(figure, "growth")


def critical_ratios() -> None:
    figure, axes = sheet("Tone in white noise: level at threshold above noise per Hz", "Hz", "dB")
    places = PLACES_HZ[(PLACES_HZ > 80) & (PLACES_HZ < 9000)]
    ratio = 10 * np.log10(erb_hz(places) * constants(places).detection)
    axes.plot(places, ratio, color=INKS[0], label="model: ERB x K")
    axes.plot(
        list(CRITICAL_RATIOS_DB),
        list(CRITICAL_RATIOS_DB.values()),
        "o",
        color=INKS[1],
        label="Hawkins and Stevens 1950",
    )
    hertz(axes)
    axes.legend(frameon=False, fontsize=8)
    keep(figure, "critical-ratios")


def spread() -> None:
    figure, axes = sheet("Excitation by a 1 kHz tone: upward spread grows with level", "Hz", "dB")
    for ink, level in zip(INKS, (30, 50, 70, 90), strict=False):
        power = steady_excitation(tone(1000, level))[0]
        axes.plot(PLACES_HZ, 10 * np.log10(np.maximum(power, 1e-2)), color=ink, label=f"{level} dB SPL")
    axes.set_ylim(0, 95)
    hertz(axes)
    axes.legend(frameon=False, fontsize=8)
    keep(figure, "spread")


def masked_thresholds() -> None:
    """A tone's level at threshold beside a masking tone of 1 kHz at 80 dB, and in quiet."""
    figure, axes = sheet("Masked threshold beside 1 kHz at 80 dB SPL, and in quiet", "Hz", "dB SPL")
    masker = steady_excitation(tone(1000, 80))
    hz = np.array([hz for hz in np.geomspace(150, 8000, 26) if abs(np.log2(hz / 1000)) > 0.12])

    def threshold(f: float, noise) -> float:
        at = int(np.argmin(np.abs(PLACES_HZ - f)))
        quiet = steady_excitation(tone(f, 40))
        quiet *= 10 ** (float(quiet_excitation_db(f)) / 10) / quiet[0, at]
        barely = float(total_sone(partial_loudness(quiet))[0])

        def louder(level: float) -> float:
            found = partial_loudness(steady_excitation(tone(f, level, 1.0)), noise)
            return float(total_sone(found)[0]) - barely

        return brentq(louder, -10, 95, xtol=0.2)

    axes.plot(hz, [threshold(f, masker) for f in hz], color=INKS[0], label="masked")
    axes.plot(hz, [threshold(f, None) for f in hz], color=INKS[2], label="in quiet")
    known = [f for f in iso226.TABLE if 150 <= f <= 8000]
    axes.plot(
        known,
        [iso226.TABLE[f][2] for f in known],
        "o",
        color=INKS[2],
        markersize=3.5,
        label="ISO 226 threshold",
    )
    hertz(axes)
    axes.legend(frameon=False, fontsize=8)
    keep(figure, "masked-threshold")


def shares() -> None:
    figure, axes = sheet("Hidden share of a noise band by an equal one", "masker against part, dB", "%")
    levels = np.arange(-30, 13, 3)
    found = [100 * share(band(100, 1000, -30, 1), band(100, 1000, -30 + db, 2)) for db in levels]
    axes.plot(levels, found, color=INKS[0])
    for at, low, high in ((-20, 5, 15), (-10, 20, 35), (0, 65, 80), (10, 95, 100)):
        axes.plot([at, at], [low, high], color=INKS[1], linewidth=4, alpha=0.6)
    keep(figure, "hidden-share")


def main() -> None:
    OUT.mkdir(parents=True, exist_ok=True)
    mpl.rcParams["svg.hashsalt"] = "pondel"
    for plot in (equal_loudness, growth, critical_ratios, spread, masked_thresholds, shares):
        plot()


if __name__ == "__main__":
    main()
