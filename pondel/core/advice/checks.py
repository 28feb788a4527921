"""Why nothing happens, or too much: in words, with the edit that mends it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from pydantic import BaseModel

from pondel.core.document import Part, Session
from pondel.core.moves import Key, key_in, kind_of
from pondel.core.refs import pointers
from pondel.core.units import say

SILENT_DB = -90.0
REMOVED_DB = 30.0
DEEP_DB = 12.0
NEVER_BACK_DB = 1.0
NOTHING_DB = 0.3
CLICK_MS = 0.5


@dataclass(frozen=True)
class Heard:
    """What was measured over the loop, peaks in dB.

    `key_db` is what the detector hears, `key_source_db` the key before its cuts and its level,
    `part_db` the part before the move; reductions are of the move's trace.
    """

    key_db: float
    key_source_db: float
    part_db: float
    most_db: float
    least_db: float
    hit_s: float | None = None
    gap_s: float | None = None
    in_sections: bool = True


@dataclass(frozen=True)
class Finding:
    """One fault in words; `fix` is the edit that mends it, `action` what its button says."""

    text: str
    action: str = ""
    fix: dict[str, Any] | None = None


def check(session: Session, part: Part, move: Any, heard: Heard) -> list[Finding]:
    """All findings for a move, the most likely cause first; empty when all is well."""

    def put(field: str, value: Any) -> dict[str, Any]:
        return {"op": "set move", "part": part.id, "move": move.id, "field": field, "value": value}

    if move.lost:
        return [_mend(session, move, put)]
    if not move.on:
        return [Finding("The move is off.", "Switch it on", put("on", True))]
    if not heard.in_sections:
        return [
            Finding(
                "The move is limited to sections outside the loop.",
                "Use it in the whole song",
                put("sections", []),
            )
        ]
    if heard.part_db <= SILENT_DB:
        return [Finding(f"{part.name} is silent in the loop: there is nothing to treat.")]
    found = _key_findings(session, part, move, heard, put)
    found += _setting_findings(move, heard, put)
    if not found:
        found = _threshold_findings(move, heard, put)
    return found + _too_much(part, move, heard, put)


def _mend(session: Session, move: Any, put) -> Finding:
    """What a move lost, and the edit that lets it go on without."""
    model: type[BaseModel] = type(move)
    for name, mark in pointers(model).items():
        if mark.at == "section" and move.sections:
            return Finding(move.lost, "Use it in the whole song", put(name, []))
        if mark.at == "hits" and mark.own:
            return Finding(move.lost, "Follow its own hits", put(name, None))
    key = key_in(move)
    if key is not None and not session.has_part(key.source):
        return Finding(move.lost, "Listen to itself", put("key.source", None))
    return Finding(move.lost)


def _key_findings(session: Session, part: Part, move: Any, heard: Heard, put) -> list[Finding]:
    kind = kind_of(move.kind)
    key = key_in(move)
    if not kind.keyed:
        return []
    if key is None:
        others = [p for p in session.parts if p.id != part.id and p.role == "kick"]
        if not others or move.kind == "gate":
            return []
        return [
            Finding(
                f"The detector listens to {part.name} itself.",
                f"Listen to {others[0].name}",
                put("key.source", others[0].id),
            )
        ]
    if not session.has_part(key.source):
        text = "The part it listened to was taken out."
        return [Finding(text, "Listen to itself", put("key.source", None))]
    return _path_findings(session.part(key.source), key, heard, put)


def _path_findings(source: Part, key: Key, heard: Heard, put) -> list[Finding]:
    """What stops the key on its way to the detector; at most one finding."""
    if key.tap == "after fader" and (source.mute or source.fader_db <= -60):
        how = "muted" if source.mute else "faded out"
        text = f"The key is taken after {source.name}'s fader, and {source.name} is {how}."
        return [Finding(text, "Take it at the source", put("key.tap", "source"))]
    if key.level_db <= -59:
        text = f"The key's level is {say(key.level_db, 'dB')}."
        return [Finding(text, "Set it to 0 dB", put("key.level_db", 0))]
    if heard.key_source_db <= SILENT_DB:
        return [Finding(f"{source.name} is silent in the loop: the key has nothing to hear.")]
    cuts = key.low_cut_hz is not None or key.high_cut_hz is not None
    if cuts and heard.key_source_db + key.level_db - heard.key_db > REMOVED_DB:
        field = "key.high_cut_hz" if key.high_cut_hz is not None else "key.low_cut_hz"
        text = (
            f"The key's cuts remove it: {say(heard.key_source_db, 'dB')} before them, "
            f"{say(heard.key_db, 'dB')} after."
        )
        return [Finding(text, "Take the cut away", put(field, None))]
    return []


def _setting_findings(move: Any, heard: Heard, put) -> list[Finding]:
    found = []
    facts = move.model_dump()
    if facts.get("mix") == 0:
        text = "Mix is 0 %: only the untreated sound is heard."
        found.append(Finding(text, "Mix 100 %", put("mix", 1.0)))
    for path, values in _settings(facts):
        if values.get("range_db") == 0 or values.get("depth_db") == 0:
            field = "range_db" if "range_db" in values else "depth_db"
            found.append(
                Finding("The range is 0 dB: the gain cannot move.", "Range 9 dB", put(path + field, 9))
            )
        if values.get("ratio") == 1 and values.get("mode") != "follow":
            found.append(
                Finding("The ratio is 1:1: nothing is asked for.", "Ratio 4:1", put(path + "ratio", 4))
            )
        attack, release = values.get("attack_ms"), values.get("release_ms")
        hit_ms = None if heard.hit_s is None else heard.hit_s * 1000
        if attack is not None and hit_ms is not None and attack > hit_ms:
            found.append(
                Finding(
                    f"The attack of {say(attack, 'ms')} is slower than the hit, which is over after "
                    f"{say(hit_ms, 'ms')}.",
                    "Attack 3 ms",
                    put(path + "attack_ms", 3),
                )
            )
        if release is not None and heard.gap_s is not None and release > 900 * heard.gap_s:
            quick = round(heard.gap_s * 290)
            found.append(
                Finding(
                    f"The release of {say(release, 'ms')} is longer than the gap to the next hit, "
                    f"{say(heard.gap_s * 1000, 'ms')}: the gain does not come back.",
                    f"Release {quick} ms",
                    put(path + "release_ms", quick),
                )
            )
    return found


def _settings(facts: dict[str, Any]) -> list[tuple[str, dict[str, Any]]]:
    """The move's own values, or those of each of its bands that is on, with the path to them."""
    bands = facts.get("bands")
    if isinstance(bands, list) and "threshold_db" not in facts:
        return [(f"bands.{n}.", band) for n, band in enumerate(bands) if band.get("on")]
    return [("", facts)]


