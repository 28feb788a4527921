"""What every move is made of: parameters that describe themselves, and a streaming processor."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Annotated, Any, Protocol, runtime_checkable

import numpy as np
from pydantic import Field

from pondel.core.beats import Beats, steady
from pondel.core.dsp.fold import Side
from pondel.core.dsp.tone import PINK, Tone
from pondel.core.model import Model
from pondel.core.moves.checking import COMMON, Check
from pondel.core.moves.describe import Key
from pondel.core.moves.fight import ComesThrough, Fight, Start
from pondel.core.moves.hitface import HitFace, usual_face
from pondel.core.moves.picture import Picture
from pondel.core.moves.placement import PlacedProcessor, Placement, fold_of
from pondel.core.refs import SectionRef

MOST_SECTIONS, MOST_BY_HAND = 256, 400
LONGEST_S = 36_000.0
Seconds = Annotated[float, Field(ge=-LONGEST_S, le=LONGEST_S)]
"""A moment of a song or a recording."""
ID_FORM = r"^[A-Za-z0-9_-]+$"


class Began(Model):
    """The fight from which a first setting was worked out, and what has been set by hand since.

    `far` is 0 for gentle, 1 for usual, 2 for strong; `by_hand` are paths into the move. Moves that were
    laid in one step under one leader have the same `together`, and the same time in which they are due
    back after its hits.
    """

    leader: Annotated[str, Field(max_length=40)]
    far: float = Field(1.0, ge=0, le=2)
    comes_through: ComesThrough = "body"
    start_s: Seconds = 0.0
    low_hz: float = Field(ge=10, le=24_000)
    high_hz: float = Field(ge=10, le=24_000)
    together: Annotated[str, Field(max_length=40)] = ""
    due_s: float | None = Field(None, ge=0, le=60)
    by_hand: list[Annotated[str, Field(max_length=80)]] = Field(
        default_factory=list, max_length=MOST_BY_HAND
    )


class MoveBase(Model, frozen=True):
    """What all moves share. One that was made stays as it is: what is known of it holds."""

    id: str = Field(min_length=1, max_length=40)
    on: bool = True
    sections: list[SectionRef] = Field(
        default_factory=list, max_length=MOST_SECTIONS, description="Empty: the whole song."
    )
    lost: str = Field(
        "",
        max_length=400,
        description="What it pointed at and is gone, in words; it is off until that is mended.",
    )
    why: list[Annotated[str, Field(max_length=400)]] = Field(
        default_factory=list,
        max_length=20,
        description="Why it began as it did, where that was computed.",
    )
    began: Began | None = Field(
        None, description="The fight that its first setting was worked out from, if it was."
    )


def key_in(move: MoveBase) -> Key | None:
    """The key a move has, None when it has none or its kind takes none.

    One that is tied to another part listens to it, whether it says so or not.
    """
    # Asked of every move in every state: for a field that a kind lacks pydantic looks long.
    key, tie = move.__dict__.get("key"), move.__dict__.get("tied_to")
    return Key(source=tie.part) if key is None and tie is not None else key


@dataclass(frozen=True)
class Traced:
    """A value a processor writes while it runs, at 200 points a second.

    `low`, `high` and `mean` are float32 arrays of one value per point, so that no dip is missed.
    """

    low: np.ndarray
    high: np.ndarray
    mean: np.ndarray

    def first(self, points: int) -> Traced:
        """The first `points` of it."""
        return Traced(self.low[:points], self.high[:points], self.mean[:points])


@dataclass(frozen=True)
class Place:
    """Where in the song a processor begins, and what it needs to know of the song there.

    `beats` tells the tempo; `hits_s` are seconds of the song: the hits of the part that it follows;
    `tone` asks for the average spectrum of the recording it stands on.
    """

    frame: int = 0
    beats: Beats = field(default_factory=lambda: steady(120.0))
    hits_s: np.ndarray = field(default_factory=lambda: np.empty(0))
    tone: Callable[[], Tone] = lambda: PINK


class Processor(Protocol):
    """A move at work: audio in, audio out, with carried state."""

    latency: int
    """Frames by which the output lags behind the input."""

    def process(self, block: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        """Treat one block of shape (frames, channels); `key` has as many frames."""
        ...


@runtime_checkable
class Remembering(Protocol):
    """A processor whose state may hang on something that was heard any time ago.

    A region that begins in the middle finds it: after `doubt`, the processor says since when what it
    heard has told its state for certain.
    """

    def doubt(self) -> None:
        """Forget that state."""
        ...

    def certain_frames(self) -> int:
        """Frames since it is certain again; negative while it is not."""
        ...


@runtime_checkable
class Ringing(Protocol):
    """A processor that sounds on for seconds of what it heard, as halls and echoes do."""

    def ringing(self) -> tuple[np.ndarray, ...]:
        """What it still sounds on with, as it is now."""
        ...

    def ring_on(self, state: tuple[np.ndarray, ...]) -> bool:
        """Sound on with what another of its kind rang with; False where that does not fit it."""
        ...


class Trace(Protocol):
    """Where a processor writes its reduction in dB, one value a frame; by band where it has bands.

    What is written is the gain as it is applied. A band with a name is one that the picture needs.
    """

    def __call__(self, values: np.ndarray, band: int | str | None = None) -> None: ...


def note_gains(trace: Trace, gains_db: np.ndarray, together_db: np.ndarray) -> None:
    """Write the gains of bands in series, and the furthest that they do together, (bands, frames)."""
    bands, frames = gains_db.shape
    for n, row in enumerate(gains_db):
        trace(-row, n)
    if not bands:
        trace(np.zeros(frames, np.float32))
        return
    at = np.abs(together_db).argmax(axis=0)
    trace(-together_db[at, np.arange(frames)])


TRACE_RATE = 200


@dataclass
class TraceLog:
    """Collects per-frame values into points of 5 ms, whatever the block size.

    The first `lag` frames are left out: the run-up of a region, and a look-ahead.
    """

    rate: int
    lag: int = 0
    seen: int = 0
    low: list[np.ndarray] = field(default_factory=list)
    high: list[np.ndarray] = field(default_factory=list)
    mean: list[np.ndarray] = field(default_factory=list)
    _rest: np.ndarray = field(default_factory=lambda: np.empty(0, np.float32))

    def write(self, values: np.ndarray) -> None:
        """Add one block of values, one per frame."""
        if self.lag:
            dropped = min(self.lag, values.size)
            self.lag -= dropped
            values = values[dropped:]
        joined = np.concatenate([self._rest, values])
        first = self.seen - self._rest.size
        self.seen += values.size
        whole = self.seen * TRACE_RATE // self.rate
        begun = first * TRACE_RATE // self.rate
        edges = np.array([-(-n * self.rate // TRACE_RATE) for n in range(begun, whole + 1)]) - first
        edges[0] = 0
        if edges.size < 2:
            self._rest = joined
            return
        used = joined[: edges[-1]]
        starts = edges[:-1]
        self.low.append(np.minimum.reduceat(used, starts))
        self.high.append(np.maximum.reduceat(used, starts))
        self.mean.append(np.add.reduceat(used, starts) / np.diff(edges))
        self._rest = joined[edges[-1] :]

    def traced(self) -> Traced:
        """Everything collected so far."""
        if not self.low:
            empty = np.empty(0, np.float32)
            return Traced(empty, empty, empty)
        return Traced(*(np.concatenate(rows) for rows in (self.low, self.high, self.mean)))


@dataclass(frozen=True)
class Group:
    """Fields of a move that are shown together."""

    title: str
    fields: tuple[str, ...]


@dataclass(frozen=True)
class Pair:
    """The rules of a kind that stands on two parts at once, each side tied to the other.

    `sides` are the values of the field `side` on the first and the second part; the fields of `alike`
    are the same on both.
    """

    sides: tuple[str, str]
    alike: tuple[str, ...]

    def laid(
        self, parts: tuple[str, str], ids: tuple[str, str], settings: dict[str, Any]
    ) -> tuple[dict[str, Any], dict[str, Any]]:
        """The settings of both sides, each listening to the other part."""
        both = []
        for n in (0, 1):
            other = {"part": parts[1 - n], "move": ids[1 - n]}
            key = {"source": parts[1 - n], "tap": "source"}
            both.append({**settings, "id": ids[n], "side": self.sides[n], "tied_to": other, "key": key})
        return both[0], both[1]

    def turned(self, side: str) -> str:
        """The other side."""
        return self.sides[1 - self.sides.index(side)]

    def fits(self, move: Any, other: Any) -> bool:
        """Whether two moves are the sides of one pair, as far as their settings go."""
        same = all(getattr(move, name) == getattr(other, name) for name in self.alike)
        return same and move.side != other.side


@dataclass(frozen=True)
class Action:
    """Something a kind can do besides setting a value: what its button says, and what it does.

    `apply(settings, index)` changes the move's JSON in place; `index` counts the items of its list from
    0. `fits(move, index)` tells whether it can be done now. BadDocument says why not.
    """

    name: str
    title: str
    apply: Callable[[dict[str, Any], int], None]
    fits: Callable[[Any, int], bool] = lambda move, index: True
    help: str = ""


@dataclass(frozen=True)
class MoveKind:
    """A registered move: its name, its parameters and how to set it to work."""

    name: str
    title: str
    summary: str
    params: type[MoveBase]
    make: Callable[[Any, int, int, Trace | None], Processor]
    """(parameters, rate, channels, where to write the reduction) -> processor.

    A processor with a method `start_at(place)` is told where in the song it begins.
    """
    settle_s: Callable[[Any], float]
    """Seconds of run-up after which a late start is within -90 dB of an early one."""
    picture: Callable[..., Picture]
    """(parameters, frequencies in Hz, rate) -> its gain over frequency, and its handles.

    Where its sound hangs on the part's tone, that is one more argument.
    """
    start: Callable[[Fight], Start] | None = None
    """Settings to begin with in a fight, each with its reason; None for a kind that makes no room."""
    place: int = 100
    """Where it stands among the others where they are listed."""
    suits: Callable[[Fight], float] = lambda fight: 0.0
    """How well it usually solves a fight, from 0 to 1."""
    pair: Pair | None = None
    """Its rules, where it stands on two parts at once."""
    actions: tuple[Action, ...] = ()
    """What else it can do with one of its items, or with itself."""
    layout: tuple[Group, ...] = ()
    """Which fields belong together, in order; the others follow."""
    hit_face: Callable[[Any, int, float], HitFace] = usual_face
    """(parameters, chosen item, tempo) -> what can be taken hold of where a hit is drawn."""
    item_words: Callable[[Any, int], str] = lambda move, index: ""
    """What one of its items is, in words."""
    checks: tuple[Check, ...] = COMMON
    """What can be wrong with it, in the order in which it is looked for."""
    fits_slowly: bool = False
    """Whether its first setting takes a while to work out: it comes last where many are tried."""
    warmed_by: tuple[dict[str, Any], ...] = ({},)
    """Settings with which, in turn, all its kernels run: compiled before they are needed."""
    quick: str = ""
    """A button of its own where nothing treats the part yet, as "Duck {part} for {leader}"."""
    rings_s: Callable[[Any], float] = lambda move: 0.0
    """Seconds for which it sounds on, above -90 dB, after its input ends."""
    later_s: Callable[[Any], float] = lambda move: 0.0
    """By how many seconds it moves what it treats towards the end of the song."""
    channels_out: Callable[[Any, int], int] = lambda move, channels: channels
    """(parameters, channels in) -> channels out."""
    in_phase: Callable[[Any, int, int], Processor | None] = lambda move, rate, channels: None
    """(parameters, rate, channels) -> what the untreated sound passes beside the treated one.

    For a kind that turns the phase even when it does nothing, so that at the borders of sections both
    have the same phase.
    """
    since_form_2_db: Callable[[Any, int], float] = lambda move, rate: 0.0
    """(parameters, rate) -> by how many dB at most it sounds different from documents of form 2."""
    form_2_hold_ms: Callable[[Any], float] = lambda move: 0.0
    """The longest hold it has where documents of form 2 held the highest peak, and none under it."""
    fold: Callable[[Any], Side] = lambda move: "both"
    """Where alone it works, if not on both channels alike: what it does is judged there."""
    rises: Callable[[Any], bool] = lambda move: False
    """Whether it moves upwards: what it does on hits is then told by its highest gain."""
    limits_input: bool = False
    """Whether a limit to sections shuts its input: what it sounds on with crosses the border."""
    is_still: Callable[[Any], bool] = lambda move: False
    """Whether it does the same at any time, so that an impulse response tells all of it."""
    is_space: bool = False
    """Whether on a return it is what the return is for, rather than a treatment of its sound."""
    by_tone: bool = False
    """Whether its sound depends on the average spectrum of the part it stands on."""
    begins_by_role: bool = False
    """Whether it is what a part's role asks for to begin with: bands of shape, hz, gain_db and q."""
    parts_lows: Callable[[Fight, bool], Start] | None = None
    """(fight, whether the leader owns the subs) -> settings that part the low end between both parts.

    The one that owns the subs gives the low mids, and the other way round; for a kind with `pair` only.
    """
    aside: bool = False
    """Whether it makes room by moving a part aside: one side alone gives way."""
    only_level: bool = False
    """Whether it does what a fader does: the baseline of all ways, and none that a plan would take."""
    ends_tails: bool = False
    """Whether it shortens what rings on: proposed where two parts part by their lengths."""
    takes_spectra: bool = False
    """Whether it stands on spectra that were taken from the song."""
    tuned: str = ""
    """The field that may take the pitch of a part, or the song's key."""
    keyed: bool = False
    timed: bool = False
    """Whether its sound depends on where it is in the song."""
    in_brief: Callable[[Any], str] = lambda move: ""
    """The settings in a few words, for the chain and the recall sheet."""

    def at_work(self, move: Any, rate: int, channels: int, trace: Trace | None = None) -> Processor:
        """A processor of the kind, where in the stereo field the move acts."""
        placement: Placement = getattr(move, "placement", "both")
        if placement == "both":
            return self.make(move, rate, channels, trace)
        return PlacedProcessor(
            lambda count: self.make(move, rate, count, trace),
            lambda count: self.in_phase(move, rate, count),
            placement,
            channels,
        )

    def judged_in(self, move: Any) -> Side:
        """Where alone a move works, if not on both channels alike: what it does is judged there."""
        return fold_of(move.placement) if hasattr(move, "placement") else self.fold(move)

    def drawn(self, move: Any, hz: np.ndarray, rate: int, tone: Tone = PINK) -> Picture:
        """The picture of a move that stands on a part with a tone."""
        picture = self.picture(move, hz, rate, tone) if self.by_tone else self.picture(move, hz, rate)
        placement = getattr(move, "placement", "both")
        return picture if placement == "both" else replace(picture, of=f"the {placement}")

    @property
    def in_words(self) -> str:
        """Its title within a sentence: abbreviations stay as they are."""
        return " ".join(word if word.isupper() else word.lower() for word in self.title.split())
