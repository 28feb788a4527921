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


def test_the_demo_is_made_once_and_its_fights_are_found(stems, tmp_path):
    library = Library(tmp_path)
    target = tmp_path / "demo" / "stems"
    target.mkdir(parents=True)
    for path in stems.iterdir():
        (target / path.name).write_bytes(path.read_bytes())
    desk = Desk(library)
    session_id = ensure_demo(desk)
    assert ensure_demo(desk) == session_id
    document = library.head(session_id).document
    assert len(document.parts) == 11
    assert [(one.name, one.is_open) for one in Variants(library).of(session_id)] == [
        ("A", True),
        ("B", False),
        ("C", False),
    ]
    fed = {part.name: {document.part(one.to).name for one in part.sends} for part in document.parts}
    assert fed["Voice"] == fed["Side drum"] == {"Hall", "Echo"}
    table = desk.analysis.whole_table(document)
    best = [one.pair for one in ranked(document, table)[:3]]
    found = {(pair.hidden, pair.by): pair for pair in best}
    fights = [("bass-drum", "tuba"), ("marimba", "accordion"), ("voice", "accordion")]
    assert {(zone.leads, *zone.gives_way) for zone in document.zones} == set(fights)
    assert set(found) == set(fights) and (best[0].hidden, best[0].by) == fights[0]
    for pair in best:
        where = Scope(zone_hz=(pair.low_hz, pair.high_hz))
        assert table.clear_db(pair.hidden, where) < 3
        assert table.would_win_db(pair.hidden, pair.by, where) > 3
    drum, marimba, voice = (found[fight] for fight in fights)
    assert drum.share > 0.3 and drum.low_hz < 50 and drum.high_hz < 160
    assert 350 < marimba.low_hz < 600 and 800 < marimba.high_hz < 1200
    assert 1000 < voice.low_hz < 2500 and 2500 < voice.high_hz < 4500
    by_brass = desk.analysis.whole_table(document).share("voice", "brass-chords")
    assert by_brass > 0.15
    for pair in best:
        # Clearer on the hits by what is heard, for a tenth of the yielder's loudness at most.
        fight = desk.fight(document, pair.hidden, pair.by, 18.0)
        treated = do(document, "add move", part=pair.by, **laid(propose(fight).settings)).document
        table, after = (desk.loops.table(one, *EIGHT_BARS) for one in (document, treated))
        zone = Scope(zone_hz=(fight.low_hz, fight.high_hz))
        on_hits = Scope(on_hits=True, zone_hz=zone.zone_hz)
        won_db = after.clear_db(pair.hidden, on_hits) - table.clear_db(pair.hidden, on_hits)
        cost = 1 - after.alone(pair.by).sum() / table.alone(pair.by).sum()
        assert won_db > 1 and cost < 0.06, (pair, won_db, cost)
        assert after.share(pair.hidden, pair.by, on_hits) < table.share(pair.hidden, pair.by, on_hits)
    treated = library.revision(session_id, Variants(library).of(session_id)[2].head).document
    assert {one.part for one in differences(document, treated)} == {"tuba", "accordion"}
    table, after = (desk.loops.table(one, *EIGHT_BARS) for one in (document, treated))
    for zone in document.zones:
        where = Scope(on_hits=True, zone_hz=(zone.low_hz, zone.high_hz))
        assert after.clear_db(zone.leads, where) > table.clear_db(zone.leads, where) + 1
    planned = desk.plans.begin(document)
    assert planned.finished.wait(120) and planned.trouble is None
    whole = desk.plans.whole(planned)
    assert sum(line.candidate.moves for line in planned.lines) <= 6
    assert {(line.claim.leader, line.claim.yielder) for line in planned.lines} == set(fights)
    assert all(one.won_db > 1 for stands in whole.stands for one in stands)
    assert abs(whole.loudness_db) < 1 and abs(whole.warmth_db) < 1
    names = {hashlib.sha256(path.read_bytes()).hexdigest() for path in stems.iterdir()}
    assert len(names) == 9


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
