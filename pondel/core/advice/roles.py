"""Guessing a part's role from its name."""

from __future__ import annotations

import re

from pondel.core.document import Role

WORDS: list[tuple[Role, str]] = [
    ("backing voice", r"backing|bgv|bvox?|choir|chorus vo|harmony vo"),
    ("kick", r"kick|bass ?drum|\bbd\b|\bkik\b|\bkd\b|bombo|surdo"),
    ("snare", r"snare|side ?drum|\bsd\b|\bsn\b|clap"),
    ("hats", r"hi ?hats?|\bhats?\b|\bhh\b"),
    (
        "percussion",
        r"shaker|perc|tambourine|conga|bongo|cymbal|ride|crash|toms?\b|overhead|\boh\b|cowbell",
    ),
    ("bass", r"bass|tuba|\bsub\b|contrabass|\b808\b"),
    ("guitar", r"guitar|\bgtr\b|\bgit\b|banjo|mandolin|ukulele"),
    ("keys", r"piano|keys?\b|marimba|vibra|organ|rhodes|clav|harpsichord|xylo|glock"),
    ("pad", r"\bpads?\b|accordion|drone|ambient"),
    ("brass", r"brass|horn|trumpet|trombone|\bsax"),
    ("strings", r"strings?|violin|viola|cello|fiddle"),
    ("lead", r"lead|melody|solo|flute|clarinet|\bvoice\b"),
    ("voice", r"voc|vox|singer|rap|voice|speech"),
    ("effect", r"\bfx\b|effect|sweep|riser|impact|noise"),
]


def guess_role(name: str) -> Role:
    """The role a file name suggests; "other" when it suggests none."""
    plain = re.sub(r"[_\-.]+", " ", name.lower())
    plain = re.sub(r"(?<=[a-z])(?=\d)", " ", plain)
    for role, pattern in WORDS:
        if re.search(pattern, plain):
            return role
    return "other"
