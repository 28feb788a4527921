"""The demo session: the same bytes every time, and its fights where they were built."""

from __future__ import annotations

import hashlib

import numpy as np
import pytest
import soundfile
from doing import do, laid

from pondel import demo
from pondel.core.advice.fights import ranked
from pondel.core.advice.proposals import propose
from pondel.core.audio.media import ArrayReader
from pondel.core.differences import differences
from pondel.core.engine.streams import KeyStream, RecordingStream
from pondel.core.hearing.table import Scope
from pondel.core.measures.hits import Hits
from pondel.core.moves.describe import Key
from pondel.demo.session import ensure_demo
from pondel.demo.synth import PLAYERS, perform
from pondel.jobs.desk import Desk
from pondel.store.library import Library
from pondel.store.variants import Variants

EIGHT_BARS = round(18.4615 * 48000), round(18.4615 * 48000)


@pytest.fixture(scope="session")
def stems(tmp_path_factory):
    folder = tmp_path_factory.mktemp("stems")
    demo.play_stems(folder)
    return folder


def test_the_score_is_thirty_bars_in_three_sections():
    notes, sections, tempo_bpm, seconds = demo.score()
    assert set(notes) == set(PLAYERS)
    assert [s["name"] for s in sections] == ["Gathering", "Procession", "Parade"]
    assert sections[-1]["end_s"] == pytest.approx(30 * 4 * 60 / 104, abs=0.01)
    assert tempo_bpm == pytest.approx(104, abs=0.01)
    assert 69 < seconds < 72


def test_stems_are_24_bit_at_48_khz_and_the_same_every_time(stems):
    notes, _, _, seconds = demo.score()
    for path in stems.iterdir():
        info = soundfile.info(path)
        assert (info.samplerate, info.subtype) == (48000, "PCM_24")
    for name in ("Shaker",):
        again = np.round(perform(name, notes[name], seconds) * 2**23).astype(np.int64)
        played = np.round(soundfile.read(stems / f"{name}.wav", always_2d=True)[0] * 2**23)
        assert np.array_equal(played.astype(np.int64), again)


@pytest.mark.parametrize("name", ["Bass drum", "Side drum"])
def test_hits_of_the_drums_are_those_of_the_score(stems, name):
    notes, *_ = demo.score()
    samples, rate = soundfile.read(stems / f"{name}.wav", dtype="float32", always_2d=True)
    finder = Hits(rate)
    finder.write(samples)
    found = finder.times_s()
    played = np.unique([note.start_s for note in notes[name]])
    assert found.size == played.size
    assert np.abs(found - played).max() < 0.005


FIGHTS = [("bass-drum", "tuba"), ("marimba", "accordion"), ("voice", "accordion")]


@pytest.fixture(scope="module")
def made(stems, tmp_path_factory):
    """A desk with the demo session, and what stands in it."""
    library = Library(tmp_path_factory.mktemp("made"))
    target = library.data_dir / "demo" / "stems"
    target.mkdir(parents=True)
    for path in stems.iterdir():
        (target / path.name).write_bytes(path.read_bytes())
    desk = Desk(library)
    return desk, library.head(ensure_demo(desk)).document


def test_the_demo_is_made_once_with_its_returns_references_and_variants(made, stems):
    desk, document = made
    session_id = ensure_demo(desk)
    assert [card.id for card in desk.library.sessions()] == [session_id]
    assert len(document.parts) == 13
    assert [part.name for part in document.parts if part.reference] == ["Harbour Steps", "Market Row"]
    every = Variants(desk.library).of(session_id)
    assert [(one.name, one.is_open) for one in every] == [("A", True), ("B", False), ("C", False)]
    fed = {part.name: {document.part(one.to).name for one in part.sends} for part in document.parts}
    assert fed["Voice"] == fed["Side drum"] == {"Hall", "Echo"}
    assert {(zone.leads, *zone.gives_way) for zone in document.zones} == set(FIGHTS)
    names = {hashlib.sha256(path.read_bytes()).hexdigest() for path in stems.iterdir()}
    assert len(names) == 9


