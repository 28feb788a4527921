"""Every address with parts that nobody made: none fails inside Pondel, nothing is deleted."""

from __future__ import annotations

import io
import random

import pytest
from conftest import hits, sine
from web_tools import Caller, audio, jobs_of, until

from attacks.hostile import NAMES, NUMBERS
from pondel.core.document import Session
from pondel.core.errors import PondelError
from pondel.store.folder import DataFolder
from pondel.web import create_app

QUERY = {
    "revision": NUMBERS,
    "reference": NUMBERS,
    "item": NUMBERS,
    "start_s": NUMBERS,
    "end_s": NUMBERS,
    "low_hz": NUMBERS,
    "high_hz": NUMBERS,
    "below": NUMBERS,
    "part": [*NAMES, "kick"],
    "leader": [*NAMES, "kick"],
    "yielder": [*NAMES, "tuba"],
    "move": [*NAMES, "m1"],
    "hear": [*NAMES, "mix", "pair", "zone", "key", "part"],
    "page": NAMES,
    "where": [*NAMES, "loop"],
    "sort": [*NAMES, "peak"],
    "fold": [*NAMES, "mid"],
    "level": [*NAMES, "quiet"],
    "state": NAMES,
    "role": NAMES,
}


@pytest.fixture
def place(tmp_path):
    app = create_app(tmp_path / "data", immediate=True)
    app.config["PROPAGATE_EXCEPTIONS"] = False
    caller = Caller(app.test_client())
    song = jobs_of(app).library.create(Session(name="Song"))
    caller.upload(song, ("kick.wav", audio(hits(1.5))), ("tuba.wav", audio(sine(70, 1.5))))
    caller.edit(song, op="give way", kind="compressor", leader="kick", part="tuba")
    return app, caller, song


def everything(app) -> list[str]:
    root = jobs_of(app).library.data_dir
    return sorted(str(path.relative_to(root)) for path in root.rglob("*") if path.is_file())


@pytest.mark.parametrize("name", ["%2e%2e", "..", "%2e", "%2e%2e%2f%2e%2e", "a%2f..%2f..", "%00"])
def test_no_address_leads_to_deleting_what_is_not_a_prints(place, name):
    app, caller, song = place
    before = everything(app)
    for address in (f"prints/{name}/dismiss", f"arrivals/{name}/dismiss"):
        assert caller.post(f"/sessions/{song}/{address}").status_code in (404, 405)
    assert caller.post(f"/sessions/{name}/remove").status_code in (404, 405)
    assert everything(app) == before


def test_prints_and_arrivals_of_one_session_are_not_another_ones(place):
    app, caller, song = place
    jobs = jobs_of(app)
    other = jobs.library.create(Session(name="Other"))
    caller.post(f"/sessions/{song}/prints", data={"what": "mix"})
    (one,) = jobs.prints.of_session(song)
    arrival = jobs.arrivals.receive(song, "x.wav", io.BytesIO(b"no sound"))
    assert caller.client.get(f"/sessions/{other}/prints/{one.id}/mix.wav").status_code == 404
    assert caller.post(f"/sessions/{other}/prints/{one.id}/dismiss").status_code == 404
    assert caller.post(f"/sessions/{other}/arrivals/{arrival.id}/dismiss").status_code == 404
    assert jobs.prints.get(one.id).files == ["mix.wav"]
    assert caller.client.get(f"/sessions/{song}/prints/{one.id}/mix.wav").status_code == 200
    assert caller.post(f"/sessions/{song}/prints/{one.id}/dismiss").status_code == 303
    assert not (jobs.library.data_dir / "prints" / one.id).exists()


def test_nothing_outside_of_a_place_is_removed(tmp_path):
    folder = DataFolder(tmp_path / "data")
    place = folder.place("prints")
    (tmp_path / "mine.txt").write_text("mine")
    (place / "link").symlink_to(tmp_path)
    (place / "old").mkdir()
    for path in (
        folder.root,
        place,
        place / "..",
        place / ".",
        tmp_path / "mine.txt",
        place / ".." / ".." / "mine.txt",
        place / "link" / "mine.txt",
        folder.root / "pondel.db",
    ):
        with pytest.raises(PondelError, match="not Pondel's to delete"):
            folder.remove(path)
    folder.remove(place / "link")
    folder.remove(place / "old")
    folder.remove(place / "never there")
    assert (tmp_path / "mine.txt").read_text() == "mine"
    assert not list(place.iterdir())


