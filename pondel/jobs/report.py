"""The measures of a session as one JSON object; docs/measure.md describes its fields."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

import numpy as np

from pondel.core.advice.fights import RankedPair, ranked
from pondel.core.advice.lengths import lengths_of
from pondel.core.advice.silence import why_silent
from pondel.core.document import Part, Session, Zone
from pondel.core.engine.listen import without_moves
from pondel.core.hearing.table import WHOLE, HiddenTable, Scope
from pondel.core.measures.tempo import beside_bpm
from pondel.jobs.desk import Desk

PROPOSED_PAIRS = 5


def measure_report(desk: Desk, document: Session, session_id: str) -> dict[str, Any]:
    """Levels, hits and home of every part, hidden shares, pairs worst first, and zones."""
    table = desk.analysis.whole_table(document)
    untreated = without_moves(document)
    before = desk.analysis.whole_table(untreated) if untreated != document else table
    pairs = ranked(document, table)
    return {
        "session": session_id,
        "name": document.name,
        "rate": document.rate,
        "tempo_bpm": document.tempo_bpm,
        "tempo_from": document.tempo_from,
        "tempo_alternatives_bpm": [bpm for _, bpm in beside_bpm(document.tempo_bpm)]
        if document.tempo_from == "hits"
        else [],
        "tempo_changes": [one.model_dump() for one in document.tempo_changes],
        "listening_level_db_spl": document.listening_level_db_spl,
        "parts": [_part(desk, document, table, before, part) for part in document.parts if part.file],
        "returns": [
            {
                "id": part.id,
                "name": part.name,
                "role": part.role,
                **_hidden(document, table, part),
                "before": _standing(before, part.id),
            }
            for part in document.parts
            if part.file is None
        ],
        "pairs": [_pair(table, one) for one in pairs],
        "zones": [_zone(table, before, zone) for zone in document.zones],
        "proposed_zones": _proposed(table, pairs),
        "sections": [
            {
                "id": section.id,
                "name": section.name,
                "hidden_share": {
                    part: _round(table.share(part, None, Scope((n,)))) for part in table.ids
                },
                "parts": {part: _standing(table, part, Scope((n,))) for part in table.ids},
            }
            for n, section in enumerate(document.sections)
        ],
    }


def _round(value: float | None) -> float | None:
    return None if value is None else round(float(value), 4)


def _part(
    desk: Desk, document: Session, table: HiddenTable, before: HiddenTable, part: Part
) -> dict[str, Any]:
    file = part.file or ""
    recording = desk.recording(file)
    lengths, home = lengths_of(recording.hits(part)), recording.home
    image = desk.recordings.image(file)
    return {
        "id": part.id,
        "name": part.name,
        "role": part.role,
        **recording.levels.as_json(),
        "after_fader_lufs": _shifted(recording.levels.integrated_lufs, part),
        "after_fader_peak_dbfs": _shifted(recording.levels.sample_peak_dbfs, part),
        "hits": int(desk.hits_s(part).size),
        "hit_times_s": np.round(desk.hits_s(part), 4).tolist(),
        "hit_length_20_s": _round(lengths.fall_20_s),
        "hit_length_40_s": _round(lengths.fall_40_s),
        "hit_gap_s": _round(lengths.gap_s),
        "home_low_hz": _round(home.low_hz) if home else None,
        "home_high_hz": _round(home.high_hz) if home else None,
        "crossover_hz": _round(home.crossover_hz) if home else None,
        "strongest_hz": [_round(hz) for hz in home.strongest_hz] if home else [],
        "pitch_hz": _round(desk.recordings.pitch_hz(file)),
        "correlation": _round(image.correlation),
        "side_db": _round(image.side_db),
        "mono_loss_db": _round(image.mono_loss_db),
        **_hidden(document, table, part, has_hits=desk.hits_s(part).size > 0),
        "before": _standing(before, part.id),
    }


def _standing(table: HiddenTable, part: str, scope: Scope = WHOLE) -> dict[str, float | None]:
    """The headline numbers of a part; all null of one that is not told apart in the mix."""
    heard = part in table.ids
    on_hits = Scope(scope.segments, True, scope.zone_hz)
    return {
        "clear_db": _round(table.clear_db(part, scope)) if heard else None,
        "clear_on_hits_db": _round(table.clear_db(part, on_hits)) if heard else None,
        "beside_equal_db": _round(table.beside_equal_db(part, scope)) if heard else None,
    }


def _hiders(table: HiddenTable, part: str) -> list[dict[str, Any]]:
    """The three that hide it most: what of it falls to each, and how far it is clear of each alone."""
    return [
        {
            "by": by,
            "hidden_share": _round(table.share(part, by)),
            "clear_db": _round(table.clear_of_db(part, by)),
            "would_win_db": _round(table.would_win_db(part, by)),
        }
        for by in (table.hiders(part) if part in table.ids else ())
    ]


def _hidden(
    document: Session, table: HiddenTable, part: Part, *, has_hits: bool = False
) -> dict[str, Any]:
    """How much of a part is hidden; null of one that is not told apart in the mix, and why."""
    heard = part.id in table.ids
    on_hits = heard and has_hits
    return {
        "hidden_share": _round(table.share(part.id)) if heard else None,
        "hidden_on_hits": _round(table.share(part.id, None, Scope(on_hits=True))) if on_hits else None,
        "loudness_sone": _round(table.loudness_sone(part.id)) if heard else None,
        **_standing(table, part.id),
        "hiders": _hiders(table, part.id),
        "silent": why_silent(document, part) or None,
    }


def _shifted(level: float | None, part: Part) -> float | None:
    return None if level is None else _round(level + part.trim_db + part.fader_db)


def _pair(table: HiddenTable, one: RankedPair) -> dict[str, Any]:
    rounded = {k: _round(v) if isinstance(v, float) else v for k, v in asdict(one.pair).items()}
    return {**rounded, "weight": _round(one.weight)}


def _zone(table: HiddenTable, before: HiddenTable, zone: Zone) -> dict[str, Any]:
    scope = Scope(zone_hz=(zone.low_hz, zone.high_hz))
    pairs = [(zone.leads, by) for by in zone.gives_way]
    known = [(a, b) for a, b in pairs if a in table.ids and b in table.ids]
    shares = {by: _round(table.share(hidden, by, scope)) for hidden, by in known}
    return {
        **zone.model_dump(mode="json"),
        "hidden_share": shares,
        **_standing(table, zone.leads, scope),
        "before": _standing(before, zone.leads, scope),
    }


def _proposed(table: HiddenTable, pairs: list[RankedPair]) -> list[dict[str, Any]]:
    found = []
    for one in pairs[:PROPOSED_PAIRS]:
        for zone in table.zones(one.pair.hidden, one.pair.by):
            rounded = {k: _round(v) for k, v in asdict(zone).items()}
            found.append({"hidden": one.pair.hidden, "by": one.pair.by, **rounded})
    return found
