"""What recordings are written as."""

from __future__ import annotations

from typing import Literal

Bits = Literal["16", "24", "32f"]
FORMATS = {"wav": "WAV", "flac": "FLAC", "aiff": "AIFF", "ogg": "OGG"}
BIT_DEPTHS: tuple[Bits, ...] = ("16", "24", "32f")
