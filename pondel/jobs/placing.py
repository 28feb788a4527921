"""Files that are put where they belong only once all of them are whole.

with put_in_place(out, ["mix.wav"], replace=False) as placing:
    placing.put(write_into(placing.folder))
placing.placed      # [out / "mix.wav"]
"""

from __future__ import annotations

import tempfile
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path

from pondel.core.errors import BadDocument


@dataclass
class Placing:
    """A folder to write into, beside the place where the files go."""

    folder: Path
    out: Path
    replace: bool
    placed: list[Path] = field(default_factory=list)

    def put(self, paths: Sequence[Path]) -> None:
        """Move whole files to their place; BadDocument, and nothing is moved, where one is there."""
        targets = [self.out / path.name for path in paths]
        refuse_to_replace(targets, self.replace)
        for path, target in zip(paths, targets, strict=True):
            path.replace(target)
            self.placed.append(target)


@contextmanager
def put_in_place(out: Path, names: Iterable[str], replace: bool) -> Iterator[Placing]:
    """A folder to write `names` and others into. What fails leaves `out` as it was."""
    refuse_to_replace([out / name for name in names], replace)
    out.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(prefix=".pondel-", dir=out) as folder:
        yield Placing(Path(folder), out, replace)


def refuse_to_replace(targets: Sequence[Path], replace: bool) -> None:
    """BadDocument where a file is there already and is not to be replaced."""
    there = [path for path in targets if path.exists()]
    if there and not replace:
        more = f" and {len(there) - 1} more" if len(there) > 1 else ""
        raise BadDocument(
            f"is there already{more}: choose another folder or name, or add --replace",
            where=str(there[0]),
        )
