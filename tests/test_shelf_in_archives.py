"""Variants, blind results, recipes and kept spectra travel in a session's archive."""

from __future__ import annotations

import json
import zipfile

import pytest
from conftest import sine

from pondel.core.audio import files
from pondel.core.blind import Blind
from pondel.core.dsp.tone import TONE_HZ
from pondel.core.errors import BadDocument
from pondel.core.operations.parts import SetPart
from pondel.core.recipes.recipe import shipped
from pondel.jobs import archives, sessions, shelves
from pondel.jobs.along import ALONG_FILE, along_of
from pondel.store.library import Library
from pondel.store.variants import Variants

RECIPE = next(iter(shipped().values())).model_dump(mode="json")
BRASS = {"name": "Warm brass", "levels_db": [-20.0] * TONE_HZ.size}


@pytest.fixture
def studios(tmp_path):
    """Two data folders."""
    both = Library(tmp_path / "here"), Library(tmp_path / "there")
    yield both
    for library in both:
        library.close()


def sent_over(here, tmp_path, **changed):
    """The archive of a session of one part; its entries changed as named."""
    path = tmp_path / "tone.wav"
    with files.Writer(path, 48000, 1, "wav", "24", 48000) as writer:
        writer.write(sine(99, 1.0))
    data = {
        "name": "One",
        "parts": [{"id": "a", "name": "A", "file": sessions.take_file(here, path, 48000)}],
    }
    song = here.create(sessions.parse_session(data), rate_known=True)
    packed = tmp_path / "one.zip"
    archives.write_archive(here, here.head(song).document, packed)
    if changed:
        with zipfile.ZipFile(packed) as archive:
            bodies = {name: archive.read(name) for name in archive.namelist()}
        with zipfile.ZipFile(packed, "w") as archive:
            for name, body in {**bodies, **changed}.items():
                archive.writestr(name, body)
    return packed


def test_recipes_and_spectra_come_along_and_nothing_is_overwritten(studios, tmp_path):
    here, there = studios
    here.shelf.keep("recipe", "Under the drum", RECIPE)
    here.shelf.keep("spectrum", "Warm brass", BRASS)
    other = {**BRASS, "levels_db": [-30.0] * TONE_HZ.size}
    there.shelf.keep("spectrum", "Warm brass", other)
    packed = sent_over(here, tmp_path)
    sessions.import_archive(there, packed)
    assert there.shelf.get("recipe", "Under the drum") == RECIPE
    assert there.shelf.get("spectrum", "Warm brass") == other
    assert there.shelf.get("spectrum", "Warm brass (2)") == BRASS
    sessions.import_archive(there, packed)
    assert there.shelf.names("spectrum") == ["Warm brass", "Warm brass (2)"]
    assert there.shelf.names("recipe") == ["Under the drum"]


def test_an_empty_shelf_leaves_no_file_in_the_archive(studios, tmp_path):
    with zipfile.ZipFile(sent_over(studios[0], tmp_path)) as archive:
        assert shelves.SHELF_FILE not in archive.namelist()


@pytest.mark.parametrize(
    ("shelf", "said"),
    [
        ("{", "not JSON"),
        ("[" * 100_000, "not JSON"),
        ("[]", "no JSON object"),
        ('{"recipe": []}', "no list of recipes"),
        (json.dumps({"recipe": {"x": {"moves": [{"kind": "nothing"}]}}}), "recipe 'x'"),
        (json.dumps({"spectrum": {"x": {"name": "x", "levels_db": [1]}}}), "spectrum 'x'"),
        (json.dumps({"spectrum": {"x": {**BRASS, "levels_db": [float("nan")] * 3}}}), "spectrum 'x'"),
        (json.dumps({"spectrum": {"x" * 81: BRASS}}), "name too long"),
    ],
)
def test_a_shelf_that_is_none_is_refused_and_no_session_is_left(studios, tmp_path, shelf, said):
    here, there = studios
    packed = sent_over(here, tmp_path, **{shelves.SHELF_FILE: shelf.encode()})
    with pytest.raises(BadDocument, match=said):
        sessions.import_archive(there, packed)
    assert there.sessions() == [] and there.shelf.names("recipe") == []


