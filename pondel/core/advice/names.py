"""Parts' names from their files' names.

part_name("02_bass-drum.wav")                                     # "Bass drum"
shared_prefix(["Parade v3 Kick.wav", "Parade v3 Snare.wav"])      # "Parade v3 "
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from itertools import takewhile
from pathlib import PurePath

LONGEST = 80
_ROUGH_MIX = re.compile(
    r"\b(rough|ref|reference|referenz|premaster|master|mixdown|2[ -]?mix|mix ?bus)\b", re.IGNORECASE
)
_TRACK_NUMBER = re.compile(r"0[0-9]+|[0-9]{1,2}")
"""A number in front that counts files; an 808 is none."""
FEWEST = 3
"""So many files at least, or what two have in common may be their name."""


def part_name(file_name: str, prefix: str = "") -> str:
    """A part's name, without numbers in front and without what all files begin with."""
    stem = PurePath(file_name).stem
    plain = "".join(letter if letter.isprintable() else " " for letter in stem.removeprefix(prefix))
    words = plain.replace("_", " ").replace("-", " ").split()
    while len(words) > 1 and _TRACK_NUMBER.fullmatch(words[0]):
        words = words[1:]
    name = " ".join(words)[:LONGEST] or "Part"
    return name[0].upper() + name[1:]


def sounds_like_a_mix(name: str) -> bool:
    """Whether a part's name says that it is a whole mix: a reference, and no part of the song."""
    return bool(_ROUGH_MIX.search(name)) or name.strip().casefold() == "mix"


def shared_prefix(file_names: Sequence[str]) -> str:
    """Whole words with which all the files' names begin, a song's name mostly; often nothing."""
    stems = [PurePath(name).stem for name in file_names]
    if len(stems) < FEWEST:
        return ""
    alike = takewhile(lambda letters: len(set(letters)) == 1, zip(*stems, strict=False))
    common = "".join(letters[0] for letters in alike)
    if any(stem == common for stem in stems):
        return ""
    whole = re.match(r".*[\s_\-.]", common)
    found = whole.group() if whole else ""
    return found if re.search(r"[^\W\d_]", found) else ""