def test_its_fights_are_found_where_they_were_built(made):
    desk, document = made
    table = desk.analysis.whole_table(document)
    best = [one.pair for one in ranked(document, table)[:3]]
    found = {(pair.hidden, pair.by): pair for pair in best}
    assert set(found) == set(FIGHTS) and (best[0].hidden, best[0].by) == FIGHTS[0]
    for pair in best:
        where = Scope(zone_hz=(pair.low_hz, pair.high_hz))
        assert table.clear_db(pair.hidden, where) < 3
        assert table.would_win_db(pair.hidden, pair.by, where) > 3
    drum, marimba, voice = (found[fight] for fight in FIGHTS)
    assert drum.share > 0.3 and drum.low_hz < 50 and drum.high_hz < 160
    assert 350 < marimba.low_hz < 600 and 800 < marimba.high_hz < 1200
    assert 1000 < voice.low_hz < 2500 and 2500 < voice.high_hz < 4500
    assert table.share("voice", "brass-chords") > 0.15


@pytest.mark.parametrize(("hidden", "by"), FIGHTS)
def test_a_first_setting_makes_the_leader_clearer_on_its_hits(made, hidden, by):
    """By what is heard, and for a twentieth of the yielder's loudness at most."""
    desk, document = made
    fight = desk.fight(document, hidden, by, 18.0)
    treated = do(document, "add move", part=by, **laid(propose(fight).settings)).document
    table, after = (desk.loops.table(one, *EIGHT_BARS) for one in (document, treated))
    on_hits = Scope(on_hits=True, zone_hz=(fight.low_hz, fight.high_hz))
    assert after.clear_db(hidden, on_hits) - table.clear_db(hidden, on_hits) > 1
    assert 1 - after.alone(by).sum() / table.alone(by).sum() < 0.06
    assert after.share(hidden, by, on_hits) < table.share(hidden, by, on_hits)


def test_its_firm_variant_makes_every_decided_leader_clearer(made):
    desk, document = made
    firm = Variants(desk.library).of(ensure_demo(desk))[2]
    treated = desk.library.revision(ensure_demo(desk), firm.head).document
    assert {one.part for one in differences(document, treated)} == {"tuba", "accordion"}
    table, after = (desk.loops.table(one, *EIGHT_BARS) for one in (document, treated))
    for zone in document.zones:
        where = Scope(on_hits=True, zone_hz=(zone.low_hz, zone.high_hz))
        assert after.clear_db(zone.leads, where) > table.clear_db(zone.leads, where) + 1


def test_the_plan_for_it_is_small_and_makes_every_leader_clearer(made):
    desk, document = made
    planned = desk.plans.begin(document)
    assert planned.finished.wait(120) and planned.trouble is None
    whole = desk.plans.whole(planned)
    assert sum(line.candidate.moves for line in planned.lines) <= 6
    assert {(line.claim.leader, line.claim.yielder) for line in planned.lines} == set(FIGHTS)
    assert all(one.won_db > 1 for stands in whole.stands for one in stands)
    assert abs(whole.loudness_db) < 1 and abs(whole.warmth_db) < 1


@pytest.mark.parametrize(
    ("pitch", "cuts"),
    [(36, {"high_cut_hz": 120}), (38, {"low_cut_hz": 250, "high_cut_hz": 2500})],
    ids=["the low drum", "the rattle"],
)
def test_one_drum_alone_can_be_keyed_from_the_street_loop(stems, pitch, cuts):
    """Where a key with these cuts is loudest, it is that drum which is struck."""
    notes, *_ = demo.score()
    samples, rate = soundfile.read(stems / "Street loop.wav", dtype="float32", always_2d=True)
    key = Key(source="loop", slope_db_oct=24, **cuts)
    stream = KeyStream(RecordingStream(ArrayReader(samples), 0, 0.0, 0), key, rate)
    heard = np.abs(stream.read(len(samples))).max(axis=1)
    played = notes["Street loop"]
    own = np.array([note.start_s for note in played if note.pitch == pitch and note.velocity > 0.6])
    apart = [note.start_s for note in played if np.abs(own - note.start_s).min() > 0.06]

    def tops(times_s) -> np.ndarray:
        return np.array([heard[round(at * rate) :][: rate // 20].max() for at in times_s])

    assert len(apart) > 50
    assert 20 * np.log10(np.percentile(tops(own), 20) / np.percentile(tops(apart), 90)) > 6