def test_a_large_shelf_is_given_up(studios, tmp_path):
    here, there = studios
    large = b" " * (archives.MAX_JSON_BYTES + 1)
    with pytest.raises(BadDocument, match=r"shelf\.json is too large"):
        sessions.import_archive(there, sent_over(here, tmp_path, **{shelves.SHELF_FILE: large}))
    assert there.sessions() == []


TAKEN = {"sides": ["A", "B"], "target": "A", "orders": [["A", "B"]] * 5, "answers": [0] * 5}
WRONG = (
    {"orders": [["A", "B"]] * 99, "answers": [0] * 99},
    {"answers": [0.5] * 5},
    {"answers": [2] * 5},
    {"answers": [0] * 4},
    {"kept": {"a": 1}},
    {"sides": ["A", "A"], "orders": [["A", "A"]] * 5},
    {"sides": ["A"], "orders": [["A"]] * 5},
)


def varied(here, tmp_path):
    """The archive of a session with three variants, the middle one open, and a blind result."""
    sent_over(here, tmp_path)
    song, variants = "one", Variants(here)
    for fader_db in (-3.0, -6.0):
        variants.keep(song)
        here.edit(song, None, SetPart(part="a", field="fader_db", value=fader_db).apply)
    variants.open(song, "B")
    test = Blind.drawn(["untreated", "B"], "B", 5, seed=2)
    for _ in range(5):
        test = test.answered(0)
    here.ledger.put(song, "blind", "20261128-1", json.loads(json.dumps(test.keeping("B").as_json())))
    packed = tmp_path / "varied.zip"
    archives.write_archive(here, here.head(song).document, packed, along_of(here, song))
    return packed


def test_variants_and_blind_results_come_along_and_go_on(studios, tmp_path):
    here, there = studios
    song = sessions.import_archive(there, varied(here, tmp_path))
    assert [(v.name, v.is_open) for v in Variants(there).of(song)] == [("A", 0), ("B", 1), ("C", 0)]
    sent, come = along_of(here, "one"), along_of(there, song)
    assert come.blind == sent.blind and come.open == "B"
    faders = {name: one.part("a").fader_db for name, one in come.variants.items()}
    assert faders == {"A": 0.0, "C": -6.0} and there.head(song).document.part("a").fader_db == -3.0
    # Out of there and in again it is the same archive.
    again = tmp_path / "again.zip"
    archives.write_archive(there, there.head(song).document, again, come)
    with zipfile.ZipFile(again) as one, zipfile.ZipFile(tmp_path / "varied.zip") as other:
        assert {n: one.read(n) for n in one.namelist()} == {n: other.read(n) for n in other.namelist()}
    assert Variants(there).open(song, "C").document.part("a").fader_db == -6.0


@pytest.mark.parametrize(
    ("body", "words"),
    [
        ("[]", "no JSON object"),
        ("{", "not JSON"),
        ('{"variants": {"Z": {}}}', "other than A to H"),
        ('{"open": "A", "variants": {"A": {}}}', "other than A to H"),
        ('{"open": "A", "variants": {"B": {"name": 7}}}', "variant B"),
        ('{"variants": {"B": {"name": "One", "rate": 96000, "parts": []}}}', "another sample rate"),
        ('{"blind": {"x": {"sides": ["A"]}}}', "blind result"),
        *((json.dumps({"blind": {"x": {**TAKEN, **wrong}}}), "blind result") for wrong in WRONG),
    ],
)
def test_what_goes_along_wrongly_is_refused_and_leaves_nothing(studios, tmp_path, body, words):
    here, there = studios
    packed = sent_over(here, tmp_path, **{ALONG_FILE: body})
    with pytest.raises(BadDocument, match=words):
        sessions.import_archive(there, packed)
    assert there.sessions() == []
