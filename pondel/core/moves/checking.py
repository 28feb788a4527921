"""What can be wrong with a move, in words, with the setting that mends it; shared by all kinds."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Any

from pydantic import BaseModel

from pondel.core.moves.describe import Key
from pondel.core.moves.fight import Named
from pondel.core.units import change, say

SILENT_DB = -90.0
REMOVED_DB, MOST_TAKEN_DB, TAKEN_DB = 30.0, 12.0, 9.0
DEEP_DB = 12.0
NEVER_BACK_DB = 1.0
STAYS = 0.9
DEAR_SHARE, SHUT_SHARE, SHUT_DB, HIDING = 0.15, 0.6, 20.0, 0.5
MOST_MEAN_DB = 4.0
NOTHING_DB = 0.3
CLICK_MS = 0.5
PINNED_SHARE = 0.9


@dataclass(frozen=True)
class Heard:
    """What was measured over the loop, peaks in dB.

    `key_db` is what the detector hears, `key_source_db` the key before its cuts and its level,
    `part_db` the part before the move; how far the gain moves, at most, at least and on average, is
    counted from where it rests.
    """

    key_db: float
    key_source_db: float
    part_db: float
    most_db: float
    least_db: float
    hit_s: float | None = None
    gap_s: float | None = None
    in_sections: bool = True
    mean_db: float = 0.0
    cost_share: float = 0.0
    """What of its part's own loudness it takes, 0 to 1."""
    at_range: dict[str, float] = field(default_factory=dict)
    """The share of the hits on which a gain is at the end of its range, by the path to that range."""


@dataclass(frozen=True)
class Mend:
    """A value that mends a fault; the field is a path into the move."""

    field: str
    value: Any


@dataclass(frozen=True)
class Finding:
    """One fault in words; `action` is what the button that mends it says."""

    text: str
    action: str = ""
    mend: Mend | None = None
    source_is_silent: bool = False
    """Whether the sidechain does not sound in the loop, though it may elsewhere."""


@dataclass(frozen=True)
class Source:
    """The part that a key listens to, as far as it matters to the key."""

    name: str
    is_muted: bool
    fader_db: float


@dataclass(frozen=True)
class Case:
    """A move at work in a part, and what was heard of it.

    `source` is the part it listens to; `lead` one that it might listen to instead of itself.
    """

    part: Named
    move: Any
    heard: Heard
    key: Key | None = None
    source: Source | None = None
    lead: Named | None = None


Check = Callable[[Case, list[Finding]], Iterator[Finding]]
"""(what is looked at, what was found so far) -> what else is wrong."""


def no_key(case: Case, found: list[Finding]) -> Iterator[Finding]:
    """A detector that listens to its own part though another one drives such moves."""
    if case.key is None and case.lead is not None:
        yield Finding(
            f"The detector listens to {case.part.name} itself.",
            f"Listen to {case.lead.name}",
            Mend("key.source", case.lead.id),
        )


def key_path(case: Case, found: list[Finding]) -> Iterator[Finding]:
    """What stops the key on its way to the detector; at most one finding."""
    key, source, heard = case.key, case.source, case.heard
    if key is None:
        return
    if source is None:
        text = "The part it listened to was taken out."
        yield Finding(text, "Listen to itself", Mend("key.source", None))
    elif key.tap == "after fader" and (source.is_muted or source.fader_db <= -60):
        how = "muted" if source.is_muted else "faded out"
        text = f"The key is taken after {source.name}'s fader, and {source.name} is {how}."
        yield Finding(text, "Take it at the source", Mend("key.tap", "source"))
    elif key.level_db <= -59:
        text = f"The key's level is {say(key.level_db, 'dB')}."
        yield Finding(text, "Set it to 0 dB", Mend("key.level_db", 0))
    elif heard.key_source_db <= SILENT_DB:
        text = f"{source.name} is silent in the loop: the sidechain has nothing to act on."
        yield Finding(text, source_is_silent=True)
    elif key.low_cut_hz is not None or key.high_cut_hz is not None:
        yield from _cut_away(key, heard)


def _cuts_take_db(key: Key, heard: Heard) -> float:
    if key.low_cut_hz is None and key.high_cut_hz is None:
        return 0.0
    return heard.key_source_db + key.level_db - heard.key_db


def _cut_away(key: Key, heard: Heard) -> Iterator[Finding]:
    taken_db = _cuts_take_db(key, heard)
    if taken_db > REMOVED_DB:
        yield _cuts(key, heard, "The key's cuts remove it")
    elif taken_db > MOST_TAKEN_DB:
        yield _cuts(key, heard, "The key's cuts take most of it")


