"""What recordings are written as."""

FORMATS = {"wav": "WAV", "flac": "FLAC", "aiff": "AIFF", "ogg": "OGG"}
BIT_DEPTHS = ("16", "24", "32f")
