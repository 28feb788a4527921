"""Draws the plots of docs/hearing.md and docs/moves.md, against published points where there are some.

make docs-plots
"""

from __future__ import annotations

import sys
from pathlib import Path

import matplotlib as mpl
import numpy as np
from scipy.optimize import brentq
from scipy.signal.windows import blackmanharris

ROOT = Path(__file__).parents[1]
sys.path.insert(0, str(ROOT / "tests"))

import iso226  # noqa: E402
from conftest import RATE, sine  # noqa: E402
from hearing_tools import band, loudness, share, steady_excitation, tone  # noqa: E402
from moves_tools import at_work, noise, pulse_response_db, run  # noqa: E402
from test_added_layers import layer_of, struck  # noqa: E402
from test_clear import PARTS_HZ, chord, table_of  # noqa: E402
from test_contrast import contrast, hump  # noqa: E402
from test_hearing_agreement import CRITICAL_RATIOS_DB  # noqa: E402

from pondel.core.dsp import matched, squeeze  # noqa: E402
from pondel.core.dsp.bell_row import bell_row, falls_db  # noqa: E402
from pondel.core.dsp.crossover import band_biquads  # noqa: E402
from pondel.core.dsp.matched import response  # noqa: E402
from pondel.core.dsp.scale import erb_hz  # noqa: E402
from pondel.core.dsp.tone import TONE_HZ  # noqa: E402
from pondel.core.hearing.ear import constants, quiet_excitation_db  # noqa: E402
from pondel.core.hearing.excitation import excite  # noqa: E402
from pondel.core.hearing.loudness import partial_loudness, total_sone  # noqa: E402
from pondel.core.hearing.scale import PLACES_HZ  # noqa: E402
from pondel.core.moves import drawn_duck  # noqa: E402
from pondel.core.moves.contrast_eq import asked_db  # noqa: E402
from pondel.core.moves.dynamic_eq import DynamicEq  # noqa: E402
from pondel.core.moves.multiband import Multiband  # noqa: E402
from pondel.core.moves.reverb import Reverb  # noqa: E402
from pondel.core.moves.saturation import Saturation  # noqa: E402
from pondel.core.moves.spectral_duck import SpectralDuck  # noqa: E402
from pondel.core.moves.sub_layer import SubLayer  # noqa: E402
from pondel.core.moves.width import Width  # noqa: E402

mpl.use("svg")
from matplotlib import pyplot as plt  # noqa: E402

HEARING = ROOT / "docs" / "hearing"
MOVES = ROOT / "docs" / "moves"
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


def keep(figure, name: str, folder: Path = HEARING) -> None:
    figure.savefig(folder / f"{name}.svg", metadata={"Date": None})
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


def _eight_parts(name: str, fader_db: float) -> dict[str, np.ndarray]:
    return {
        part: power * np.float32(10 ** (fader_db / 10)) if part == name else power
        for part, power in _EIGHT.items()
    }


_EIGHT: dict[str, np.ndarray] = {}
FADERS_DB = np.arange(-12, 13, 2)


