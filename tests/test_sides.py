"""Variants side by side: figures against those of judgement, differences in words, moves taken over."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import hits, sine
from doing import after as done
from doing import do
from web_tools import audio, jobs_of, until

from pondel.core.differences import differences
from pondel.core.engine.listen import make_plan, plan_region, without_moves
from pondel.core.errors import BadDocument
from pondel.core.evidence import fight_evidence
from pondel.core.hearing.table import Scope
from pondel.core.judgement.sides import mix_figures
from pondel.core.measures.levels import measure
from pondel.core.operations import Done
from pondel.core.reading import parse_session
from pondel.jobs.sides import Where

RATE = 48000
STEMS = {
    "kick.wav": audio(hits(8.0)),
    "tuba.wav": audio(sine(62, 8, -14) + 0.3 * sine(700, 8, -14)),
    "horn.wav": audio(0.2 * sine(300, 8, -14)),
}
LOOP = Where(0, 4 * RATE)
THRESHOLD = "bands.0.threshold_db"
DUCK = {"kind": "multiband", "key": {"source": "kick"}, "crossovers_hz": [160]}


@pytest.fixture
def song(filled):
    return filled[1]


@pytest.fixture
def desk(app, song):
    return jobs_of(app).desk


@pytest.fixture
def treated(app, song):
    """The song with its fight decided, and with a duck of its low band."""
    document = jobs_of(app).library.head(song).document
    document = done(document, "decide", leads="kick", gives_way="tuba", low_hz=40, high_hz=120)
    values = {name: value for name, value in DUCK.items() if name != "kind"}
    laid = done(document, "add move", part="tuba", kind="multiband", values=values)
    return done(laid, "set move", part="tuba", move="m1", field=THRESHOLD, value=-45)


def test_sides_tell_what_evidence_and_meters_tell(desk, treated):
    bare = without_moves(treated)
    compared = desk.sides.begin([("untreated", bare), ("A", treated)], treated, LOOP)
    assert compared.finished.wait(60) and compared.trouble is None
    contest = compared.contests[0]
    assert (contest.leader, contest.yielder, contest.is_decided) == ("kick", "tuba", True)
    before, after = compared.sides
    tables = [desk.loops.table(one, 0, LOOP.frames) for one in (bare, treated)]
    told = fight_evidence(*tables, "kick", "tuba", contest.zone_hz)
    assert before.stands[0] == told.zone.before and after.stands[0] == told.zone.after
    assert after.stands[0].clear_db > before.stands[0].clear_db + 1
    mix = plan_region(make_plan(treated, "mix"), desk.now(treated), 0, LOOP.frames)
    assert after.mix.loudness_lufs == pytest.approx(measure([mix], RATE, 2).integrated_lufs, abs=0.01)
    assert after.moves[0].found.cost_share == pytest.approx(told.cost_share, abs=1e-6)
    assert before.moves == [] and before.gain_moves is None and after.gain_moves[0] == "Tuba"


def test_the_song_and_a_section_of_it_are_told_by_the_whole_songs_table(desk, treated):
    sections = [{"id": "s", "name": "Verse", "start_s": 0, "end_s": 4}]
    document = done(treated, "set sections", sections=sections)
    song = Where(0, desk.frames(document), is_song=True)
    verse = Where(0, 4 * RATE, section="s")
    asked = [("untreated", without_moves(document)), ("A", document)]
    found = []
    for where in (song, verse, LOOP):
        one = desk.sides.begin(asked, document, where)
        assert one.finished.wait(60) and one.trouble is None
        found.append(one)
    table = desk.analysis.whole_table(document)
    assert found[0].sides[1].stands[0].share == pytest.approx(
        table.share("kick", "tuba", Scope(zone_hz=(40, 120))), abs=1e-6
    )
    in_verse, in_loop = (one.sides[1].stands[0].clear_db for one in found[1:])
    assert in_verse == pytest.approx(in_loop, abs=0.5)


def test_two_pages_that_ask_for_different_sides_both_get_them(desk, treated):
    """Each asks again and again, as pages do: neither gives the other's work up."""
    asked = [("untreated", without_moves(treated)), ("A", treated)]
    places = [Where(0, 3 * RATE), Where(2 * RATE, 3 * RATE)]

    def both():
        found = [desk.sides.begin(asked, treated, where) for where in places]
        assert not any(one.stopped.is_set() for one in found)
        return all(one.finished.is_set() and one.sides for one in found)

    until(both, 60)


