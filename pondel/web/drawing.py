"""Pictures of a move to take along, as SVG and PNG in the look of the screen: its response, one hit."""

from __future__ import annotations

import io
import re
import threading
from collections.abc import Callable
from functools import lru_cache
from typing import Any

import matplotlib as mpl
import numpy as np
from matplotlib import font_manager
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from pondel.core.document import Part, Session
from pondel.core.engine.graph import part_tone
from pondel.core.errors import BadDocument
from pondel.core.measured import part_spectrum
from pondel.core.measures.spectrum import axis_hz
from pondel.core.moves.picture import at_full, at_rest
from pondel.core.moves.registry import kind_of
from pondel.web.context import Stretch, desk
from pondel.web.ink import Inked, inked
from pondel.web.moves import averaged_hit
from pondel.web.shipped import SHIPPED

INCHES, DOTS_PER_INCH = (8.0, 3.6), 200
LEVEL_SPAN_DB, GAIN_DB = 60.0, 24.0
HIT_SPAN_DB = 48.0
LABELLED_HZ = {20: "20", 50: "50", 100: "100", 200: "200", 500: "500"} | {
    1000 * n: f"{n}k" for n in (1, 2, 5, 10, 20)
}
_drawing = threading.Lock()


@lru_cache(maxsize=2)
def colours(sheet: str) -> dict[str, str]:
    """The colours of a sheet by their names, as the screens have them."""
    styles = (SHIPPED / "css" / "app.css").read_text()
    rules = {"day": r":root\{(color-scheme:light[^}]*)\}", "night": r"data-sheet=night\]\{([^}]*)\}"}
    found = re.search(rules[sheet], styles)
    if found is None:
        raise AssertionError("the styles have no sheets")
    return dict(re.findall(r"--([a-z0-9-]+):(#[0-9a-f]{3,8})", found[1]))


@lru_cache(maxsize=1)
def _faces() -> tuple[str, str]:
    """The families for words and for numbers."""
    names = []
    for file in ("atkinson-hyperlegible-next-regular.ttf", "martian-mono-regular.ttf"):
        path = SHIPPED / "fonts" / file
        font_manager.fontManager.addfont(path)
        names.append(font_manager.FontProperties(fname=path).get_name())
    return names[0], names[1]


def _dash(mark: Inked) -> Any:
    return (0, tuple(float(n) for n in mark.dash.split())) if mark.dash else "-"


def picture(draw: Callable[[Figure, dict[str, str]], None], sheet: str, ending: str) -> bytes:
    """What `draw` draws, as the bytes of a file."""
    words, numbers = _faces()
    ink = colours(sheet)
    look: dict[Any, Any] = {
        "font.family": [words, "DejaVu Sans"],
        "font.size": 9,
        "svg.fonttype": "none",
        "svg.hashsalt": "pondel",
        # A name is a name, whatever signs stand in it.
        "text.parse_math": False,
        "text.color": ink["ink"],
        "axes.edgecolor": ink["rule2"],
        "axes.facecolor": ink["sheet"],
        "axes.labelcolor": ink["soft"],
        "xtick.color": ink["rule2"],
        "ytick.color": ink["rule2"],
        "xtick.labelcolor": ink["soft"],
        "ytick.labelcolor": ink["soft"],
        "axes.spines.top": False,
        "axes.spines.right": False,
        "grid.color": ink["rule"],
        "legend.frameon": False,
        "axes.unicode_minus": True,
    }
    # The look is the library's own state, and not a thread's.
    with _drawing, mpl.rc_context(look):
        figure = Figure(INCHES, facecolor=ink["sheet"], layout="constrained")
        draw(figure, ink)
        for axes in figure.axes:
            for label in [*axes.get_xticklabels(), *axes.get_yticklabels()]:
                label.set_fontfamily(numbers)
                label.set_fontsize(7.5)
        file = io.BytesIO()
        figure.savefig(
            file, format=ending, dpi=DOTS_PER_INCH, metadata={"Date": None} if ending == "svg" else {}
        )
    return file.getvalue()


def _in_legend(name: str) -> str:
    """A name as a legend shows it: one that begins with a line would be left out."""
    return f" {name}" if name.startswith("_") else name


def _frequencies(axes: Axes) -> None:
    axes.set_xscale("log")
    axes.set_xlim(20, 20_000)
    axes.set_xticks(list(LABELLED_HZ), list(LABELLED_HZ.values()))
    axes.set_xticks([], minor=True)
    axes.set_xlabel("frequency, Hz")
    axes.grid(visible=True, linewidth=0.6)