def _cuts(key: Key, heard: Heard, what: str) -> Finding:
    field = "key.high_cut_hz" if key.high_cut_hz is not None else "key.low_cut_hz"
    text = f"{what}: {say(heard.key_source_db, 'dB')} before them, {say(heard.key_db, 'dB')} after."
    which = "high" if "high" in field else "low"
    return Finding(text, f"Take the {which} cut away", Mend(field, None))


def settings(case: Case, found: list[Finding]) -> Iterator[Finding]:
    """Values with which nothing can happen, or not in time."""
    facts = case.move.model_dump()
    if facts.get("mix") == 0:
        text = "Mix is 0 %: only the untreated sound is heard."
        yield Finding(text, "Mix 100 %", Mend("mix", 1.0))
    for path, values in settings_of(facts):
        yield from _idle(case.move, path, values)
        yield from _late(path, values, case.heard)


def _is_signed(move: Any, path: str, field: str) -> bool:
    """Whether a field takes values below zero."""
    holder = move
    for step in path.split(".")[:-1]:
        holder = holder[int(step)] if step.isdigit() else getattr(holder, step)
    model: type[BaseModel] = type(holder)
    extra: Any = model.model_fields[field].json_schema_extra
    return float(extra["control"]["low"]) < 0.0


def _idle(move: Any, path: str, values: dict[str, Any]) -> Iterator[Finding]:
    if values.get("range_db") == 0 or values.get("depth_db") == 0:
        field = "range_db" if "range_db" in values else "depth_db"
        # Where a range may be a cut or a boost, it is a cut that makes room.
        usual = -4 if _is_signed(move, path, field) else 6
        text = "The range is 0 dB: the gain cannot move."
        yield Finding(text, f"Range {say(usual, 'dB', 0)}", Mend(path + field, usual))
    if values.get("ratio") == 1 and values.get("mode") != "follow":
        yield Finding("The ratio is 1:1: nothing is asked for.", "Ratio 4:1", Mend(path + "ratio", 4))


def _late(path: str, values: dict[str, Any], heard: Heard) -> Iterator[Finding]:
    attack, release = values.get("attack_ms"), values.get("release_ms")
    hit_ms = None if heard.hit_s is None else heard.hit_s * 1000
    if attack is not None and hit_ms is not None and attack > hit_ms:
        yield Finding(
            f"The attack of {say(attack, 'ms')} is slower than the hit, which is over after "
            f"{say(hit_ms, 'ms')}.",
            "Attack 3 ms",
            Mend(path + "attack_ms", 3),
        )
    if release is not None and heard.gap_s is not None and release > 900 * heard.gap_s:
        quick = round(heard.gap_s * 290)
        yield Finding(
            f"The release of {say(release, 'ms')} is longer than the gap to the next hit, "
            f"{say(heard.gap_s * 1000, 'ms')}: the gain does not come back.",
            f"Release {quick} ms",
            Mend(path + "release_ms", quick),
        )


def settings_of(facts: dict[str, Any]) -> list[tuple[str, dict[str, Any]]]:
    """The move's own values, or those of each of its bands that is on, with the path to them."""
    bands = facts.get("bands")
    if isinstance(bands, list) and "threshold_db" not in facts:
        return [(f"bands.{n}.", band) for n, band in enumerate(bands) if band.get("on")]
    return [("", facts)]


def threshold_not_reached(case: Case, found: list[Finding]) -> Iterator[Finding]:
    """A key that stays under the threshold, where nothing else is wrong."""
    heard = case.heard
    if found or heard.most_db >= NOTHING_DB:
        return
    for path, values in settings_of(case.move.model_dump()):
        threshold = values.get("threshold_db")
        if threshold is None or heard.key_db > threshold + 3:
            continue
        if case.key is not None and _cuts_take_db(case.key, heard) > TAKEN_DB:
            yield _cuts(case.key, heard, "The key stays under the threshold for its cuts")
            return
        lower = float(max(-80, round(heard.key_db - 9)))
        yield Finding(
            f"The key never crosses the threshold: loudest {say(heard.key_db, 'dB')}, "
            f"threshold {say(threshold, 'dB')}.",
            f"Lower it to {say(lower, 'dB', 0)}",
            Mend(f"{path}threshold_db", lower),
        )
        return