def test_the_hall_on_a_return_is_no_treatment():
    part = {"id": "v", "name": "Voice", "file": "v.wav", "sends": [{"to": "hall", "level_db": -12}]}
    moves = [{"id": "m1", "kind": "reverb", "mix": 1.0}, {"id": "m2", "kind": "eq"}]
    hall = {"id": "hall", "name": "Hall", "source": "sends", "moves": moves}
    echo = {**part, "id": "w", "name": "Other", "moves": [{"id": "m1", "kind": "reverb"}], "sends": []}
    bare = without_moves(parse_session({"name": "S", "rate": RATE, "parts": [part, hall, echo]}))
    assert [move.on for move in bare.part("hall").moves] == [True, False]
    assert [move.on for move in bare.part("w").moves] == [False]


def test_the_mix_is_measured_alike_in_one_piece_and_in_many():
    noise = np.random.default_rng(4).standard_normal((3 * RATE, 2)).astype(np.float32) * 0.1
    whole = mix_figures([noise], RATE)
    pieces = mix_figures(np.array_split(noise, 7), RATE)
    assert pieces.loudness_lufs == pytest.approx(whole.loudness_lufs, abs=0.01)
    assert pieces.warmth_db == pytest.approx(whole.warmth_db, abs=0.05)
    # Two channels that have nothing to do with each other: the sum is 3 dB softer than each.
    assert whole.mono_loss_db == pytest.approx(-3.01, abs=0.1)
    assert -0.1 < whole.correlation_lowest < 0.0


def test_differences_are_told_move_by_move_and_taken_over(treated):
    other = do(treated, "set move", part="tuba", move="m1", field=THRESHOLD, value=-30).document
    other = done(other, "add move", part="kick", kind="level", values={"gain_db": -2})
    other = done(other, "set part", part="tuba", field="fader_db", value="-3 dB")
    found = {(one.part, one.move): one for one in differences(treated, other)}
    assert found["tuba", "m1"].words == ["band 1, threshold −45.0 dB, there −30.0 dB"]
    assert found["kick", "m1"].words[0].startswith("only there")
    assert any("fader" in words for words in found[None, None].words)
    settings = {key: value for key, value in _move(other, "tuba").items() if key != "id"}
    taken = done(treated, "take over", part="tuba", move="m1", settings=settings)
    left = [one for one in differences(taken, other) if one.move]
    assert [(one.part, one.move) for one in left] == [("kick", "m1")]
    assert differences(other, other) == []
    back = done(other, "take over", part="kick", move="m1")
    assert back.part("kick").moves == []


def _move(document, part):
    return document.part(part).moves[0].model_dump(mode="json")


def test_what_ties_two_parts_or_is_nowhere_is_not_taken_over_alone(treated):
    with pytest.raises(BadDocument, match="nothing to take over"):
        do(treated, "take over", part="tuba", move="m9")
    with pytest.raises(BadDocument, match="ties two parts"):
        do(treated, "take over", part="tuba", move="m9", settings={"kind": "complementary eq"})
    with pytest.raises(BadDocument, match="points at"):
        compressor = {"kind": "compressor", "key": {"source": "gone"}}
        do(treated, "take over", part="tuba", move="m9", settings=compressor)


def test_proof_shows_sides_and_takes_a_move_over(app, caller, song, treated):
    jobs = jobs_of(app)
    jobs.library.edit(song, None, lambda document: Done(treated, "treat"))
    jobs.variants.keep(song)
    caller.edit(song, op="set move", part="tuba", move="m1", field="on", value=False)
    at = f"/sessions/{song}/proof/sides?start_s=0&end_s=4"
    caller.client.get(at)
    document = jobs.library.head(song).document
    kept = jobs.library.revision(song, jobs.variants.of(song)[0].head).document
    asked = [("untreated", without_moves(document)), ("A", kept), ("B", document)]
    assert jobs.desk.sides.begin(asked, document, LOOP).finished.wait(60)
    page = caller.client.get(at).text
    assert "data-poll" not in page and "decided fights" in page and "the whole mix" in page
    assert "B beside A" in page and "on off, A on" in page
    form = {"variant": "A", "part": "tuba", "move": "m1"}
    assert caller.post(f"/sessions/{song}/proof/take-over", data=form).status_code == 303
    assert jobs.library.head(song).document.part("tuba").moves[0].on
    assert "They are alike." in caller.client.get(at).text
    assert (
        caller.post(f"/sessions/{song}/proof/take-over", data={**form, "variant": "Z"}).status_code
        == 404
    )
