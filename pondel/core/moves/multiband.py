"""Multiband compressor: two to six bands, each a compressor of its own, that add up flat when idle."""

from __future__ import annotations

import math
from dataclasses import fields
from typing import Annotated, Any, Literal, Self

import numpy as np
from pydantic import Field, model_validator

from pondel.core.dsp import filters
from pondel.core.dsp.cascade import Cascade
from pondel.core.dsp.crossover import (
    AllPass,
    Crossover,
    LinearCrossover,
    band_biquads,
    crossover_settle_s,
    linear_kernels,
)
from pondel.core.dsp.delay import DelayLine
from pondel.core.dsp.matched import response
from pondel.core.dsp.squeeze import BandSqueeze, Squeezer, applied_db
from pondel.core.dsp.squeeze import settle_s as squeeze_settle_s
from pondel.core.errors import BadDocument
from pondel.core.model import Model
from pondel.core.moves.amounts import amount_for
from pondel.core.moves.base import Action, MoveBase, MoveKind, Trace
from pondel.core.moves.describe import (
    Key,
    Ratio,
    attack,
    choice,
    frequency,
    high_cut,
    hold,
    items,
    knee,
    low_cut,
    makeup,
    mix,
    numbers,
    placement,
    ratio,
    reach,
    release,
    stereo_link,
    threshold,
)
from pondel.core.moves.fight import Fight, Start
from pondel.core.moves.picture import Factor, Handle, MovingGain, Picture, angles
from pondel.core.moves.placement import Placement
from pondel.core.moves.starting import RANGE, Timing, around, band_share, fitted, key_of
from pondel.core.units import say, say_hz

MOST_BANDS = 6
MOST_TOLD = 2
LEAST_SHARE = 0.7
LINEAR_S = 0.2
LOWEST_HZ, HIGHEST_HZ = 20.0, 20_000.0


class Band(Model):
    """One band's compressor; `on` off leaves the band as it is."""

    on: bool = True
    solo: bool = choice("Hear alone", default=False, help="Only the bands heard alone are heard.")
    threshold_db: float = threshold(-30.0)
    ratio: Ratio = ratio()
    knee_db: float = knee()
    attack_ms: float = attack()
    hold_ms: float = hold()
    release_ms: float = release()
    range_db: float = reach(12.0)
    makeup_db: float = makeup()
    mix: float = mix()
    key_low_cut_hz: float | None = low_cut("Key low cut", "what this band listens to")
    key_high_cut_hz: float | None = high_cut("Key high cut", "what this band listens to")


def _first_bands() -> list[Band]:
    return [Band(), Band(on=False)]


Cut = Annotated[float, Field(ge=20, le=18000)]


class Multiband(MoveBase):
    """Parameters of the multiband compressor: one crossover fewer than bands, rising."""

    kind: Literal["multiband"] = "multiband"
    key: Key | None = None
    crossovers_hz: list[Cut] = numbers(
        "Crossover",
        first=lambda: [120.0],
        each=frequency("Crossover", 120.0, 20, 18_000, "Where one band ends and the next begins."),
        help="Between the bands, rising.",
    )
    bands: list[Band] = items(
        "Bands", least=2, most=MOST_BANDS, first=_first_bands, help="Lowest first.", grows=False
    )
    listens: Literal["whole", "same band"] = choice(
        "Bands listen to",
        default="whole",
        labels={"whole": "all of the key", "same band": "the same band of it"},
        help="What of the key each band's detector hears. Without a key a band hears itself.",
    )
    phase: Literal["minimum", "linear"] = choice(
        "Split",
        default="minimum",
        labels={"minimum": "minimum phase", "linear": "linear phase"},
        help="Linear phase adds latency, which is made up for, and rings a little before hits.",
    )
    stereo_link: bool = stereo_link()

    placement: Placement = placement()

    @model_validator(mode="after")
    def _fits(self) -> Self:
        if len(self.crossovers_hz) != len(self.bands) - 1:
            raise ValueError("there is one crossover fewer than there are bands")
        if any(b <= a * 1.02 for a, b in zip(self.crossovers_hz, self.crossovers_hz[1:], strict=False)):
            raise ValueError("crossovers rise, each at least 2 % above the last")
        return self


def band_squeeze(band: Band) -> BandSqueeze:
    """The band's settings as a compressor's, with a peak detector that does not look ahead."""
    return BandSqueeze(**{one.name: getattr(band, one.name) for one in fields(BandSqueeze) if one.init})


def _key_filter(band: Band, rate: int) -> np.ndarray:
    rows = [np.zeros((0, 6))]
    if band.key_low_cut_hz is not None:
        rows.append(filters.low_cut(band.key_low_cut_hz, 12, rate))
    if band.key_high_cut_hz is not None:
        rows.append(filters.high_cut(band.key_high_cut_hz, 12, rate))
    return np.concatenate(rows)


