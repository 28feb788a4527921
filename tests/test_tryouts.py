"""Ways to make room: every kind at five amounts, judged, heard and kept as it was heard."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from conftest import RATE, hits, session_of
from web_tools import until

from pondel.core.advice.proposals import propose
from pondel.core.engine.listen import make_plan, plan_region
from pondel.core.errors import BadDocument, NotFound
from pondel.core.hearing.table import Scope
from pondel.core.moves.registry import KINDS
from pondel.core.operations import parse_operation
from pondel.core.reading import parse_session, to_json
from pondel.jobs.desk import Desk
from pondel.jobs.sessions import take_file
from pondel.store.library import Library

LOOP = 0, 5 * RATE


@pytest.fixture(scope="module")
def band(tmp_path_factory):
    """A desk with a drum, a tuba that covers it, and a horn."""
    import soundfile

    folder = tmp_path_factory.mktemp("band")
    library = Library(folder / "data")
    rng = np.random.default_rng(2)
    t = np.arange(6 * RATE) / RATE
    tuba = sum(
        np.sin(2 * np.pi * hz * t + rng.uniform(0, 6)) for hz in (50, 63, 82, 101, 150, 240, 390)
    )
    horn = sum(np.sin(2 * np.pi * hz * t) for hz in (440, 660))
    sounds = {"drum": hits(6.0)[:, 0], "tuba": 0.12 * tuba, "horn": 0.02 * horn}
    parts = []
    for name, role in (("drum", "kick"), ("tuba", "bass"), ("horn", "brass")):
        soundfile.write(folder / f"{name}.wav", sounds[name], RATE, "FLOAT")
        parts.append(
            {"id": name, "role": role, "file": take_file(library, folder / f"{name}.wav", RATE)}
        )
    desk = Desk(library)
    document = session_of(*parts)
    song = library.create(document, rate_known=True)
    yield desk, library, song
    desk.tryouts.stop()
    library.close()


@pytest.fixture(scope="module")
def tried(band):
    desk, library, song = band
    found = desk.tryouts.begin(library.head(song).document, "drum", "tuba", *LOOP)
    assert found.finished.wait(120) and found.trouble is None
    return found


def test_every_kind_that_makes_room_is_tried_at_five_amounts(tried):
    points = tried.points()
    amounts = {}
    for point in points:
        amounts.setdefault(point.way.kind, []).append(point.way.far)
    for kind in ("level", "eq", "compressor", "multiband", "dynamic eq", "drawn duck"):
        assert amounts[kind] == [0.0, 0.5, 1.0, 1.5, 2.0], kind
    assert set(amounts) <= {name for name, kind in KINDS.items() if kind.start}
    assert len({point.name for point in points}) == len(points)
    # What knows no amounts comes once, not five times alike.
    settings = [repr(sorted(point.way.start.settings.items(), key=str)) for point in points]
    assert len(set(settings)) == len(points)


def test_going_further_gives_more_and_costs_more(tried):
    for kind in ("level", "eq", "compressor", "drawn duck"):
        own = [point.judgement for point in tried.points() if point.way.kind == kind]
        assert np.all(np.diff([one.relief_db for one in own]) > -0.1), kind
        assert own[-1].fight.cost_share > own[0].fight.cost_share + 0.01, kind
        assert own[-1].relief_db > own[0].relief_db + 0.5, kind


def test_a_level_costs_all_of_the_part_and_a_band_only_its_own(tried):
    usual = {one.way.kind: one.judgement for one in tried.points() if one.way.far == 1.0}
    assert usual["multiband"].fight.cost_share < 0.06
    assert usual["level"].fight.cost_share > 3 * usual["multiband"].fight.cost_share
    assert usual["level"].unsteady_db < 0.01
    assert usual["level"].tone.largest_db == pytest.approx(-5, abs=0.1)
    assert abs(usual["multiband"].tone.warmth_db) < abs(usual["level"].tone.warmth_db) / 3


def test_every_figure_is_told_with_its_unit(tried):
    told = tried.points()[0].judgement.told("Drum", "Tuba")
    assert len(told) >= 9 and all(one.name and one.value and one.sentence for one in told)
    values = {one.name: one.value for one in told}
    assert "dB" in values["gain moves by"] and "%" in values["Tuba's own loudness"]


@pytest.mark.parametrize("kind", ["multiband", "compressor", "dynamic eq", "complementary eq", "level"])
def test_a_kept_way_sounds_exactly_as_it_did_when_tried(band, tried, kind):
    desk, library, song = band
    document = library.head(song).document
    point = next(one for one in tried.points() if (one.way.kind, one.way.far) == (kind, 1.5))
    fight = point.way.fight
    asked = {"op": "give way", "part": "tuba", "leader": "drum", "kind": kind, "how_far": 1.5}
    zone = {"low_hz": fight.low_hz, "high_hz": fight.high_hz, "start_s": point.start_s}
    kept = parse_operation({**asked, **zone}).apply(document, desk).document
    sounds = [
        plan_region(make_plan(one, "mix"), desk.now(one), 0, 5 * RATE)
        for one in (desk.tryouts.document(point.name), kept)
    ]
    assert np.abs(sounds[0]).max() > 0.1
    assert np.abs(sounds[0] - sounds[1]).max() < 10 ** (-90 / 20)


def test_better_is_more_room_for_no_more_or_nothing_is_said_to_be_found(band, tried):
    desk, library, song = band
    point = next(one for one in tried.points() if (one.way.kind, one.way.far) == ("multiband", 1.0))
    desk.tryouts.look_for_better(point.name)
    until(lambda: not tried.is_busy, 120)
    near = [one for one in tried.points() if one.better_than == point.name]
    looked = tried.searches[point.name]
    assert looked.found == bool(near) and looked.tries > 0
    for one in near:
        assert one.judgement.relief_db >= point.judgement.relief_db + 0.1
        assert one.judgement.fight.cost_share <= point.judgement.fight.cost_share + 0.0006
        asked = {"op": "give way", "part": "tuba", "leader": "drum", "kind": "multiband"}
        fight, settings = one.way.fight, one.way.start.settings
        asked |= {"low_hz": fight.low_hz, "high_hz": fight.high_hz, "start_s": one.start_s}
        asked["values"] = {k: v for k, v in settings.items() if k not in ("kind", "key")}
        kept = parse_operation(asked).apply(library.head(song).document, desk).document
        sounds = [
            plan_region(make_plan(each, "mix"), desk.now(each), 0, 5 * RATE)
            for each in (desk.tryouts.document(one.name), kept)
        ]
        assert np.abs(sounds[0] - sounds[1]).max() < 10 ** (-90 / 20)
        assert kept.part("tuba").moves[-1].began.by_hand
    with pytest.raises(NotFound):
        desk.tryouts.look_for_better("nothing")


def test_nothing_changes_until_one_is_kept_and_one_that_is_unknown_is_told(band, tried):
    desk, library, song = band
    assert all(not part.moves for part in library.head(song).document.parts)
    with pytest.raises(NotFound, match="forgotten"):
        desk.tryouts.document("nothing")
    assert to_json(desk.tryouts.document(tried.points()[0].name)) != to_json(
        library.head(song).document
    )


def test_what_nobody_asks_for_any_more_ends_for_another_fight(band, tried, monkeypatch):
    desk, library, song = band
    document = library.head(song).document
    assert desk.tryouts.begin(document, "drum", "tuba", *LOOP) is tried
    older = desk.tryouts.begin(document, "drum", "tuba", 0, 4 * RATE)
    monkeypatch.setattr("pondel.jobs.leases.LEASE_S", 0.0)
    newer = desk.tryouts.begin(document, "horn", "tuba", *LOOP)
    assert older.finished.wait(60) and not older.is_complete and not newer.stopped.is_set()
    desk.tryouts.stop()
    assert newer.finished.is_set()


def test_one_that_was_given_up_is_begun_anew_and_not_shown_as_whole(band, tried):
    desk, library, song = band
    document = library.head(song).document
    given_up = desk.tryouts.begin(document, "drum", "tuba", 0, 3 * RATE)
    desk.tryouts.stop()
    again = desk.tryouts.begin(document, "drum", "tuba", 0, 3 * RATE)
    assert given_up.is_complete or again is not given_up
    assert again.finished.wait(120) and again.is_complete and len(again.points()) > 30


def test_a_part_that_is_not_heard_is_told(band):
    desk, library, song = band
    data = to_json(library.head(song).document)
    data["parts"][1]["mute"] = True
    with pytest.raises(BadDocument, match="not heard"):
        desk.tryouts.begin(parse_session(data), "drum", "tuba", *LOOP)


@pytest.fixture(scope="module")
def wide(tmp_path_factory):
    """A voice in the middle over keys that are as wide as they are loud."""
    import soundfile

    folder = tmp_path_factory.mktemp("wide")
    library = Library(folder / "data")
    t = np.arange(5 * RATE) / RATE
    voice = 0.1 * sum(np.sin(2 * np.pi * n * 220 * t) / n for n in range(1, 9)) * (t % 1 < 0.7)
    middle = sum(np.sin(2 * np.pi * hz * t) for hz in (450, 670, 890))
    sides = sum(np.sin(2 * np.pi * hz * t + 1) for hz in (470, 650, 910))
    keys = 0.08 * np.stack([middle + sides, middle - sides], axis=1)
    parts = []
    for name, role, sound in (("voice", "voice", voice), ("keys", "keys", keys)):
        soundfile.write(folder / f"{name}.wav", sound, RATE, "FLOAT")
        file = take_file(library, folder / f"{name}.wav", RATE)
        parts.append({"id": name, "role": role, "file": file})
    desk = Desk(library)
    song = library.create(session_of(*parts), rate_known=True)
    yield desk, library.head(song).document
    desk.tryouts.stop()
    library.close()


def test_where_the_stereo_field_allows_it_the_middle_alone_is_tried_and_judged_there(wide):
    desk, document = wide
    tried = desk.tryouts.begin(document, "voice", "keys", 0, 4 * RATE)
    assert tried.finished.wait(120) and tried.trouble is None
    folded = [one for one in tried.points() if one.way.fold in ("middle", "sides")]
    assert {one.way.fold for one in folded} == {"middle"}
    kinds = {one.way.kind for one in folded}
    assert kinds == {"eq", "dynamic eq", "multiband", "spectral duck"}
    bell = next(one for one in folded if one.way.kind == "dynamic eq")
    assert bell.judgement.relief_db > 0.5
    carved = desk.tryouts.document(bell.name)
    sounds = [desk.now(one).region(("keys", "after fader"), RATE, RATE) for one in (document, carved)]
    for sign, least, most in ((1, 0.1, 1.0), (-1, 0.0, 1e-4)):
        one, other = (sound[:, 0] + sign * sound[:, 1] for sound in sounds)
        changed = np.sqrt(np.mean((one - other) ** 2) / np.mean(one**2))
        assert least <= changed <= most, "the middle is carved, and the sides are not"
    table = desk.loops.table(carved, 0, 4 * RATE, "middle")
    clear = bell.judgement.fight.zone.after.clear_db
    zone = Scope(zone_hz=bell.judgement.fight.zone_hz)
    assert clear == pytest.approx(table.clear_db("voice", zone), abs=0.05)


def test_parts_in_the_middle_have_no_ways_apart_but_aside(tried):
    assert {one.way.fold for one in tried.points()} == {"both", "left"}


def test_aside_is_the_baseline_that_a_level_is_judged_where_it_gives_way(tried):
    """The far side loses what a fader would take there: cos(a) of it against cos(45 degrees).

    What the near one gains is at most 3 dB, and the ear that sums both channels hears nothing.
    """
    aside = {one.way.far: one for one in tried.points() if one.way.kind == "pan"}
    faded = {one.way.far: one for one in tried.points() if one.way.kind == "level"}
    assert len(aside) == 5 and aside.keys() == faded.keys()
    for far, one in aside.items():
        angle = (one.way.start.settings["pan"] + 1) * np.pi / 4
        loss_db = -20 * np.log10(np.cos(angle) * np.sqrt(2))
        assert loss_db == pytest.approx(-faded[far].way.start.settings["gain_db"], abs=0.1)
        assert one.judgement.relief_db == pytest.approx(faded[far].judgement.relief_db, abs=0.25)
        assert -3.3 < one.beyond_db < -0.5


def test_a_bass_is_told_by_its_harmonics_where_that_makes_room(tried):
    (point,) = [one for one in tried.points() if one.way.kind == "saturation"]
    assert point.way.start.settings["acts_on"] == "lows"
    assert abs(point.judgement.fight.cost_share) < 0.2
    horn = replace(tried.fight, yielder=tried.fight.leader)
    assert set(propose(horn, "saturation").settings) == {"kind"}
