"""What is printed: the mix, parts, groups and returns as files, in bounded memory.

paths = desk.printing.print_to(document, folder, Order("mix", "wav", "24"))
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from pathlib import Path

from pondel.core.audio import files
from pondel.core.document import Session
from pondel.core.engine import render
from pondel.core.engine.graph import song_frames
from pondel.core.errors import BadDocument
from pondel.jobs.recordings import Recordings
from pondel.store.prints import Order


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
        start_s: float = 0.0,
        end_s: float | None = None,
        progress: Callable[[float], None] = lambda share: None,
    ) -> list[Path]:
        """Render what was ordered into files in `folder`, in bounded memory.

        Parts are printed as they sound in the mix: those in no group, groups and returns, so that
        their sum is the mix.
        """
        files.check_target(order.format, order.bits)
        targets = _targets(document, order.what)
        rate = document.rate
        song = song_frames(document, self._media)
        start, end = _stretch(start_s, end_s, song, rate)
        paths = [folder / f"{name}.{order.format}" for name in targets]
        writers: list[files.Writer] = []
        done = 0
        try:
            for path in paths:
                writers.append(files.Writer(path, rate, 2, order.format, order.bits, end - start))
            for blocks in render.blocks(
                document, self._media, list(targets.values()), start, end - start
            ):
                for writer, block in zip(writers, blocks, strict=True):
                    writer.write(block)
                done += blocks[0].shape[0]
                progress(done / (end - start))
            for writer in writers:
                writer.close()
        finally:
            for writer in writers:
                writer.abandon()
        return paths

    def print_bytes(self, document: Session, order: Order) -> int:
        """Bytes that a print of the whole song takes, at most."""
        files_wanted = len(_targets(document, order.what))
        return files_wanted * files.wav_bytes(song_frames(document, self._media), 2)


def _targets(document: Session, what: str) -> dict[str, render.Target]:
    targets: dict[str, render.Target] = {}
    if what in ("mix", "both"):
        targets["mix"] = render.MIX
    chosen = document.summed() if what in ("parts", "both") else []
    if what not in ("mix", "parts", "both"):
        chosen = [document.part(what)]
        if chosen[0].reference:
            raise BadDocument("a reference is never printed", where=chosen[0].name)
    for part in chosen:
        targets[_free_name(files.safe_name(part.name), targets)] = (part.id, "after fader")
    if not targets:
        raise BadDocument("there is no part to print yet: bring in some files first")
    return targets


def _stretch(start_s: float, end_s: float | None, song: int, rate: int) -> tuple[int, int]:
    """The frames to print: within the song; BadDocument when there is nothing between."""
    for name, value in (("start", start_s), ("end", end_s)):
        if value is not None and not 0.0 <= value < math.inf:
            raise BadDocument(f"{value:g} s is not a place in the song", where=f"the {name}")
    start = round(min(start_s, song / rate) * rate)
    end = song if end_s is None else round(min(end_s, song / rate) * rate)
    if end_s is not None and end_s <= start_s:
        raise BadDocument("the stretch to print ends before it starts")
    if end <= start:
        raise BadDocument(f"the song ends at {song / rate:.2f} s, before the stretch to print starts")
    return start, end


def _free_name(name: str, taken: Iterable[str]) -> str:
    """A name that no other file has, also where small and capital letters are one."""
    lower = {one.lower() for one in taken}
    if name.lower() not in lower:
        return name
    return next(f"{name} {n}" for n in range(2, len(lower) + 3) if f"{name} {n}".lower() not in lower)
