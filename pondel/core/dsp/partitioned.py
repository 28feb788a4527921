"""Long filters by short transforms: filter and sound cut into pieces of one length.

    filters = Partitioned(np.stack([one, other]))      # filters of one length
    below, above = filters.valid(joined)               # (channels, frames) each

Uniformly partitioned overlap-save (Stockham, "High-speed convolution and correlation", AFIPS 1966):
the transform of a stretch of sound serves all filters, and what all pieces of one filter answer is
added up before it is turned back. Transforms are of single precision: what they round off lies 130 dB
under the sound.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view
from scipy.fft import irfft, rfft

from pondel.core.dsp.compiled import kernel

PIECE = 4096
"""Frames of each piece; a transform is of twice as many and stays near the core."""


@kernel(error_model="numpy", fastmath={"contract", "nsz", "reassoc"})
def _answer(sound, pieces, out):
    """Spectra of (channels, stretches) by those of a filter's pieces, into (channels, fewer)."""
    count = pieces.shape[0]
    for c in range(out.shape[0]):
        for k in range(out.shape[1]):
            total, newest, first = out[c, k], sound[c, k + count - 1], pieces[0]
            for i in range(total.size):
                total[i] = newest[i] * first[i]
            for p in range(1, count):
                older, piece = sound[c, k + count - 1 - p], pieces[p]
                for i in range(total.size):
                    total[i] += older[i] * piece[i]


class Partitioned:
    """Filters of one length, float (filters, taps)."""

    def __init__(self, filters: np.ndarray) -> None:
        count = -(-filters.shape[1] // PIECE)
        cut = np.zeros((filters.shape[0], count * PIECE))
        cut[:, : filters.shape[1]] = filters
        pieces = cut.reshape(filters.shape[0], count, PIECE)
        self.past = filters.shape[1] - 1
        """Frames before the first that are heard in it."""
        self._pieces = rfft(pieces, 2 * PIECE, axis=2).astype(np.complex64)

    def valid(self, joined: np.ndarray) -> Iterator[np.ndarray]:
        """What each filter makes of float32 (channels, past + frames): float32 (channels, frames)."""
        channels, frames = joined.shape[0], joined.shape[1] - self.past
        count, bins = self._pieces.shape[1:]
        steps, before = -(-frames // PIECE), count * PIECE
        padded = np.zeros((channels, before + steps * PIECE), np.float32)
        padded[:, before - self.past : before + frames] = joined
        stretches = sliding_window_view(padded, 2 * PIECE, axis=1)[:, ::PIECE]
        sound = rfft(stretches, axis=2)
        answer = np.empty((channels, steps, bins), np.complex64)
        for pieces in self._pieces:
            _answer(sound, pieces, answer)
            found = irfft(answer, 2 * PIECE, axis=2)[:, :, PIECE:]
            yield found.reshape(channels, steps * PIECE)[:, :frames]
