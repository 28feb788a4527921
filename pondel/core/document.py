"""The mix document: everything that makes a session, except the samples.

It is immutable in use: an edit makes a new one. As JSON it is `session.json`, whose field
names scripts rely on.
"""

from __future__ import annotations

import hashlib
import json
from collections import Counter
from itertools import pairwise
from typing import Annotated, Any, Literal, Self

from pydantic import AfterValidator, BeforeValidator, Field, model_validator

from pondel.core.beats import MOST_CHANGES, BeatChange, Beats, steady
from pondel.core.errors import NotFound
from pondel.core.model import Model
from pondel.core.moves.base import ID_FORM, LONGEST_S, MOST_SECTIONS, Seconds
from pondel.core.moves.describe import Tap, choice, number, pan
from pondel.core.moves.registry import ANY_MOVE, kind_of
from pondel.core.notes import Note
from pondel.core.refs import PartRef, SectionRef
from pondel.core.versions import VERSION

Role = Literal[
    "kick",
    "snare",
    "hats",
    "percussion",
    "bass",
    "guitar",
    "keys",
    "pad",
    "brass",
    "strings",
    "lead",
    "voice",
    "backing voice",
    "effect",
    "other",
]
ROLES: tuple[Role, ...] = Role.__args__  # type: ignore[attr-defined]
Move = Annotated[ANY_MOVE, Field(discriminator="kind", description="One treatment in a part's chain.")]
MOST_PARTS = 512
MOST_MOVES = 40
MOST_MOVES_IN_ALL = 4096
MOST_SENDS = 64
MOST_ZONES = 2048
LATEST_STAMP_S = 86_400.0


def _printable(value: Any) -> Any:
    """A name without letters that no screen and no file name can show."""
    if not isinstance(value, str):
        return value
    return "".join(letter if letter.isprintable() else " " for letter in value)


Identifier = Annotated[str, Field(min_length=1, max_length=40, pattern=ID_FORM)]


def _says_something(value: str) -> str:
    if not value.strip():
        raise ValueError("a name holds more than spaces")
    return value


Name = Annotated[
    str,
    BeforeValidator(_printable),
    Field(min_length=1, max_length=80),
    AfterValidator(_says_something),
]


BeatNote = Literal[1, 2, 4, 8, 16, 32]
Tempo = Annotated[float, Field(ge=20, le=400)]


class TempoChange(Model):
    """Another tempo, or signature, from a moment of the song on."""

    at_s: float = Field(ge=0, le=LONGEST_S)
    tempo_bpm: Tempo
    beats_per_bar: int = Field(4, ge=1, le=32)
    beat_note: BeatNote = 4


def tempo_change(change: BeatChange) -> TempoChange:
    """A change as a document holds it."""
    return TempoChange(
        at_s=change.at_s,
        tempo_bpm=change.bpm,
        beats_per_bar=change.beats_per_bar,
        beat_note=change.beat_note,  # type: ignore[arg-type]
    )


class Section(Model):
    """A named stretch of the song."""

    id: Identifier
    name: Name
    start_s: float = Field(ge=0, le=LONGEST_S)
    end_s: float = Field(ge=0, le=LONGEST_S)

    @model_validator(mode="after")
    def _ends_after_start(self) -> Self:
        if self.end_s <= self.start_s:
            raise ValueError(f"section {self.name!r} ends before it starts")
        return self


class Send(Model):
    """A copy of a part fed to a return."""

    to: PartRef
    level_db: float = Field(0.0, ge=-90, le=24)
    tap: Tap = "after fader"


class HitSettings(Model):
    """How a part's hits are found, and what was corrected by hand.

    Times are seconds from the start of the recording. With `midi_s` the hits are those of a MIDI
    file, and `sensitivity` has no effect.
    """

    sensitivity: float = number(
        "Sensitivity",
        default=0.5,
        low=0,
        high=1,
        unit="%",
        step=0.05,
        decimals=0,
        help="How small a stir counts as a hit.",
    )
    added_s: list[Seconds] = Field(default_factory=list, max_length=20_000)
    removed_s: list[Seconds] = Field(default_factory=list, max_length=20_000)
    midi_s: list[Seconds] | None = Field(None, max_length=100_000)