def test_every_address_with_hostile_parts(place):
    app, caller, song = place
    rng = random.Random(11)
    failed = []
    rules = [rule for rule in app.url_map.iter_rules() if rule.endpoint != "static"]
    assert len(rules) > 40
    for rule in rules:
        known = {"session_id": song, "name": "A", "print_id": "x", "arrival_id": "x"}
        for n in range(12):
            values = {
                key: known.get(key, "1") if n % 3 == 0 else rng.choice(NAMES + NUMBERS)
                for key in rule.arguments
            }
            address = rule.rule
            for key, value in values.items():
                for form in (f"<{key}>", f"<int:{key}>", f"<file:{key}>"):
                    address = address.replace(form, value)
            method = caller.client.get if "GET" in (rule.methods or ()) else caller.post
            answer = method(address or "/")
            if answer.status_code >= 500:
                failed.append((address[:80], answer.status_code))
    assert not failed, failed


def test_every_question_with_hostile_numbers_and_names(place):
    app, caller, song = place
    rng = random.Random(12)
    rules = [
        r
        for r in app.url_map.iter_rules()
        if "GET" in (r.methods or ()) and "session_id" in r.arguments
    ]
    failed = []
    for rule in rules:
        if len(rule.arguments) > 1:
            continue
        address = rule.rule.replace("<session_id>", song)
        for _ in range(30):
            asked = {key: rng.choice(values) for key, values in QUERY.items() if rng.random() < 0.4}
            answer = caller.client.get(address, query_string=asked)
            if answer.status_code >= 500:
                failed.append((rule.rule, answer.status_code, {k: v[:30] for k, v in asked.items()}))
    assert not failed, failed[:3]


def test_forms_with_hostile_values(place):
    _, caller, song = place
    rng = random.Random(13)
    forms = {
        "/sessions": ["name"],
        f"/sessions/{song}/prints": ["what", "format", "bits"],
        f"/sessions/{song}/intake/midi": ["part", "base"],
        "/login": ["password"],
    }
    for address, fields in forms.items():
        for _ in range(25):
            data = {
                f: rng.choice(NAMES + NUMBERS + ["\ud7ff", "\0", "rms", "-18 dB", "kick"])
                for f in fields
            }
            if "midi" in address:
                data["file"] = (io.BytesIO(rng.randbytes(40)), "x.mid")
            answer = caller.post(address, data=data)
            assert answer.status_code < 500, (address, data)


def test_an_edit_that_cannot_be_answered_is_not_made(place, monkeypatch):
    app, caller, song = place
    library = jobs_of(app).library
    before = library.head(song).id
    monkeypatch.setattr("pondel.web.editing.song_facts", lambda *_: 1 / 0)
    answer = caller.post(
        f"/sessions/{song}/edit",
        json={"do": {"op": "set part", "part": "tuba", "field": "mute", "value": True}, "base": before},
    )
    assert answer.status_code == 500
    assert library.head(song).id == before


def test_an_edit_is_answered_though_its_sound_cannot_be_made(place, monkeypatch):
    app, caller, song = place
    jobs = jobs_of(app)
    monkeypatch.setattr(jobs.desk, "sound", lambda *_: 1 / 0)
    answer = caller.edit(
        song, op="set part", part="tuba", field="fader_db", value=-3, listen={"hear": "mix", "at": 0}
    )
    assert answer.status_code == 200
    assert answer.json["value"]["value"] == -3
    assert jobs.library.head(song).document.part("tuba").fader_db == -3


def test_the_outline_is_told_while_it_is_drawn(place):
    _, caller, song = place
    address = f"/sessions/{song}/song-outline"
    assert caller.client.get(address).status_code == 200
    assert len(until(lambda: caller.client.get(address).json["columns"])) > 100