def response_picture(
    document: Session, part: Part, move: Any, leader: Part | None, stretch: Stretch
) -> Callable[[Figure, dict[str, str]], None]:
    """The response of a move, with the spectra of its part and of what it follows."""
    hz, marks = axis_hz(), inked(document)
    drawn = kind_of(move.kind).drawn(move, hz, document.rate, part_tone(document, desk().media, part))
    gains = [
        20 * np.log10(np.maximum(np.abs(drawn.gain(how, hz.size)), 1e-6)) for how in (at_rest, at_full)
    ]
    where = stretch.start, stretch.frames
    spectra = [("before", part_spectrum(desk().untreated(document), part.id, *where), part, 0.45)]
    spectra.append(("after", part_spectrum(desk().now(document), part.id, *where), part, 1.0))
    if leader is not None:
        spectra.append(("", part_spectrum(desk().now(document), leader.id, *where), leader, 1.0))

    def draw(figure: Figure, ink: dict[str, str]) -> None:
        axes = figure.subplots()
        _frequencies(axes)
        top_db = 6 * np.ceil((max(levels.max() for _, levels, *_ in spectra) + 3) / 6)
        axes.set_ylim(top_db - LEVEL_SPAN_DB, top_db)
        axes.set_ylabel("level, dBFS")
        for when, levels, one, alpha in spectra:
            mark = marks[one.id]
            axes.plot(
                hz,
                levels,
                color=ink[f"ink-{mark.ink}"],
                linestyle="-" if alpha < 1 else _dash(mark),
                linewidth=1.0 if alpha < 1 else 1.5,
                alpha=alpha,
                label=_in_legend(f"{one.name}, {when}" if when else one.name),
            )
        right = axes.twinx()
        right.spines["right"].set_visible(True)
        right.set_ylim(-GAIN_DB, GAIN_DB)
        right.set_yticks(range(-24, 25, 6))
        right.set_ylabel("gain, dB")
        right.plot(hz, gains[0], color=ink["ink"], linewidth=1.6, label="gain at rest")
        if np.abs(gains[1] - gains[0]).max() > 0.01:
            right.plot(
                hz,
                gains[1],
                color=ink["ink"],
                linewidth=1.2,
                linestyle=(0, (4, 3)),
                label="as far as it goes",
            )
        _titled(figure, f"{part.name}: {kind_of(move.kind).title}", [axes, right])

    return draw


def hit_picture(
    document: Session, part: Part, move: Any, leader: Part, stretch: Stretch
) -> Callable[[Figure, dict[str, str]], None]:
    """One hit of what a move follows, averaged: levels above, the move's gain below."""
    found, marks = averaged_hit(document, part, move, leader, stretch), inked(document)
    if found["leader"] is None:
        raise BadDocument("no hit lies whole inside the loop", where=leader.name)

    def draw(figure: Figure, ink: dict[str, str]) -> None:
        upper, lower = figure.subplots(2, 1, sharex=True)
        rows = [(leader, "leader", 1.0), (part, "before", 0.45), (part, "after", 1.0)]
        ms = 1000 * (np.arange(len(found["leader"]["mean"])) * found["step_s"] - found["before_s"])
        top_db = max(max(found[name]["mean"]) for _, name, _ in rows) + 3
        upper.set_ylim(top_db - HIT_SPAN_DB, top_db)
        upper.set_ylabel("peak level, dB")
        for one, name, alpha in rows:
            mark = marks[one.id]
            label = one.name if name == "leader" else f"{one.name}, {name}"
            style = {"color": ink[f"ink-{mark.ink}"], "alpha": alpha, "label": label}
            upper.plot(ms, found[name]["mean"], linestyle=_dash(mark) if alpha == 1 else "-", **style)
        if found["gain"]:
            step_ms = 1000 * found["trace_step_s"]
            at = np.arange(len(found["gain"]["mean"])) * step_ms - 1000 * found["before_s"]
            lower.fill_between(
                at,
                found["gain"]["low"],
                found["gain"]["high"],
                color=ink["rule2"],
                alpha=0.5,
                linewidth=0,
                label="spread over the hits",
            )
            lower.plot(
                at, found["gain"]["mean"], color=ink["ink"], linewidth=1.5, label=found["gain_is"]
            )
        lower.set_ylim(top=max(1.0, lower.get_ylim()[1]))
        lower.set_ylabel(f"{found['gain_is']}, dB")
        lower.set_xlabel("time after the hit, ms")
        lower.set_xlim(ms[0], ms[-1])
        for axes in (upper, lower):
            axes.grid(visible=True, linewidth=0.6)
            axes.axvline(0, color=ink["edge"], linewidth=0.8)
        title = f"{part.name}: {kind_of(move.kind).title}, {found['hits']} hits of {leader.name}"
        _titled(figure, title, [upper, lower])

    return draw


def _titled(figure: Figure, title: str, every: list[Axes]) -> None:
    figure.suptitle(title, x=0.01, ha="left", fontsize=11)
    lines = [line for axes in every for line in zip(*axes.get_legend_handles_labels(), strict=True)]
    figure.legend(*zip(*lines, strict=True), loc="outside lower left", ncols=len(lines), fontsize=8)
