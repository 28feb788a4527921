"""States of one session side by side: how each decided fight stands, what else changed, the mix.

fights = contests(document, [untreated_table, table_of_a])
fight_stands(table_of_a, fights[0])          # LeaderHeard(share=0.33, clear_db=7.1, ...)
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from pondel.core.advice.fights import ranked
from pondel.core.document import Session
from pondel.core.dsp.welch import Welch
from pondel.core.evidence import LeaderHeard, heard_in
from pondel.core.families import Members, groups_among
from pondel.core.hearing.clear import SMALLEST_CHANGE_DB
from pondel.core.hearing.table import HiddenTable, Scope
from pondel.core.judgement.tone import warmth_db
from pondel.core.measures.levels import LevelMeter
from pondel.core.measures.spectrum import levels_db
from pondel.core.measures.stereo import StereoMeter

OTHERS = 6


@dataclass(frozen=True)
class Contest:
    """A fight that is told side by side: decided, or one that changed with the others."""

    leader: str
    yielder: str
    zone_hz: tuple[float, float]
    is_decided: bool


@dataclass(frozen=True)
class MixFigures:
    """The mix over a stretch; None where nothing sounds.

    `correlation_lowest` is left with right in the 100 ms in which they agree least.
    """

    loudness_lufs: float | None
    true_peak_dbtp: float
    sample_peak_dbfs: float
    mono_loss_db: float | None
    correlation_lowest: float | None
    warmth_db: float


def decided(document: Session) -> list[Contest]:
    """The fights that are decided, in the order of their zones; one for each part that gives way."""
    found = []
    for zone in document.zones:
        found += [
            Contest(zone.leads, part, (zone.low_hz, zone.high_hz), True)
            for part in zone.gives_way
            if part != zone.leads
        ]
    return found


def families_of(document: Session) -> Members:
    """The groups that have to have a row in the tables, for the decided fights to be told."""
    sides = [part for one in decided(document) for part in (one.leader, one.yielder)]
    return groups_among(document, list(dict.fromkeys(sides)))


def contests(
    document: Session, tables: Sequence[HiddenTable], segments: tuple[int, ...] | None = None
) -> list[Contest]:
    """All decided fights, and of the others those in which a leader stands over 1 dB elsewhere.

    The first table is the one the others are compared with. A leader comes once among those, with the
    fight that changed most.
    """
    known = decided(document)
    pairs = {(one.leader, one.yielder) for one in known}
    plain = {part.id for part in document.parts}
    others: dict[str, tuple[float, Contest]] = {}
    for one in ranked_within(document, tables[0], plain, segments):
        if (one.leader, one.yielder) in pairs:
            continue
        tables_with = [table for table in tables if {one.leader, one.yielder} <= set(table.ids)]
        clear = [fight_stands(table, one, segments).clear_db for table in tables_with]
        told = [each for each in clear if each is not None]
        change_db = max((abs(each - told[0]) for each in told), default=0.0)
        if change_db > max(SMALLEST_CHANGE_DB, others.get(one.leader, (0.0, one))[0]):
            others[one.leader] = change_db, one
    most = sorted(others.values(), key=lambda each: -each[0])[:OTHERS]
    return [*known, *(one for _, one in most)]


def ranked_within(
    document: Session, table: HiddenTable, parts: set[str], segments: tuple[int, ...] | None
) -> list[Contest]:
    """The fights of a table among some parts, the one that matters most first."""
    pairs = [one.pair for one in ranked(document, table, Scope(segments))]
    return [
        Contest(pair.hidden, pair.by, (pair.low_hz, pair.high_hz), False)
        for pair in pairs
        if pair.hidden in parts and pair.by in parts and pair.low_hz < pair.high_hz
    ]


def fight_stands(
    table: HiddenTable, contest: Contest, segments: tuple[int, ...] | None = None
) -> LeaderHeard:
    """How the leader of a fight stands in its zone."""
    return heard_in(table, contest.leader, contest.yielder, contest.zone_hz, segments)


def mix_figures(blocks: Iterable[np.ndarray], rate: int) -> MixFigures:
    """Measure a mix that comes in blocks, stereo float32 (frames, 2)."""
    levels, stereo, welch = LevelMeter(rate, 2), StereoMeter(rate), Welch(rate)
    for block in blocks:
        for meter in (levels, stereo, welch):
            meter.write(block)
    found, image = levels.levels(), stereo.image(welch)
    told = [one for one in image.over_time if one is not None]
    return MixFigures(
        found.integrated_lufs,
        found.true_peak_dbtp,
        found.sample_peak_dbfs,
        image.mono_loss_db,
        min(told, default=None),
        warmth_db(levels_db(welch)),
    )
