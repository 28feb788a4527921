"""EQ: bands with the magnitude of the analogue prototype, each somewhere in the stereo field."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal

import numpy as np

from pondel.core.dsp.cascade import Cascade, settle_s
from pondel.core.dsp.decibels import to_amplitude
from pondel.core.dsp.fold import Fold
from pondel.core.dsp.limits import finite
from pondel.core.dsp.matched import biquads, butterworth_cut, response
from pondel.core.dsp.moving import still_q
from pondel.core.dsp.tone import PINK, TONE_HZ, Tone
from pondel.core.model import Model
from pondel.core.moves.amounts import amount_for
from pondel.core.moves.base import MoveBase, MoveKind, Place, Trace
from pondel.core.moves.describe import choice, decibels, frequency, items, placement, sharpness
from pondel.core.moves.fight import Fight, Start
from pondel.core.moves.picture import Factor, Handle, Picture, angles, band_handle
from pondel.core.moves.placement import FOLDED, Placement
from pondel.core.units import say, say_hz

SHAPES = {
    "bell": "bell",
    "low shelf": "low shelf",
    "high shelf": "high shelf",
    "low cut": "low cut",
    "high cut": "high cut",
    "notch": "notch",
    "band-pass": "band-pass",
    "tilt": "tilt",
}
TILT_Q = 0.32
GAINING = ("bell", "low shelf", "high shelf", "tilt")
MOST_BANDS = 24
# Matching moves the level no further than the output can by hand.
MOST_OUTPUT_DB = 24.0


class EqBand(Model):
    """One band."""

    on: bool = True
    shape: Literal[
        "bell", "low shelf", "high shelf", "low cut", "high cut", "notch", "band-pass", "tilt"
    ] = choice("Shape", default="bell", labels=SHAPES, help="What the band does.")
    hz: float = frequency("Frequency", 1000.0, 10, 20000, "Centre of a bell, corner of a shelf or cut.")
    gain_db: float = decibels(
        "Gain", 0.0, -30, 30, "Of bells, shelves and tilt.", shown_when=("shape", *GAINING)
    )
    q: float = sharpness(
        1.0,
        0.1,
        40,
        "Sharpness of bells, notches and band-passes, and the bend of shelves (up to 1).",
        shown_when=("shape", "bell", "low shelf", "high shelf", "notch", "band-pass"),
    )
    slope_db_oct: Literal[6, 12, 18, 24, 30, 36, 48, 72, 96] = choice(
        "Slope",
        default=12,
        labels={str(n): f"{n} dB/oct" for n in (6, 12, 18, 24, 30, 36, 48, 72, 96)},
        help="Steepness of cuts.",
        shown_when=("shape", "low cut", "high cut"),
    )
    placement: Placement = placement()


def _first_bands() -> list[EqBand]:
    return [EqBand(hz=250.0)]


class Eq(MoveBase):
    """Parameters of the EQ."""

    kind: Literal["eq"] = "eq"
    bands: list[EqBand] = items(
        "Bands", least=0, most=MOST_BANDS, first=_first_bands, help="In the order they act."
    )
    output_db: float = decibels(
        "Output", 0.0, -MOST_OUTPUT_DB, MOST_OUTPUT_DB, "Level after all bands."
    )
    level_match: bool = choice(
        "Same loudness",
        default=False,
        help="Takes back what the bands, where they act, do to the loudness of this part.",
    )


def band_biquads(band: EqBand, rate: int) -> np.ndarray:
    """A band as second-order sections, (sections, 6); none when it is off or does nothing."""
    if not band.on:
        return np.zeros((0, 6))
    if band.shape in ("low cut", "high cut"):
        return butterworth_cut(band.shape, band.hz, band.slope_db_oct, rate)  # type: ignore[arg-type]
    if band.shape in ("notch", "band-pass"):
        return biquads(band.shape, band.hz, 0.0, band.q, rate)  # type: ignore[arg-type]
    if band.gain_db == 0.0:
        return np.zeros((0, 6))
    if band.shape == "tilt":
        sos = biquads("high shelf", band.hz, band.gain_db, TILT_Q, rate).copy()
        sos[0, :3] *= to_amplitude(-band.gain_db / 2.0)
        return sos
    return biquads(band.shape, band.hz, band.gain_db, still_q(band.shape, band.q), rate)  # type: ignore[arg-type]


def response_db(bands: list[EqBand], hz: np.ndarray, rate: int) -> np.ndarray:
    """Magnitude in dB of all bands together at frequencies in Hz, as if all acted alike."""
    w = 2.0 * np.pi * np.asarray(hz) / rate
    rows = [band_biquads(band, rate) for band in bands]
    total = response(np.concatenate([np.zeros((0, 6)), *rows]), w)
    return 20.0 * np.log10(np.maximum(np.abs(total), 1e-10))


FOLD = np.array([[0.5, 0.5], [0.5, -0.5]])
UNFOLD = np.array([[1.0, 1.0], [1.0, -1.0]])


def _matrix(bands: list[EqBand], hz: np.ndarray, rate: int, is_mono: bool) -> np.ndarray:
    """Left and right after all bands, of left and right before: complex (frequencies, 2, 2)."""
    w = 2.0 * np.pi * np.minimum(hz, 0.49 * rate) / rate
    total = np.tile(np.eye(2, dtype=complex), (hz.size, 1, 1))
    for band in bands:
        placement = band.placement
        if is_mono and placement in ("middle", "left"):
            placement = "both"
        if is_mono and placement != "both":
            continue
        gain = response(band_biquads(band, rate), w)
        diagonal = np.ones((hz.size, 2), complex)
        if placement == "both":
            diagonal[:] = gain[:, None]
        else:
            diagonal[:, 0 if placement in ("middle", "left") else 1] = gain
        step = np.einsum("fi,ij->fij", diagonal, np.eye(2))
        if placement in ("middle", "sides"):
            step = UNFOLD @ step @ FOLD
        total = step @ total
    return total


def matching_db(bands: list[EqBand], rate: int, tone: Tone = PINK) -> float:
    """What the bands, where they act, do to the loudness of a sound with a tone (K-weighted), in dB."""
    matrix = _matrix(bands, TONE_HZ, rate, is_mono=not tone.right.any())
    return tone.loudness_change_db(matrix, rate)


def output_gain_db(move: Eq, rate: int, tone: Tone = PINK) -> float:
    """The gain after all bands; matching adds or takes up to MOST_OUTPUT_DB."""
    if not move.level_match:
        return move.output_db
    matching = min(max(matching_db(move.bands, rate, tone), -MOST_OUTPUT_DB), MOST_OUTPUT_DB)
    return move.output_db - matching


NO_SECTION = np.zeros((0, 6))
PlacedSections = tuple[Placement, np.ndarray]


def _cascades(bands: list[EqBand], rate: int, channels: int) -> list[Cascade]:
    """Neighbouring bands as one cascade, as long as they act on left and right or on middle and sides.

    A mono sound is all middle and all left, and has neither sides nor right.
    """
    live = [(band.placement, sos) for band in bands if (sos := band_biquads(band, rate)).shape[0]]
    if channels == 1:
        heard = [sos for placed, sos in live if placed not in ("sides", "right")]
        return [Cascade(np.concatenate(heard), 1)] if heard else []
    found: list[Cascade] = []
    for folds, group in _grouped(live):
        first, second = ("middle", "sides") if folds else ("left", "right")
        each = [
            np.concatenate([NO_SECTION, *(sos for placed, sos in group if placed in ("both", side))])
            for side in (first, second)
        ]
        found.append(Cascade.of_two(*each, folds=folds))
    return found


def _grouped(live: list[PlacedSections]) -> Iterator[tuple[bool, list[PlacedSections]]]:
    """Bands in a row that go together, and whether they act on middle and sides."""
    folds = False
    group: list[PlacedSections] = []
    for placed, sos in live:
        wants = placed in FOLDED if placed != "both" else folds
        if group and wants != folds and any(other != "both" for other, _ in group):
            yield folds, group
            group = []
        folds = wants
        group.append((placed, sos))
    if group:
        yield folds, group


class EqProcessor:
    """The EQ at work."""

    latency = 0

    def __init__(self, move: Eq, rate: int, channels: int, on_trace: Trace | None = None) -> None:
        self._cascades = _cascades(move.bands, rate, channels)
        self._move, self._rate = move, rate
        self._gain = np.float32(to_amplitude(output_gain_db(move, rate)))

    def start_at(self, place: Place) -> None:
        """Match the level to what the bands do to the part they stand on."""
        if self._move.level_match:
            matched = output_gain_db(self._move, self._rate, place.tone())
            self._gain = np.float32(to_amplitude(matched))

    def process(self, block: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        if not self._cascades:
            block = finite(block)
        for cascade in self._cascades:
            block = cascade.process(block)
        return block * self._gain if self._gain != 1.0 else block


def _settle_s(move: Eq) -> float:
    return sum(settle_s(band_biquads(band, 48000), 48000) for band in move.bands)


def band_in_brief(band: EqBand) -> str:
    where = "" if band.placement == "both" else f" {band.placement}"
    if band.shape in ("low cut", "high cut", "notch", "band-pass"):
        return f"{band.shape} {say_hz(band.hz)}{where}"
    return f"{band.shape} {say_hz(band.hz)} {say(band.gain_db, 'dB')}{where}"


def _in_brief(move: Eq) -> str:
    shown = [band_in_brief(band) for band in move.bands if band.on]
    return ", ".join(shown[:3]) + (" …" if len(shown) > 3 else "") if shown else "no band"


MARKS = {"middle": "M", "sides": "S", "left": "L", "right": "R"}


def _handle(n: int, band: EqBand) -> Handle:
    gains = band.shape in GAINING
    return band_handle(
        n,
        band,
        db=band.gain_db if gains else None,
        db_field="gain_db" if gains else None,
        bent=band.shape not in ("low cut", "high cut", "tilt"),
        of="" if band.placement == "both" else f", {band.placement}",
        mark=MARKS.get(band.placement, ""),
    )


def _picture(move: Eq, hz: np.ndarray, rate: int, tone: Tone = PINK) -> Picture:
    w = angles(hz, rate)
    factors = [Factor(response(band_biquads(band, rate), w)) for band in move.bands if band.on]
    output = np.full(hz.size, to_amplitude(output_gain_db(move, rate, tone)), complex)
    return Picture([*factors, Factor(output)], [_handle(n, band) for n, band in enumerate(move.bands)])


def _start(fight: Fight) -> Start:
    """A gentle cut of the yielder where the leader matters."""
    amount, q = amount_for(fight, "cut"), round(fight.zone_q, 2)
    band = {"hz": round(fight.centre_hz, 1), "gain_db": -amount.wanted_db, "q": q}
    return Start(
        {"kind": "eq", "bands": [band]},
        [f"Bell at {say_hz(fight.centre_hz)}, Q {q:g}: as wide as {fight.zone}.", amount.why],
    )


HELD_SHARE = 0.44
"""Of the rate: a centre above it used to be held there."""


def _fold(move: Eq) -> Fold:
    places = {band.placement for band in move.bands if band_biquads(band, 48000).shape[0]}
    if places == {"middle"}:
        return "middle"
    return "sides" if places == {"sides"} else "both"


def _since_form_2_db(move: Eq, rate: int) -> float:
    """Matching used to take all bands as if they acted on left and right, on pink noise.

    What it makes of this part is not known here; a mono one and a wide one bound it.
    """
    hz = np.geomspace(20.0, 18_000.0, 200)
    held = [
        band.model_copy(update={"hz": HELD_SHARE * rate}) if band.hz > HELD_SHARE * rate else band
        for band in move.bands
    ]
    moved = np.abs(response_db(move.bands, hz, rate) - response_db(held, hz, rate)).max()
    if not move.level_match:
        return float(moved)
    wide = Tone(PINK.left, PINK.left, PINK.common)
    everywhere = [band.model_copy(update={"placement": "both"}) for band in move.bands]
    before = matching_db(everywhere, rate)
    return max(
        float(moved), *(abs(matching_db(move.bands, rate, one) - before) for one in (PINK, wide))
    )


KIND = MoveKind(
    name="eq",
    title="EQ",
    summary="Bells, shelves, cuts and notches, on the middle, the sides or either channel.",
    place=1,
    params=Eq,
    picture=_picture,
    by_tone=True,
    start=_start,
    make=EqProcessor,
    settle_s=_settle_s,
    rings_s=_settle_s,
    since_form_2_db=_since_form_2_db,
    fold=_fold,
    begins_by_role=True,
    is_still=lambda move: True,
    in_brief=_in_brief,
    warmed_by=({"bands": [{"gain_db": -3}, {"shape": "low cut"}]},),
)