class Part(Model):
    """One recording in the session, or a return fed by sends."""

    id: Identifier
    name: Name
    role: Role = "other"
    role_by_sound: bool = Field(
        False, description="Whether the role was guessed from the sound, and nobody has said so."
    )
    tag: str | None = Field(
        None,
        pattern=r"^[A-Z0-9]{1,3}$",
        description="The letters that mark the part, where they were typed.",
    )
    file: str | None = Field(None, max_length=400)
    source: Literal["file", "sends"] = "file"
    start_s: float = number(
        "Starts at",
        default=0.0,
        low=0,
        high=LONGEST_S,
        unit="s",
        step=0.01,
        decimals=3,
        help="Where in the song the recording begins.",
    )
    stamp_s: float | None = Field(
        None,
        ge=0,
        le=LATEST_STAMP_S,
        description="Where the recording begins on its own session's clock, as its file says.",
    )
    trim_db: float = number(
        "Trim", default=0.0, low=-60, high=60, unit="dB", step=0.5, help="Gain of the recording."
    )
    fader_db: float = number(
        "Fader", default=0.0, low=-90, high=24, unit="dB", step=0.5, help="Level in the mix."
    )
    pan: float = pan()
    mute: bool = choice(
        "Mute",
        default=False,
        help="Out of the mix, of its group, of its sends and of keys after the fader.",
    )
    silent_key: bool = choice("Silent key", default=False, help="Heard only by keys, never in the mix.")
    reference: bool = choice(
        "Reference", default=False, help="Heard beside the mix, never in it, and never printed."
    )
    group: PartRef | None = Field(
        None, description="The return that this part feeds instead of the mix, after its fader."
    )
    hits: HitSettings = Field(default_factory=HitSettings)
    sends: list[Send] = Field(default_factory=list, max_length=MOST_SENDS)
    moves: list[Move] = Field(default_factory=list, max_length=MOST_MOVES)

    @model_validator(mode="after")
    def _has_one_source(self) -> Self:
        if self.source == "file" and self.file is None:
            raise ValueError(f'part {self.name!r} has no file (a return says "source": "sends")')
        return self

    @property
    def sounds(self) -> bool:
        """Whether it feeds the mix, its group and its sends: neither muted nor a silent key."""
        return not self.mute and not self.silent_key and not self.reference


class Zone(Model):
    """A frequency range in which parts fight, and who keeps it."""

    id: Identifier
    low_hz: float = Field(ge=10, le=24000)
    high_hz: float = Field(ge=10, le=24000)
    leads: PartRef
    gives_way: list[PartRef] = Field(default_factory=list, max_length=MOST_PARTS)
    sections: list[SectionRef] = Field(default_factory=list, max_length=MOST_SECTIONS)

    @model_validator(mode="after")
    def _is_a_range(self) -> Self:
        if self.high_hz <= self.low_hz:
            raise ValueError("a zone's high edge lies above its low edge")
        return self