def _threshold_findings(move: Any, heard: Heard, put) -> list[Finding]:
    if heard.most_db >= NOTHING_DB:
        return []
    for path, values in _settings(move.model_dump()):
        field = "sensitivity_db" if "sensitivity_db" in values else "threshold_db"
        threshold = values.get(field)
        if threshold is None or move.kind == "gate" or heard.key_db > threshold + 3:
            continue
        lower = float(max(-80, round(heard.key_db - 9)))
        return [
            Finding(
                f"The key never crosses the threshold: loudest {say(heard.key_db, 'dB')}, "
                f"threshold {say(threshold, 'dB')}.",
                f"Lower it to {say(lower, 'dB', 0)}",
                put(path + field, lower),
            )
        ]
    return []


def _too_much(part: Part, move: Any, heard: Heard, put) -> list[Finding]:
    found = []
    if heard.least_db > NEVER_BACK_DB and heard.most_db > NOTHING_DB and heard.gap_s is not None:
        found.append(
            Finding(
                "The reduction never returns to zero: "
                f"at least {say(heard.least_db, 'dB')} all the time."
            )
        )
    if heard.most_db > DEEP_DB and part.role != "bass" and move.kind != "gate":
        found.append(
            Finding(
                f"{say(heard.most_db, 'dB')} of reduction is a lot for {part.role}: 3 dB is usual, "
                f"{DEEP_DB:.0f} dB is heard as a hole."
            )
        )
    for path, values in _settings(move.model_dump()):
        attack = values.get("attack_ms")
        if attack is not None and attack < CLICK_MS and heard.most_db > 3:
            found.append(
                Finding(
                    f"An attack of {say(attack, 'ms')} may click.",
                    "Attack 2 ms",
                    put(path + "attack_ms", 2),
                )
            )
    return found
