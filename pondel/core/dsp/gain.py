"""A gain for each frame, applied."""

from __future__ import annotations

import numpy as np

from pondel.core.dsp.compiled import kernel
from pondel.core.dsp.limits import LOUDEST


@kernel(error_model="numpy", fastmath={"contract", "arcp", "nsz"})
def apply_gain(block, gain, out):
    """The block times a gain for each frame; nothing where a sample is not a number."""
    # The gain is first spread over the channels, so that the rest is one plain pass.
    channels = block.shape[1]
    spread = np.empty(block.size, np.float32)
    if channels == 2:
        for i in range(gain.size):
            spread[2 * i] = gain[i]
            spread[2 * i + 1] = gain[i]
    else:
        for i in range(spread.size):
            spread[i] = gain[i // channels]
    samples = block.reshape(-1)
    treated = out.reshape(-1)
    none = np.float32(0.0)
    for i in range(spread.size):
        x = samples[i]
        treated[i] = (x if abs(x) < LOUDEST else none) * spread[i]


def gained(block: np.ndarray, gain: np.ndarray) -> np.ndarray:
    """A block (frames, channels) times a gain for each frame, float32."""
    block = np.ascontiguousarray(block, np.float32)
    out = np.empty_like(block)
    apply_gain(block, gain, out)
    return out