class Session(Model):
    """One song being worked on."""

    pondel: Literal[3] = Field(VERSION, description="Version of this form of document.")
    name: Name
    rate: int = Field(48000, ge=44100, le=192000)
    tempo_bpm: float = number(
        "Tempo", default=120.0, low=20, high=400, unit="bpm", step=1, decimals=2, help="Beats a minute."
    )
    tempo_from: Literal["nobody", "hits", "midi", "told"] = Field(
        "nobody",
        description="Who knows the tempo: nobody, hits by an estimate, a MIDI file, or it was told.",
    )
    beats_per_bar: int = Field(4, ge=1, le=32)
    beat_note: BeatNote = Field(4, description="The note that a bar counts; tempi count quarters.")
    tempo_changes: list[TempoChange] = Field(
        default_factory=list,
        max_length=MOST_CHANGES,
        description="Other tempi and signatures later in the song.",
    )
    key_note: Note | None = Field(None, description="The note of the song's key, if it was told.")
    listening_level_db_spl: float = Field(83, ge=40, le=110)
    sections: list[Section] = Field(default_factory=list, max_length=MOST_SECTIONS)
    parts: list[Part] = Field(default_factory=list, max_length=MOST_PARTS)
    zones: list[Zone] = Field(default_factory=list, max_length=MOST_ZONES)

    @model_validator(mode="before")
    @classmethod
    def _a_tempo_that_is_given_is_known(cls, data: Any) -> Any:
        if isinstance(data, dict) and "tempo_bpm" in data and "tempo_from" not in data:
            return {**data, "tempo_from": "told"}
        return data

    def clock_origin_s(self) -> float:
        """Where the song begins on the clock of the session its files came from; 0 where none says.

        By the part whose file begins first: see the time reference of EBU Tech 3285.
        """
        stamped = [(part.stamp_s, part.start_s) for part in self.parts if part.stamp_s is not None]
        stamp_s, start_s = min(stamped, default=(0.0, 0.0))
        return stamp_s - start_s

    @property
    def known_tempo_bpm(self) -> float | None:
        """The tempo, None while nobody knows it."""
        return None if self.tempo_from == "nobody" else self.tempo_bpm

    @property
    def known_beat_s(self) -> float | None:
        """Seconds of a beat; None while the tempo is not known."""
        known_bpm = self.known_tempo_bpm
        return 60.0 / known_bpm if known_bpm else None

    def beats(self) -> Beats:
        """Where beats and bars lie, as far as anybody knows; 120 bpm while nobody does."""
        begins = BeatChange(0.0, self.tempo_bpm, self.beats_per_bar, self.beat_note)
        later = [
            BeatChange(one.at_s, one.tempo_bpm, one.beats_per_bar, one.beat_note)
            for one in self.tempo_changes
        ]
        return Beats([begins, *later])

    def counted(self) -> Beats:
        """Beats as they are told: each counts as a second while nobody knows the tempo."""
        return steady(60.0, self.beats_per_bar) if self.tempo_from == "nobody" else self.beats()

    @model_validator(mode="after")
    def _tempi_rise(self) -> Self:
        at_s = [0.0, *(one.at_s for one in self.tempo_changes)]
        if any(after <= before for before, after in pairwise(at_s)):
            raise ValueError("changes of tempo do not follow one another")
        return self

    @model_validator(mode="after")
    def _ids_fit(self) -> Self:
        moves = sum(len(part.moves) for part in self.parts)
        if moves > MOST_MOVES_IN_ALL:
            raise ValueError(f"a session holds at most {MOST_MOVES_IN_ALL} moves, not {moves}")
        _unlike("parts have the id", [part.id for part in self.parts])
        _unlike("sections have the id", [section.id for section in self.sections])
        _unlike("zones have the id", [zone.id for zone in self.zones])
        _unlike("parts have the tag", [part.tag for part in self.parts if part.tag])
        for part in self.parts:
            _unlike(f"moves of {part.name!r} have the id", [move.id for move in part.moves])
            for move in part.moves:
                if kind_of(move.kind).pair is not None and not move.lost:
                    self._is_tied(part, move)
            fed = [send.to for send in part.sends] + ([part.group] if part.group else [])
            for target in fed:
                if not self.has_part(target):
                    raise ValueError(f"{part.name!r} sends to {target!r}, which does not exist")
                if self.part(target).source != "sends":
                    raise ValueError(f"{part.name!r} sends to {target!r}, which is not a return")
        return self

    def _is_tied(self, part: Part, move: Any) -> None:
        """Both sides of a pair of moves name each other and fit together."""
        kind, tie = kind_of(move.kind), move.tied_to
        moves = self.part(tie.part).moves if self.has_part(tie.part) else []
        other = next((m for m in moves if m.id == tie.move and m.kind == move.kind), None)
        back = None if other is None else (other.tied_to.part, other.tied_to.move)
        if back != (part.id, move.id) or (kind.pair is not None and not kind.pair.fits(move, other)):
            raise ValueError(
                f"the {kind.title} {move.id!r} of {part.name!r} has no matching other side"
            )
        if move.key is not None and move.key.source != tie.part:
            name = f"the {kind.title} {move.id!r} of {part.name!r}"
            raise ValueError(f"{name} listens to another part than it is tied to")

    def _by_id(self) -> dict[str, Part]:
        """The parts by id, made once for a list of parts."""
        parts, found = self.__dict__.get("_parts_by_id", (None, {}))
        if parts is not self.parts:
            found = {part.id: part for part in self.parts}
            self.__dict__["_parts_by_id"] = self.parts, found
        return found

    def part(self, part_id: str) -> Part:
        """The part of that id; NotFound when there is none."""
        found = self._by_id().get(part_id)
        if found is None:
            raise NotFound(f"this session has no part {part_id!r:.60}")
        return found

    def has_part(self, part_id: str) -> bool:
        return part_id in self._by_id()

    def audible(self) -> list[Part]:
        """The parts that reach the mix, by themselves or through groups that reach it."""
        return [part for part in self.parts if self._is_audible(part)]

    def _is_audible(self, part: Part) -> bool:
        seen: set[str] = set()
        while part.sounds and part.id not in seen:
            if part.group is None:
                return True
            seen.add(part.id)
            part = self.part(part.group)
        return False

    def summed(self) -> list[Part]:
        """The parts whose sum is the mix: ungrouped parts, groups and returns that sound."""
        return [part for part in self.parts if part.sounds and part.group is None]

    def groups(self) -> set[str]:
        """Ids of the returns that are groups: some part feeds them instead of the mix."""
        return {part.group for part in self.parts if part.group is not None}


def _unlike(what: str, ids: list[str]) -> None:
    """ValueError when two of the ids are the same."""
    if len(set(ids)) < len(ids):
        twice = next(one for one, count in Counter(ids).items() if count > 1)
        raise ValueError(f"two {what} {twice!r}")


def move_of(part: Part, move_id: str) -> Any:
    """The part's move of that id; NotFound when there is none."""
    for move in part.moves:
        if move.id == move_id:
            return move
    raise NotFound(f"{part.name!r} has no move {move_id!r}")


def content_hash(value: Any) -> str:
    """A short hash of JSON values that does not depend on the order of their fields."""
    return text_hash(json.dumps(value, sort_keys=True, separators=(",", ":"), ensure_ascii=True))


def text_hash(text: str) -> str:
    """A short hash of a text."""
    return hashlib.sha256(text.encode()).hexdigest()[:24]