def headlines() -> None:
    """Both headline numbers of eight parts, each while its own fader moves and the others rest."""
    _EIGHT.update(
        {name: excite([chord(hz, n)], 48000).power for n, (name, hz) in enumerate(PARTS_HZ.items())}
    )
    for title, what in (("Clear by", "clear_db"), ("Beside an equal share", "beside_equal_db")):
        figure, axes = sheet(f"{title}, eight parts", "the part's own fader, dB", "dB")
        for n, name in enumerate(PARTS_HZ):
            found = [getattr(table_of(_eight_parts(name, db)), what)(name) for db in FADERS_DB]
            style = dict(color=INKS[n % len(INKS)], linestyle=("-", "--")[n // len(INKS)])
            axes.plot(FADERS_DB, found, label=name, **style)
        axes.legend(frameon=False, fontsize=8, ncols=2)
        keep(figure, what.removesuffix("_db").replace("_", "-"))


def dated() -> None:
    """A kick of 60 ms over two steady tones: when it hides them."""
    figure, axes = sheet(
        "When a burst of 60 ms hides two tones near it", "ms after it begins", "% hidden"
    )
    t = np.arange(2 * 48000) / 48000
    shape = np.clip((t - 1) / 0.002, 0, 1) * np.clip((1.06 - t) / 0.002, 0, 1)
    axes.axvspan(0, 60, color="#f6e7b8")
    for n, hz in enumerate((60, 250, 1000, 4000)):
        steady = sum(0.05 * np.sin(2 * np.pi * hz * ratio * t) for ratio in (1.3, 2.6))
        burst = 0.3 * shape * np.sin(2 * np.pi * hz * (t - 1))
        own, masker = (excite([one[:, None].astype("f4")], 48000).power for one in (steady, burst))
        alone = partial_loudness(own).sum(axis=1)
        shares = 100 * (1 - np.minimum(partial_loudness(own, masker).sum(axis=1) / alone, 1))
        axes.plot(10 * (np.arange(90, 125) - 100), shares[90:125], color=INKS[n], label=f"{hz} Hz")
    axes.legend(frameon=False, fontsize=8)
    keep(figure, "dated")


def responses(
    title: str, name: str, curves: dict[str, np.ndarray], hz: np.ndarray, points=None
) -> None:
    figure, axes = sheet(title, "Hz", "dB")
    for ink, (label, levels) in zip(INKS, curves.items(), strict=False):
        axes.plot(hz, levels, color=ink, label=label)
    if points is not None:
        axes.plot(*points, "o", color=INKS[1], markersize=3.5, label="analogue prototype")
    hertz(axes)
    axes.legend(frameon=False, fontsize=8)
    keep(figure, name, MOVES)


def db(values: np.ndarray) -> np.ndarray:
    return 20 * np.log10(np.maximum(np.abs(values), 1e-4))


def moves() -> None:
    rate, hz = 44100, np.geomspace(20, 20000, 500)
    w = 2 * np.pi * hz / rate
    curves, at, level = {}, [], []
    for shape, centre, gain, q in (
        ("bell", 15000, 9, 1.0),
        ("bell", 100, -9, 2.0),
        ("high shelf", 9000, -6, 0.7),
    ):
        curves[f"{shape} {centre} Hz"] = db(response(matched.biquads(shape, centre, gain, q, rate), w))
        some = hz[::25]
        at += some.tolist()
        level += db(matched.prototype(shape, some, centre, gain, q)).tolist()
    responses("EQ at 44.1 kHz against its analogue prototype", "eq", curves, hz, (at, level))
    curves = {
        f"{gain} dB": db(response(matched.biquads("bell", 300, gain, 1.4, rate), w))
        for gain in (-3, -6, -9, -12)
    }
    responses("A dynamic bell at 300 Hz, Q 1.4, on its way down", "dynamic-eq", curves, hz)
    parts = [response(sos, w) for sos in band_biquads([96, 1200], rate)]
    curves = {f"band {n + 1}": db(part) for n, part in enumerate(parts)} | {"sum": db(sum(parts))}
    responses("Three bands and their sum", "multiband", curves, hz)
    row = bell_row(200, 4000, 0.5, rate)
    falls = falls_db(row.away(hz, rate), row.bells_for(12.0)).sum(axis=1)
    responses(
        "Spectral duck, 200 Hz to 4 kHz, all bands down by 12 dB",
        "spectral-duck",
        {"gain": -falls},
        hz,
    )
    curves = {
        "gains 2.4 dB": db(response(matched.biquads("bell", 700, 2.4, 1.2, rate), w)),
        "gives 3.6 dB": db(response(matched.biquads("bell", 700, -3.6, 1.2, rate), w)),
    }
    responses(
        "Complementary EQ at 700 Hz, 6 dB between both, share 40 %", "complementary-eq", curves, hz
    )
    figure, axes = sheet("Static curves, threshold -30 dB", "level, dB", "output, dB")
    levels = np.arange(-60.0, 1.0)
    for ink, (ratio, knee) in zip(INKS, ((2, 0), (4, 6), (np.inf, 12)), strict=False):
        out = levels - squeeze.static_reduction_db(levels, -30, ratio, knee, 60)
        axes.plot(levels, out, color=ink, label=f"{ratio:g}:1, knee {knee} dB")
    axes.legend(frameon=False, fontsize=8)
    keep(figure, "compressor", MOVES)
    figure, axes = sheet("Drawn duck: the curve it begins with, 8 dB", "share of the length", "dB")
    axes.plot(
        np.linspace(0, 1, 500),
        -8 * drawn_duck.curve(drawn_duck._first_points(), np.linspace(0, 1, 500)),
        color=INKS[0],
    )
    keep(figure, "drawn-duck", MOVES)


def spectrum_db(sound: np.ndarray, rate: int) -> tuple[np.ndarray, np.ndarray]:
    """Frequencies and levels of a sound in dB under its strongest line."""
    levels = np.abs(np.fft.rfft(sound * blackmanharris(sound.size)))
    return np.fft.rfftfreq(sound.size, 1 / rate), 20 * np.log10(
        np.maximum(levels / levels.max(), 1e-10)
    )


def treatments() -> None:
    """Aliases, decay times, edges and what is applied of what was asked."""
    figure, axes = sheet("Saturation: 5 kHz at -6 dBFS, 44.1 kHz, driven by 24 dB", "Hz", "dB")
    for ink, even in zip(INKS, (0.0, 0.5, 1.0), strict=False):
        move = Saturation(id="m", drive_db=24, even=even, level_match=False)
        out = run(move, sine(5000, 2.0, -6, 44100), rate=44100)[22050:, 0].astype(np.float64)
        axes.plot(*spectrum_db(out, 44100), color=ink, linewidth=0.8, label=f"even {even:.0%}")
    axes.axhline(-80, color="#5d584f", linewidth=1, linestyle="--")
    axes.set_ylim(-160, 5)
    axes.legend(frameon=False, fontsize=8)
    keep(figure, "saturation", MOVES)

    figure, axes = sheet("Reverb: what is left of a click", "seconds", "dB")
    for ink, decay_s in zip(INKS, (0.4, 1.5, 4.0), strict=False):
        click = np.zeros((round(decay_s * 1.3 * RATE), 1), np.float32)
        click[0] = 1.0
        move = Reverb(id="m", decay_s=decay_s, damping=0.0, low_cut_hz=20, high_cut_hz=20_000)
        power = (run(move, click).astype(np.float64) ** 2).sum(axis=1)
        left = np.cumsum(power[::-1])[::-1]
        at = np.arange(left.size) / RATE
        axes.plot(at[::200], db(np.sqrt(left / left[0]))[::200], color=ink, label=f"decay {decay_s} s")
        axes.plot([decay_s], [-60], "o", color=ink)
    axes.set_ylim(-80, 3)
    axes.legend(frameon=False, fontsize=8)
    keep(figure, "reverb", MOVES)

    figure, axes = sheet("Sub layer: 55 Hz opened within 8 ms, nothing above 1 kHz", "Hz", "dB")
    for ink, opened_by in zip(INKS, ("hits", "gate"), strict=False):
        move = SubLayer(id="m", hz=55, opened_by=opened_by, attack_ms=8, release_ms=8, length_ms=120)
        axes.plot(
            *spectrum_db(layer_of(move, struck([-6, -6, -6])), RATE),
            color=ink,
            linewidth=0.8,
            label=f"by {'hits' if opened_by == 'hits' else 'a level'}",
        )
    axes.axhline(-60, color="#5d584f", linewidth=1, linestyle="--")
    axes.set_ylim(-140, 5)
    hertz(axes)
    axes.set_xlim(20, 20_000)
    axes.legend(frameon=False, fontsize=8)
    keep(figure, "sub-layer", MOVES)

    figure, axes = sheet("Contrast EQ, 70 % apart, 9 dB at most: asked and applied", "Hz", "dB")
    flat = np.full(TONE_HZ.size, -40.0)
    one, other = flat + hump(200, 12, 0.5), flat + hump(1500, 9)
    move = contrast(one, other, amount=-0.7, most_db=9, low_hz=40, high_hz=16_000)
    axes.plot(TONE_HZ, asked_db(move, RATE), color=INKS[0], linestyle="--", label="asked")
    at, found = pulse_response_db(move, RATE, frames=1 << 18)
    axes.plot(TONE_HZ, np.interp(TONE_HZ, at, found), color=INKS[1], linewidth=1, label="applied")
    hertz(axes)
    axes.legend(frameon=False, fontsize=8)
    keep(figure, "contrast-eq", MOVES)


def nulls() -> None:
    """What is left of a sound that a move should let pass."""
    figure, axes = sheet("Nulls: what is left of noise where a move does nothing", "", "dB")
    sound = noise(1.0, 0.2)
    idle = {
        "width 100 %": Width(id="m", width=1.0),
        "saturation, mix 0": Saturation(id="m", mix=0.0),
        "linear split": Multiband(id="m", phase="linear", bands=[{"on": False}, {"on": False}]),
        "spectral duck": SpectralDuck(id="m", depth_db=0),
        "dynamic EQ": DynamicEq(id="m", bands=[{"range_db": -12, "threshold_db": 0}]),
    }
    names, left_db = [], []
    for name, move in idle.items():
        processor = at_work(move, RATE, 2)
        late = processor.latency
        padded = np.concatenate([sound, np.zeros((late, 2), np.float32)])
        away = processor.process(padded, padded * 0)[late:] - sound
        names.append(name)
        left_db.append(float(20 * np.log10(max(np.abs(away).max() / np.abs(sound).max(), 1e-9))))
    axes.barh(names, [180 + one for one in left_db], left=-180, color=INKS[0])
    axes.axvline(-120, color="#5d584f", linewidth=1, linestyle="--")
    keep(figure, "nulls", MOVES)


def main() -> None:
    HEARING.mkdir(parents=True, exist_ok=True)
    MOVES.mkdir(parents=True, exist_ok=True)
    mpl.rcParams["svg.hashsalt"] = "pondel"
    for plot in (
        equal_loudness,
        growth,
        critical_ratios,
        spread,
        masked_thresholds,
        shares,
        headlines,
        dated,
        moves,
        treatments,
        nulls,
    ):
        plot()


if __name__ == "__main__":
    main()
