"""Ten thousand edits that no page sends: each is answered, none as a failure of Pondel's own."""

from __future__ import annotations

import json
import os
import random
from typing import Any

import pytest
from conftest import hits, sine
from web_tools import Caller, audio, jobs_of

from attacks.hostile import RAW, anything
from pondel.core.document import Session
from pondel.core.moves.controls import controls_of
from pondel.core.moves.registry import KINDS
from pondel.core.operations import OPERATIONS
from pondel.web import create_app

BODIES = int(os.environ.get("PONDEL_TEST_BODIES", "1200"))
"""Ten thousand by `PONDEL_TEST_BODIES=10000`; the seed is the same, so these are the first of them."""
COSTLY = ("give way", "right of way")
AROUND = ("gesture", "page", "listen")
FIELDS = [
    *("name", "role", "trim_db", "fader_db", "pan", "mute", "silent_key", "tag", "file", "moves", "id"),
    *(
        "tempo_bpm",
        "beats_per_bar",
        "sections",
        "listening_level_db_spl",
        "on",
        "key",
        "kind",
        "sensitivity",
    ),
    *("key.source", "key.tap", "key.level_db", "key.low_cut_hz", "hits_of", "hits_s", "..", "", "."),
    *("bands", "bands.0", "bands.0.hz", "bands.99.hz", "bands.-1.hz", "bands.x.hz", "bands..hz"),
    *("points", "points.0.at", "crossovers_hz", "crossovers_hz.0", "crossovers_hz.9"),
    *("__class__", "model_fields", "key.__class__"),
    *(control.field for kind in KINDS.values() for control in controls_of(kind.params)),
]


@pytest.fixture(scope="module")
def place(tmp_path_factory):
    app = create_app(tmp_path_factory.mktemp("fuzz"), immediate=True)
    app.config["PROPAGATE_EXCEPTIONS"] = False
    caller = Caller(app.test_client())
    song = jobs_of(app).library.create(Session(name="Song"))
    caller.upload(song, ("kick.wav", audio(hits(1.5))), ("tuba.wav", audio(sine(70, 1.5))))
    for kind in KINDS:
        caller.edit(song, op="give way", leader="kick", part="tuba", kind=kind)
    caller.edit(song, op="add return", name="Hall")
    caller.edit(song, op="set sections", sections=[{"name": "A", "start_s": 0, "end_s": 1}])
    caller.edit(song, op="decide", leads="kick", gives_way="tuba", low_hz=40, high_hz=90)
    return app, caller, song


def sensible(rng: random.Random, document: Session, key: str) -> Any:
    """What a page would send under a name."""
    parts = [part.id for part in document.parts] or ["kick"]
    moves = [move.id for part in document.parts for move in part.moves] or ["m1"]
    known: dict[str, list[Any]] = {
        **dict.fromkeys(("part", "leader", "yielder", "leads", "gives_way"), parts),
        "to": [*parts, parts, [0], 0, 1, -1, 99],
        "move": moves,
        "field": FIELDS,
        "kind": list(KINDS),
        "zone": [zone.id for zone in document.zones] or ["z1"],
        "list": ["bands", "points", "crossovers_hz", "key"],
        "index": [0, 1, -1, 5],
        "value": [1, -3, "on", "kick", 200, True, 0.5, "hits", 4],
        "sections": [["s1"], [{"name": "B", "start_s": 0.1, "end_s": 0.4}], []],
        "tap": ["source", "after fader"],
        "action": ["split", "join"],
        "by": ["rms", "peak", "loudness"],
        "target": [-18, "-23 dB"],
        "values": [{}, {"hz": 200}, {"bands": [{"hz": 90}]}, {"at": 0.5}],
        "times_s": [[], [0.1, 0.5]],
        "both_sides": [True, False],
        "listen": [{"hear": "mix", "at": 0}, {"hear": "pair", "parts": parts[:2], "at": 1}],
    }
    return rng.choice(known.get(key, [40.0, 90.0, 0.25, "x"]))


def hostile_operation(rng: random.Random, document: Session) -> dict[str, Any]:
    op = rng.choice([op for op in OPERATIONS for _ in range(1 if op in COSTLY else 8)])
    fields = [name for name in OPERATIONS[op].model_fields if name != "op"]
    asked: dict[str, Any] = {"op": op}
    if rng.random() < 0.05:
        fields.append(rng.choice(["colour", "document", "op", "example"]))
    for key in fields:
        roll = rng.random()
        if roll < 0.8:
            asked[key] = sensible(rng, document, key)
        elif roll < 0.9:
            asked[key] = anything(rng)
    return asked


def hostile_body(rng: random.Random, document: Session, base: int) -> dict[str, Any]:
    """What to do, once or several times, and what a page says besides."""
    body: dict[str, Any] = {"do": hostile_operation(rng, document), "base": base}
    if rng.random() < 0.1:
        body["do"] = [hostile_operation(rng, document) for _ in range(rng.randrange(4))]
    for key in AROUND:
        if rng.random() < 0.3:
            body[key] = sensible(rng, document, key) if rng.random() < 0.5 else anything(rng)
    if rng.random() < 0.05:
        body[rng.choice(["do", "base"])] = anything(rng)
    return body


def test_thousands_of_bodies_are_answered(place):
    app, caller, song = place
    library = jobs_of(app).library
    rng = random.Random(4)
    whole = library.head(song).id
    failed, taken = [], 0
    for n in range(BODIES):
        if n % 25 == 0:
            library.history.go_to(song, whole)
        head = library.head(song)
        body = hostile_body(rng, head.document, head.id)
        answer = caller.post(f"/sessions/{song}/edit", json=body)
        taken += answer.status_code == 200
        if answer.status_code >= 500:
            failed.append((answer.status_code, {k: str(v)[:60] for k, v in body.items()}))
        elif answer.status_code != 200:
            assert answer.json["message"], body
            assert library.head(session_id=song).id == head.id, "refused, and changed all the same"
    assert not failed, f"{len(failed)} failures, the first: {failed[:3]}"
    assert taken > BODIES / 20, "nearly nothing was taken: the fuzz misses its mark"


@pytest.mark.parametrize("raw", RAW, ids=lambda raw: raw[:40].decode("latin-1"))
def test_bodies_that_are_no_edits(place, raw):
    _, caller, song = place
    answer = caller.post(f"/sessions/{song}/edit", data=raw, content_type="application/json")
    assert answer.status_code in (400, 404, 409), answer.status_code
    assert json.loads(answer.data)["message"]
