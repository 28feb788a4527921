"""Writes docs/operations.md from the operations themselves."""

from pathlib import Path

from pondel.core.operations.manual import manual

if __name__ == "__main__":
    Path("docs/operations.md").write_text(manual())