def never_back(case: Case, found: list[Finding]) -> Iterator[Finding]:
    """A gain that does not return between the hits, or stays at the end of its range."""
    heard = case.heard
    if heard.least_db <= NEVER_BACK_DB or heard.most_db <= NOTHING_DB:
        return
    for path, values in settings_of(case.move.model_dump()):
        if values.get("mode") == "follow" and heard.least_db > STAYS * abs(values["range_db"]):
            higher = float(min(0, values["threshold_db"] + 12))
            yield Finding(
                f"It sits at its full depth all the time: full range from "
                f"{say(values['threshold_db'], 'dB')} on.",
                f"Full range from {say(higher, 'dB', 0)}",
                Mend(f"{path}threshold_db", higher),
            )
            return
    if heard.gap_s is not None:
        least = say(heard.least_db, "dB")
        yield Finding(f"The gain never comes back: at least {least} of it are gone all the time.")


def pinned(case: Case, found: list[Finding]) -> Iterator[Finding]:
    """A gain that reaches the end of its range on nearly every hit."""
    facts = dict(settings_of(case.move.model_dump()))
    for path, share in case.heard.at_range.items():
        if share < PINNED_SHARE or path not in facts:
            continue
        range_db, threshold_db = facts[path]["range_db"], facts[path]["threshold_db"]
        yield Finding(
            f"The gain is at its range of {say(range_db, 'dB')} on {100 * share:.0f} % of the hits: "
            f"the range sets the amount, not the threshold of {say(threshold_db, 'dB')}."
        )


def always_down(case: Case, found: list[Finding]) -> Iterator[Finding]:
    """A keyed move that takes much on average: not a duck, but a lower level."""
    heard = case.heard
    if case.key is None or heard.least_db > NEVER_BACK_DB:
        return
    if heard.mean_db > MOST_MEAN_DB and heard.mean_db > 0.5 * heard.most_db:
        yield Finding(
            f"It takes {say(heard.mean_db, 'dB')} on average over the loop: more a lower level than "
            "room on the hits."
        )


def dear(case: Case, found: list[Finding]) -> Iterator[Finding]:
    """A move that makes room, and takes more of its part than anyone would give for it."""
    heard, move = case.heard, case.move
    makes_room = case.key is not None or getattr(move, "began", None) is not None
    if not makes_room or heard.cost_share <= DEAR_SHARE:
        return
    yield Finding(
        f"It costs {case.part.name} {100 * heard.cost_share:.0f} % of its own loudness in the loop, "
        f"over {100 * DEAR_SHARE:.0f} %: less range, a shorter release, or a band instead of the whole."
    )


def hidden_by_makeup(case: Case, found: list[Finding]) -> Iterator[Finding]:
    """Make-up that gives back what the duck takes."""
    if case.key is None or case.heard.most_db <= NOTHING_DB:
        return
    for path, values in settings_of(case.move.model_dump()):
        makeup_db = values.get("makeup_db", 0.0)
        if makeup_db >= HIDING * case.heard.most_db:
            yield Finding(
                f"The make-up of {say(makeup_db, 'dB')} hides the duck: it takes "
                f"{say(case.heard.most_db, 'dB')} on the hits, and the part is louder between them.",
                "Make-up 0 dB",
                Mend(path + "makeup_db", 0),
            )


def shut(case: Case, found: list[Finding]) -> Iterator[Finding]:
    """A gate that never opens: the part is gone."""
    heard, threshold_db = case.heard, case.move.threshold_db
    if heard.least_db < SHUT_DB and heard.cost_share < SHUT_SHARE:
        return
    lower = float(max(-80, round(heard.key_db - 12)))
    yield Finding(
        f"The gate mutes {case.part.name}, {change(-heard.cost_share)} of its own loudness: "
        f"loudest it hears {say(heard.key_db, 'dB')}, it opens at {say(threshold_db, 'dB')}.",
        f"Open at {say(lower, 'dB', 0)}",
        Mend("threshold_db", lower),
    )


def too_deep(case: Case, found: list[Finding]) -> Iterator[Finding]:
    """More reduction than a part of its role bears."""
    if case.heard.most_db > DEEP_DB and case.part.role != "bass":
        yield Finding(
            f"{say(case.heard.most_db, 'dB')} of reduction is a lot for {case.part.role}: 3 dB is "
            f"usual, {DEEP_DB:.0f} dB is heard as a hole."
        )


def clicks(case: Case, found: list[Finding]) -> Iterator[Finding]:
    """An attack so short that it is heard."""
    for path, values in settings_of(case.move.model_dump()):
        attack = values.get("attack_ms")
        if attack is not None and attack < CLICK_MS and case.heard.most_db > 3:
            text = f"An attack of {say(attack, 'ms')} may click."
            yield Finding(text, "Attack 2 ms", Mend(path + "attack_ms", 2))


COMMON: tuple[Check, ...] = (
    no_key,
    key_path,
    settings,
    threshold_not_reached,
    never_back,
    pinned,
    always_down,
    too_deep,
    hidden_by_makeup,
    dear,
    clicks,
)
