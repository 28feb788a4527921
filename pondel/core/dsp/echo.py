"""Echoes: a delay line for each channel with cuts in its loop, and a network of eight for rooms.

The loop's cuts after the cookbook (two poles each); the network after Jot and Chaigne, "Digital delay
networks for designing artificial reverberators" (AES 90, 1991): each line loses what its own length
takes of the decay time, by one pole that loses more at the top; a Householder matrix mixes them.
"""

from __future__ import annotations

import numpy as np

from pondel.core.dsp.compiled import kernel
from pondel.core.dsp.limits import LOUDEST

FAINT = 1e-15
LINES = 8
DIFFUSERS = 2


@kernel(error_model="numpy", fastmath={"contract", "nsz"})
def repeat(sound, delays, feedback, crossed, sos, state, ring, place, out):
    """Echoes of (frames, 2) into `out`; returns the place in the ring.

    `delays` is how many frames late each frame hears; ring: float64 (2, most frames); sos: (sections,
    6), state: (2, sections, 2). What comes back goes into the other channel's line where `crossed`.
    """
    size = ring.shape[1]
    heard = np.empty(2)
    for i in range(sound.shape[0]):
        at = place - delays[i]
        if at < 0:
            at += size
        for c in range(2):
            x = ring[c, at]
            for s in range(sos.shape[0]):
                y = sos[s, 0] * x + state[c, s, 0]
                z1 = sos[s, 1] * x - sos[s, 4] * y + state[c, s, 1]
                z2 = sos[s, 2] * x - sos[s, 5] * y
                state[c, s, 0] = z1 if abs(z1) > FAINT else 0.0
                state[c, s, 1] = z2 if abs(z2) > FAINT else 0.0
                x = y
            heard[c] = x if abs(x) > FAINT else 0.0
        for c in range(2):
            back = heard[1 - c] if crossed else heard[c]
            new = sound[i, c] + feedback * back
            ring[c, place] = min(max(new, -LOUDEST), LOUDEST)
            out[i, c] = heard[c]
        place += 1
        if place == size:
            place = 0
    return place


@kernel(error_model="numpy", fastmath={"contract", "nsz"})
def reverberate(sound, early, early_frames, lines, frames, losses, lowered, diffusion, places, out):
    """A room's answer to (frames, 2) into `out`.

    `early`: float64 (2, most) with `early_frames` of delay before the network and, in `diffusion`,
    (2, DIFFUSERS, most) with their lengths in `places`; lines: (LINES, most) of `frames` each; losses:
    (LINES, 2) of gain and pole; lowered: the poles' states. places: [early, line..., diffuser...].
    """
    x = np.empty(LINES)
    given = np.empty(2)
    spread = np.float64(0.6)
    for i in range(sound.shape[0]):
        p = places[0]
        for c in range(2):
            new = np.float64(sound[i, c])
            late = early[c, p] if early_frames > 0 else new
            early[c, p] = new
            for d in range(DIFFUSERS):
                q = places[1 + LINES + d]
                was = diffusion[c, d, q]
                inner = late + spread * was
                inner = inner if abs(inner) > FAINT else 0.0
                diffusion[c, d, q] = min(max(inner, -LOUDEST), LOUDEST)
                late = was - spread * inner
            given[c] = late
        places[0] = p + 1 if p + 1 < early_frames else 0
        for d in range(DIFFUSERS):
            q = places[1 + LINES + d] + 1
            places[1 + LINES + d] = q if q < frames[LINES + d] else 0
        total = 0.0
        for n in range(LINES):
            heard = lines[n, places[1 + n]]
            low = losses[n, 0] * heard + losses[n, 1] * lowered[n]
            lowered[n] = low if abs(low) > FAINT else 0.0
            x[n] = lowered[n]
            total += x[n]
        total *= 2.0 / LINES
        out[i, 0] = x[0] - x[2] + x[4] - x[6]
        out[i, 1] = x[1] - x[3] + x[5] - x[7]
        for n in range(LINES):
            new = x[n] - total + given[n % 2]
            lines[n, places[1 + n]] = min(max(new, -LOUDEST), LOUDEST)
            q = places[1 + n] + 1
            places[1 + n] = q if q < frames[n] else 0