class MultibandProcessor:
    """Splits, compresses and adds up; bands that are off only pass the crossover."""

    def __init__(
        self, move: Multiband, rate: int, channels: int, on_trace: Trace | None = None
    ) -> None:
        self._move, self._rate = move, rate
        split = LinearCrossover if move.phase == "linear" else Crossover
        self._crossover = split(move.crossovers_hz, rate, channels)
        self.latency = self._crossover.latency
        self._key_crossover: Crossover | None = None
        self._key_delay: DelayLine | None = None
        self._on_trace = on_trace
        self._band_trace: np.ndarray = np.empty(0, np.float32)
        note = self._note if on_trace is not None else None
        self._compressors = [
            Squeezer(band_squeeze(band), rate, channels, note, linked=move.stereo_link)
            for band in move.bands
        ]
        self._filters: list[Cascade | None] = [None] * len(move.bands)
        solos = [band.solo for band in move.bands]
        self._heard = solos if any(solos) else [True] * len(solos)

    def _note(self, values: np.ndarray) -> None:
        self._band_trace = values

    def process(self, block: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        parts = self._crossover.split(np.ascontiguousarray(block, np.float32))
        keys = self._keys(parts, key)
        total: np.ndarray | None = None
        deepest = np.zeros(block.shape[0], np.float32)
        for n, band in enumerate(self._move.bands):
            treated = parts[n]
            if band.on:
                treated = self._compressors[n].process(treated, keys[n])
            if self._on_trace is not None:
                told = self._band_trace if band.on else np.zeros_like(deepest)
                deepest = np.where(np.abs(told) > np.abs(deepest), told, deepest)
                self._on_trace(told, n)
            if not self._heard[n]:
                continue
            if total is None:
                total = treated
            else:
                total += treated
        if self._on_trace is not None:
            self._on_trace(deepest)
        assert total is not None
        return total

    def _keys(self, parts: list[np.ndarray], key: np.ndarray | None) -> list[np.ndarray | None]:
        if key is None:
            heard = list(parts)
        else:
            key = self._delayed(np.ascontiguousarray(key, np.float32))
            if self._move.listens == "whole":
                heard = [key] * len(parts)
            else:
                if self._key_crossover is None:
                    self._key_crossover = Crossover(self._move.crossovers_hz, self._rate, key.shape[1])
                heard = self._key_crossover.split(key)
        return [self._filtered(n, one) for n, one in enumerate(heard)]

    def _delayed(self, key: np.ndarray) -> np.ndarray:
        if not self.latency:
            return key
        if self._key_delay is None:
            self._key_delay = DelayLine(self.latency, key.shape[1])
        return self._key_delay.push(key)

    def _filtered(self, n: int, heard: np.ndarray) -> np.ndarray:
        found = self._filters[n]
        if found is None:
            found = Cascade(_key_filter(self._move.bands[n], self._rate), heard.shape[1])
            self._filters[n] = found
        return found.process(heard)


def _in_phase(move: Multiband, rate: int, channels: int) -> AllPass | None:
    return None if move.phase == "linear" else AllPass(move.crossovers_hz, rate, channels)


def _split_s(move: Multiband) -> float:
    """Seconds for the crossovers to forget their past."""
    linear = LINEAR_S if move.phase == "linear" else 0.0
    return crossover_settle_s(move.crossovers_hz) + linear


def _settle_s(move: Multiband) -> float:
    slowest = 0.0
    for band in move.bands:
        cuts = [cut for cut in (band.key_low_cut_hz, band.key_high_cut_hz) if cut is not None]
        own = squeeze_settle_s(band_squeeze(band)) if band.on else 0.0
        slowest = max(slowest, own + sum(filters.settle_s(cut, 12) for cut in cuts))
    return _split_s(move) + slowest


def _in_brief(move: Multiband) -> str:
    edges = [None, *move.crossovers_hz, None]
    live = [
        f"{_between(*edges[n : n + 2])}: {_in_short(band)}"
        for n, band in enumerate(move.bands)
        if band.on
    ]
    if 0 < len(live) <= MOST_TOLD:
        return " · ".join(live)
    places = " · ".join(say_hz(hz) for hz in move.crossovers_hz)
    return f"{len(move.bands)} bands at {places}, {len(live)} on"


def _between(low_hz: float | None, high_hz: float | None) -> str:
    """Where a band lies, in words."""
    if low_hz is None or high_hz is None:
        return f"below {say_hz(high_hz)}" if high_hz is not None else f"above {say_hz(low_hz or 0.0)}"
    return f"{say_hz(low_hz)} to {say_hz(high_hz)}"


def _in_short(band: Band) -> str:
    return f"{say(band.threshold_db, 'dB')}, {say(band.ratio, ':1')}, back in {band.release_ms:.0f} ms"


def _band_responses(move: Multiband, hz: np.ndarray, rate: int) -> np.ndarray:
    """What each band passes, against the sum of all bands: complex (bands, frequencies)."""
    w = angles(hz, rate)
    if move.phase == "linear":
        kernels = linear_kernels(tuple(move.crossovers_hz), rate)
        middle = kernels.shape[1] // 2
        turns = np.cos(np.outer(np.arange(kernels.shape[1]) - middle, w))
        return (kernels @ turns).astype(complex)
    parts = np.array([response(sos, w) for sos in band_biquads(list(move.crossovers_hz), rate)])
    return parts / parts.sum(axis=0)


def _picture(move: Multiband, hz: np.ndarray, rate: int) -> Picture:
    soloed = any(band.solo for band in move.bands)
    still = np.zeros(hz.size, complex)
    moving = []
    for n, (band, passed) in enumerate(zip(move.bands, _band_responses(move, hz, rate), strict=True)):
        if soloed and not band.solo:
            continue
        if not band.on:
            still = still + passed
            continue
        rest_db, full_db = applied_db(band_squeeze(band), np.array([0.0, band.range_db]))
        still = still + passed * 10.0 ** (rest_db / 20.0)
        moving.append(MovingGain(f"/{n}", passed, float(full_db), float(rest_db)))
    handles = [
        Handle(f"crossover {n + 1}", cut, f"crossovers_hz.{n}")
        for n, cut in enumerate(move.crossovers_hz)
    ]
    return Picture([Factor(still, moving)], handles)


def _start(fight: Fight) -> Start:
    """Duck only the band of the fight; what lies above and below stays untouched."""
    amount = amount_for(fight, "band")
    low, high = around(fight.low_hz, fight.high_hz)
    if fight.is_low:
        cut = high
        words = f"the zone, {fight.zone}, gives way up to its edge"
        if fight.home is not None and fight.home.crossover_hz < cut:
            words += f"; nine tenths of {fight.leader.name} lie below it"
        crossovers, ducked = [round(cut, 1)], 0
        reason = f"Crossover {say_hz(cut)}: {words}. Above it nothing changes."
    else:
        crossovers, ducked = [round(low, 1), round(high, 1)], 1
        edges = f"{say_hz(crossovers[0])} and {say_hz(crossovers[1])}"
        reason = f"Crossovers {edges}: the zone, {fight.zone}, gives way up to its edges."

    share = band_share(fight, None if fight.is_low else low, high, amount.wanted_db)
    band_db = amount.wanted_db / max(share, LEAST_SHARE)

    def settings_at(threshold_db: float, timing: Timing) -> dict[str, Any]:
        bands: list[dict[str, Any]] = [{"on": False} for _ in range(len(crossovers) + 1)]
        bands[ducked] = {
            "on": True,
            "threshold_db": threshold_db,
            "ratio": 6.0 if fight.firm else 4.0,
            "range_db": round(RANGE * band_db, 1),
            **timing.values("attack_ms", "hold_ms", "release_ms", "knee_db"),
        }
        return {
            "kind": "multiband",
            "key": key_of(fight),
            "crossovers_hz": crossovers,
            "bands": bands,
            "listens": "same band",
        }

    found = fitted(fight, Multiband, MultibandProcessor, settings_at, band_db)
    wanted = f"{amount.why} The band goes to {say(band_db, 'dB')}, which is that much over its zone."
    listens = f"The band listens to the same band of {fight.leader.name}."
    return Start(found.settings, [reason, wanted, *found.why(fight), listens])


def _split(settings: dict[str, Any], index: int) -> None:
    """Split a band in the middle of it, on a logarithmic axis, into two alike."""
    cuts = settings["crossovers_hz"]
    edges = [LOWEST_HZ, *cuts, HIGHEST_HZ]
    if not 0 <= index < len(settings["bands"]):
        raise BadDocument("there is no such band")
    cuts.insert(index, round(math.sqrt(edges[index] * edges[index + 1]), 1))
    settings["bands"].insert(index + 1, {**settings["bands"][index], "solo": False})


def _join(settings: dict[str, Any], index: int) -> None:
    """Take the crossover above a band away; the band above it goes."""
    if not 0 <= index < len(settings["crossovers_hz"]):
        raise BadDocument("there is no such crossover")
    settings["crossovers_hz"].pop(index)
    settings["bands"].pop(index + 1)


def _item_words(move: Multiband, index: int) -> str:
    edges = [LOWEST_HZ, *move.crossovers_hz, HIGHEST_HZ]
    return f"{say_hz(edges[index])} to {say_hz(edges[index + 1])}"


KIND = MoveKind(
    name="multiband",
    title="Multiband compressor",
    summary="Compresses or ducks some bands and leaves the others as they are.",
    place=4,
    params=Multiband,
    picture=_picture,
    start=_start,
    fits_slowly=True,
    actions=(
        Action(
            "split",
            "Split",
            _split,
            lambda move, index: len(move.bands) < MOST_BANDS,
            help="Split the chosen band in two",
        ),
        Action(
            "join",
            "Join",
            _join,
            lambda move, index: index < len(move.crossovers_hz) and len(move.bands) > 2,
            help="Join this band with the next one",
        ),
    ),
    item_words=_item_words,
    suits=lambda fight: 1.0 if fight.is_low or fight.firm else 0.3,
    make=MultibandProcessor,
    warmed_by=({}, {"phase": "linear"}),
    in_phase=_in_phase,
    settle_s=_settle_s,
    form_2_hold_ms=lambda move: max((band.hold_ms for band in move.bands if band.on), default=0.0),
    rings_s=_split_s,
    keyed=True,
    in_brief=_in_brief,
)
