"""What is printed: the mix, parts, groups and returns as files, in bounded memory.

paths = desk.printing.print_to(document, folder, Order("mix", "wav", "24"))
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator
from contextlib import ExitStack
from pathlib import Path
from string import Formatter

import numpy as np

from pondel.core.audio import files
from pondel.core.audio.broadcast import stamped
from pondel.core.audio.cut import cut_at
from pondel.core.audio.media import Media
from pondel.core.document import Session
from pondel.core.dsp.split import Split
from pondel.core.engine import render
from pondel.core.engine.graph import song_frames
from pondel.core.engine.routing import active_moves
from pondel.core.errors import BadDocument
from pondel.core.moves.registry import kind_of
from pondel.core.units import say
from pondel.jobs.curves import write_curves
from pondel.jobs.placing import put_in_place
from pondel.jobs.recordings import Recordings
from pondel.store.prints import Order

FIELDS = ("part", "session", "variant", "number", "role")
"""What the pattern of a name may hold, in braces."""
MOST_LOWER_DB, SPLIT_HZ = 40.0, (30.0, 8000.0)
SIDES = ("low", "high")
CURVES = "curves"
"""What is ordered where gains, hits and responses are wanted rather than sound."""
FILES_AT_ONCE = 128
WHOLES = ("mix", "parts", "both", CURVES)
"""What is no part of its own."""


class Printing:
    """Prints sessions from their recordings. Thread-safe."""

    def __init__(self, media: Recordings) -> None:
        self._media = media

    def print_to(
        self,
        document: Session,
        folder: Path,
        order: Order,
        *,
        replace: bool = True,
        progress: Callable[[float], None] = lambda share: None,
    ) -> list[Path]:
        """Render what was ordered into files in `folder`, in bounded memory.

        Parts are printed as they sound in the mix: those in no group, groups and returns, so that
        their sum is the mix. Files appear, or are replaced, once all of them are whole; what fails
        changes nothing. BadDocument where whole numbers would clip, with how much to lower it, and
        where a file is there that is not to be replaced.
        """
        names = self._file_names(document, order)
        with put_in_place(folder, names, replace) as placing:
            if order.what == CURVES:
                paths = write_curves(document, self._media, placing.folder, progress)
                if not paths:
                    raise BadDocument("no move is on: there are no curves, hits or responses to write")
                placing.put(paths)
            else:
                placing.put(self._print_to(document, placing.folder, order, progress))
            return placing.placed

    def _print_to(
        self, document: Session, folder: Path, order: Order, progress: Callable[[float], None]
    ) -> list[Path]:
        start, end = self._stretch(document, order)
        over = _Over(order)
        paths: list[Path] = []
        passes = _passes(_targets(document, order), order)
        for n, some in enumerate(passes):

            def report(share: float, done: int = n) -> None:
                progress((done + share) / len(passes))

            paths += self._pass(document, folder, order, some, (start, end), over, report)
        over.refuse()
        if order.format == "wav":
            begins = round(document.clock_origin_s() * document.rate) + start
            for path in paths:
                stamped(path, max(0, begins))
        return paths

    def _file_names(self, document: Session, order: Order) -> list[str]:
        """The files that an order makes, as far as they are known before it is printed.

        BadDocument or BadAudio where it cannot be printed.
        """
        check_order(document, order)
        if order.what == CURVES:
            return []
        names = (name for target in _targets(document, order) for name in _sides(target, order))
        return [f"{name}.{order.format}" for name in names]

    def _pass(
        self,
        document: Session,
        folder: Path,
        order: Order,
        targets: dict[str, render.Target],
        stretch: tuple[int, int],
        over: _Over,
        progress: Callable[[float], None],
    ) -> list[Path]:
        """Render some of the targets at once."""
        start, end = stretch
        names = [name for target in targets for name in _sides(target, order)]
        paths = [folder / f"{name}.{order.format}" for name in names]
        done = 0
        with ExitStack() as opened:
            writers: list[files.Writer] = []
            for path in paths:
                writer = files.Writer(path, document.rate, 2, order.format, order.bits, end - start)
                opened.callback(writer.abandon)
                writers.append(writer)
            for blocks in self._blocks(document, list(targets.values()), order, start, end):
                over.look(names, blocks)
                if not over.is_over:
                    for writer, block in zip(writers, blocks, strict=True):
                        writer.write(block)
                done += blocks[0].shape[0]
                progress(min(1.0, done / (end - start)))
            if not over.is_over:
                for writer in writers:
                    writer.close()
        return paths

    def print_bytes(self, document: Session, order: Order) -> int:
        """Bytes that a print of the whole song takes, at most."""
        if order.what == CURVES:
            tracks = sum(3 + 2 * len(active_moves(part)) for part in document.parts)
            return tracks * files.wav_bytes(song_frames(document, self._media), 1)
        files_wanted = len(_targets(document, order)) * (2 if order.split_hz else 1)
        return files_wanted * files.wav_bytes(self._song(document, order), 2)

    def _song(self, document: Session, order: Order) -> int:
        return song_frames(document, self._media) + _ringing(document, order)

    def _stretch(self, document: Session, order: Order) -> tuple[int, int]:
        """The frames to print: within the song; BadDocument when there is nothing between."""
        rate, song = document.rate, song_frames(document, self._media)
        for name, value in (("start", order.start_s), ("end", order.end_s)):
            if value is not None and not 0.0 <= value < math.inf:
                raise BadDocument(f"{value:g} s is not a place in the song", where=f"the {name}")
        start = round(min(order.start_s, song / rate) * rate)
        end = song if order.end_s is None else round(min(order.end_s, song / rate) * rate)
        if order.end_s is not None and order.end_s <= order.start_s:
            raise BadDocument("the stretch to print ends before it starts")
        if end <= start:
            raise BadDocument(
                f"the song ends at {song / rate:.2f} s, before the stretch to print starts"
            )
        return start, end + _ringing(document, order)

    def _blocks(
        self, document: Session, targets: list[render.Target], order: Order, start: int, end: int
    ) -> Iterator[list[np.ndarray]]:
        """What goes into each file, block by block."""
        gain = np.float32(10 ** (-order.lower_db / 20))
        media: Media = self._media
        if order.ring_out and order.end_s is not None:
            document, media = cut_at(document, media, order.end_s)
        rows = render.blocks(document, media, targets, start, end - start)
        for blocks in _split(rows, order, document.rate, len(targets)):
            yield [block * gain for block in blocks] if order.lower_db else blocks


class _Over:
    """How far samples go beyond what whole numbers hold, in which file."""

    def __init__(self, order: Order) -> None:
        self._holds = order.bits != "32f" or order.format == "ogg"
        self._lower_db = order.lower_db
        self._peak, self._name = 1.0, ""

    @property
    def is_over(self) -> bool:
        return self._holds and self._peak > 1.0

    def look(self, names: list[str], blocks: list[np.ndarray]) -> None:
        for name, block in zip(names, blocks, strict=True):
            peak = float(max(block.max(initial=0.0), -block.min(initial=0.0)))
            if peak > self._peak:
                self._peak, self._name = peak, name

    def refuse(self) -> None:
        """BadDocument when something went over."""
        if not self.is_over:
            return
        over_db = 20.0 * math.log10(self._peak)
        enough_db = math.ceil(10.0 * (self._lower_db + over_db)) / 10.0
        goes = f"{self._name} goes {say(over_db, 'dB', 1)} over full scale"
        raise BadDocument(f"{goes}: print {enough_db:.1f} dB lower, or as 32-bit float")


def check_order(document: Session, order: Order) -> None:
    """BadDocument or BadAudio when an order cannot be printed, whatever the sound is."""
    files.check_target(order.format, order.bits)
    if order.what not in WHOLES and document.part(order.what).reference:
        raise BadDocument("a reference is never printed", where=document.part(order.what).name)
    if not 0.0 <= order.lower_db <= MOST_LOWER_DB:
        raise BadDocument(f"print from 0 to {MOST_LOWER_DB:g} dB lower", where="lower by")
    lowest, highest = SPLIT_HZ
    if order.split_hz is not None and not lowest <= order.split_hz <= highest:
        raise BadDocument(f"split between {lowest:g} Hz and {highest:g} Hz", where="split at")
    if not _is_pattern(order.pattern):
        known = ", ".join(f"{{{field}}}" for field in FIELDS)
        raise BadDocument(f"a name is made of words and {known}", where="names")


def _is_pattern(pattern: str) -> bool:
    """Whether a name is made of words and known fields, and of nothing else."""
    try:
        pieces = list(Formatter().parse(pattern))
    except ValueError:
        return False
    fields = [(field, form, how) for _, field, form, how in pieces if field is not None]
    are_known = all(field in FIELDS and not form and not how for field, form, how in fields)
    return bool(pattern.strip()) and are_known


def _ringing(document: Session, order: Order) -> int:
    return math.ceil(rings_out_s(document) * document.rate) if order.ring_out else 0


def rings_out_s(document: Session) -> float:
    """How long returns and other tails go on after what they are fed has ended."""
    rings = [
        sum(kind_of(move.kind).rings_s(move) for move in active_moves(part)) for part in document.parts
    ]
    return sum(sorted(rings)[-2:])


def _targets(document: Session, order: Order) -> dict[str, render.Target]:
    what = order.what
    targets: dict[str, render.Target] = {}
    chosen = document.summed() if what in ("parts", "both") else []
    if what not in WHOLES:
        chosen = [document.part(what)]

    def add(part: str, role: str, target: render.Target) -> None:
        named = order.pattern.format(
            part=part,
            role=role,
            session=document.name,
            variant=order.variant,
            number=f"{len(targets) + 1:02}",
        )
        targets[_free_name(files.safe_name(named), targets)] = target

    if what in ("mix", "both"):
        add("mix", "mix", render.MIX)
    for one in chosen:
        add(one.name, one.role, (one.id, "after fader"))
    if not targets:
        raise BadDocument("there is no part to print yet: bring in some files first")
    return targets


def _sides(name: str, order: Order) -> list[str]:
    return [name] if order.split_hz is None else [f"{name} {side}" for side in SIDES]


def _split(
    rows: Iterator[list[np.ndarray]], order: Order, rate: int, count: int
) -> Iterator[list[np.ndarray]]:
    """Each target's blocks, or both its sides without their delay."""
    if order.split_hz is None:
        yield from rows
        return
    splits = [Split(order.split_hz, rate, 2) for _ in range(count)]
    late = splits[0].delay
    for blocks in rows:
        both = [
            side
            for split, block in zip(splits, blocks, strict=True)
            for side in split.process(np.repeat(block, 2, axis=1) if block.shape[1] == 1 else block)
        ]
        dropped = min(late, both[0].shape[0])
        late -= dropped
        if both[0].shape[0] > dropped:
            yield [side[dropped:] for side in both]
    left = [side for split in splits for side in split.rest()]
    yield [side[late:] for side in left]


def _passes(targets: dict[str, render.Target], order: Order) -> list[dict[str, render.Target]]:
    """The targets in groups, so that no more files than `FILES_AT_ONCE` are open at a time."""
    names = list(targets)
    size = FILES_AT_ONCE // len(_sides("", order))
    groups = [names[first : first + size] for first in range(0, len(names), size)]
    return [{name: targets[name] for name in group} for group in groups]


def _free_name(name: str, taken: Iterable[str]) -> str:
    """A name that no other file has, also where small and capital letters are one."""
    lower = {one.lower() for one in taken}
    if name.lower() not in lower:
        return name
    return next(f"{name} {n}" for n in range(2, len(lower) + 3) if f"{name} {n}".lower() not in lower)
