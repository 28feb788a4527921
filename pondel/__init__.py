"""Finds where the parts of a song hide each other, and makes room."""

import os

# Products of matrices are made by whoever needs them, at that thread's rank: threads that the library
# added, and kept spinning, would take both cores from the sound.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
