"""What an edit, a step back and a page of history cost after ten thousand edits, against a fresh session."""

from __future__ import annotations

import statistics
import tempfile
from collections.abc import Callable
from pathlib import Path

from bench.timing import Row, seconds
from pondel.core.document import Part, Session
from pondel.core.operations import parse_operation
from pondel.jobs.desk import Desk
from pondel.store.library import Library

EDITS, ROUNDS = 10_000, 300
PARTS = [Part(id=f"p{n}", name=f"P{n}", role="effect", source="sends") for n in range(8)]


class Song:
    """A session on disk of its own."""

    def __init__(self, folder: Path) -> None:
        self.library = Library(folder)
        self.desk = Desk(self.library)
        document = Session(name="Long", parts=[part.model_copy() for part in PARTS])
        self.id = self.library.create(document, rate_known=True)
        self._count = 0

    def edit(self) -> None:
        """Move a fader to where it was not."""
        self._count += 1
        change = {"op": "set part", "part": f"p{self._count % 8}", "field": "fader_db"}
        value = -0.01 * (1 + self._count % 997)
        self.desk.do(self.id, [parse_operation({**change, "value": value})])

    def there_and_back(self) -> None:
        """A step back and forth."""
        self.library.history.undo(self.id)
        self.library.history.redo(self.id)


def rows() -> list[Row]:
    with tempfile.TemporaryDirectory() as name:
        long, fresh = Song(Path(name) / "long"), Song(Path(name) / "fresh")
        every = [seconds(long.edit) for _ in range(EDITS)]
        fresh.edit()
        works: list[Callable[[Song], object]] = [
            Song.edit,
            Song.there_and_back,
            lambda song: song.library.history.steps(song.id),
        ]
        ratios, times = [], []
        for work in works:
            pairs = [
                (seconds(lambda work=work: work(long)), seconds(lambda work=work: work(fresh)))
                for _ in range(ROUNDS)
            ]
            later, first = (statistics.median(side) for side in zip(*pairs, strict=True))
            ratios.append(f"{later / first:.2f} x")
            times.append(f"{1000 * later:.1f} against {1000 * first:.1f} ms")
        for song in (long, fresh):
            song.library.close()
    return [
        (
            "after ten thousand edits, against a fresh session in turn: an edit; a step back and forth; "
            "a page of history",
            "; ".join(ratios),
            "no more",
            f"{'; '.join(times)}; the first and the last thousand of them "
            f"{1000 * statistics.median(every[:1000]):.1f} and {1000 * statistics.median(every[-1000:]):.1f} ms",
        )
    ]
