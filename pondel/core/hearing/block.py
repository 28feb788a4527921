"""Some frames of all parts, laid out by place, and what is lost in them shared out among who takes it.

    block = Block.of(powers, groups, told)
    block.lay_out(part)                                  # each of block.there
    weigh(lost, others, ..., block.weights, row, own)    # each of block.told
    given = block.share_out(pool, by)

Only parts that sound in these frames take any work: in a large session most of them rest.
"""

from __future__ import annotations

from collections.abc import Sequence
from concurrent.futures import Executor
from dataclasses import dataclass

import numpy as np

from pondel.core.dsp.compiled import kernel
from pondel.core.hearing.scale import PLACES_HZ
from pondel.core.side_by_side import side_by_side

AT_ONCE = 200_000
"""Numbers that one product of matrices is made of: they stay near the core that works at them."""


@kernel(error_model="numpy", fastmath={"contract", "nsz", "arcp"})
def weigh(lost, others, groups, alone, weights, n, own):
    """What is lost of part `n` for each power of its hiders, and the part's own sums.

    weights: float32 (places, parts, frames); own: float64 (groups, places).
    """
    least = np.float32(1e-20)
    for f in range(lost.shape[0]):
        if groups[f] < 0:
            for b in range(lost.shape[1]):
                weights[b, n, f] = np.float32(0.0)
            continue
        sums = own[groups[f]]
        for b in range(lost.shape[1]):
            weights[b, n, f] = lost[f, b] / max(others[f, b], least)
            sums[b] += alone[f, b]


@dataclass(frozen=True)
class Block:
    """Excitation by all parts in some frames, float32 (parts, frames, places), and their sum.

    `there` are the parts that sound, `told` those of them with figures of their own. `groups` (parts,
    frames) says where each frame counts, `present` which groups there are among what is told.
    `by_place`, float32 (places, there, frames), are the powers; `weights`, float32 (places, told,
    frames), is what is lost for each power of who takes it.
    """

    powers: np.ndarray
    total: np.ndarray
    groups: np.ndarray
    present: np.ndarray
    there: list[int]
    told: list[int]
    by_place: np.ndarray
    weights: np.ndarray

    @classmethod
    def of(cls, powers: np.ndarray, groups: np.ndarray, may_be_told: Sequence[int]) -> Block:
        there = [part for part, power in enumerate(powers) if power.any()]
        told = [part for part in there if part in may_be_told]
        places, frames = PLACES_HZ.size, powers.shape[1]
        return cls(
            powers,
            powers.sum(axis=0),
            groups,
            np.flatnonzero(np.bincount(groups[told].ravel())),
            there,
            told,
            np.empty((places, len(there), frames), np.float32),
            np.empty((places, len(told), frames), np.float32),
        )

    def lay_out(self, part: int) -> None:
        self.by_place[:, self.there.index(part)] = self.powers[part].T

    def share_out(self, pool: Executor | None, by: np.ndarray) -> np.ndarray:
        """Add what is lost of all parts at once to `by`, to each hider in proportion to its power.

        For each place and group a product of matrices: what is lost of the parts, over frames, by the
        powers of all that sound. So it takes next to nothing, however many parts there are. by: float32
        (groups, places, parts, parts). Returns what each takes of each in these frames, (parts, parts).
        """
        rest, *others = self.present
        groups, parts = self.groups[self.told], self.powers.shape[0]
        inside = [(group, (groups == group).astype(np.float32)) for group in others]
        own = np.arange(len(self.told)), np.searchsorted(self.there, self.told)
        all_are_told = len(self.told) == parts
        pairs = (slice(None), slice(None)) if all_are_told else np.ix_(self.told, self.there)

        def share(places: slice) -> np.ndarray:
            weight, power = self.weights[places], self.by_place[places].transpose(0, 2, 1)
            left = np.matmul(weight, power)
            left[:, *own] = 0.0
            taken = left.sum(axis=0, dtype=np.float64)
            for group, counts in inside:
                lost = np.matmul(weight * counts, power)
                lost[:, *own] = 0.0
                by[group, places][:, *pairs] += lost
                left -= lost
            by[rest, places][:, *pairs] += np.maximum(left, 0.0, out=left)
            return taken

        step = max(1, AT_ONCE // self.weights[0].size)
        pieces = [slice(place, place + step) for place in range(0, PLACES_HZ.size, step)]
        given = np.zeros((parts, parts))
        given[pairs] = np.sum(list(side_by_side(pool, share, pieces)), axis=0)
        return given
