"""Blind: luck is told from hearing, nothing gives the order away; the listening list ticks itself."""

from __future__ import annotations

import json
import math
import re
from random import Random

import numpy as np
import pytest
from conftest import hits, sine
from web_tools import audio, jobs_of

from pondel.core.blind import Blind
from pondel.core.errors import BadDocument
from pondel.core.listening import Listened, Span
from pondel.core.measures.loudness import loudness_lufs

RATE = 48000
rng = np.random.default_rng(2)
STEMS = {
    "kick.wav": audio(hits(4.0)),
    "tuba.wav": audio(0.05 * rng.standard_normal((4 * RATE, 2))),
    "horn.wav": audio(0.2 * sine(300, 4, -14)),
}
CUT = {"bands": [{"hz": 1000, "gain_db": -9, "q": 0.7}]}


@pytest.fixture
def song(filled):
    return filled[1]


def taken(test: Blind, answer) -> Blind:
    """A test in which `answer` is asked in every round, of the order as it is played."""
    while not test.is_over:
        test = test.answered(answer(test.orders[len(test.answers)]))
    return test


@pytest.mark.parametrize(("sides", "rounds"), [(["untreated", "A"], 10), (["untreated", "A", "B"], 15)])
def test_the_chance_is_the_tail_of_the_binomial_distribution(sides, rounds):
    test = Blind.drawn(sides, "A", rounds, seed=3)
    assert test.right is None and test.chance is None and test.told() == ""
    wrong = {1, 4}
    done = test
    for n, order in enumerate(test.orders):
        place = order.index("A")
        done = done.answered((place + 1) % len(sides) if n in wrong else place)
    p, right = 1 / len(sides), rounds - 2
    tail = sum(math.comb(rounds, k) * p**k * (1 - p) ** (rounds - k) for k in range(right, rounds + 1))
    assert done.right == right and done.chance == pytest.approx(tail, rel=1e-9)


def test_who_guesses_is_told_so():
    """Of a hundred who cannot hear it, hardly any are told that they do."""
    luck = Random(11)
    told = [
        taken(Blind.drawn(["untreated", "A"], "A", 10, seed=n), lambda order: luck.randrange(2))
        for n in range(100)
    ]
    assert sum(one.is_heard for one in told) <= 5
    assert "may be luck" in next(one for one in told if not one.is_heard).told()
    sure = taken(Blind.drawn(["untreated", "A"], "A", 10, seed=1), lambda order: order.index("A"))
    assert sure.told().startswith(
        "10 of 10 right; by guessing that happens once in 1,024 tests. You hear"
    )


def test_every_side_stands_at_every_place_now_and_then():
    orders = Blind.drawn(["untreated", "A", "B"], "B", 30, seed=5).orders
    assert all({order[place] for order in orders} == {"untreated", "A", "B"} for place in range(3))


@pytest.mark.parametrize(
    ("sides", "target", "rounds"),
    [
        (["A"], "A", 10),
        (["A", "A"], "A", 10),
        (["A", "B", "C", "D"], "A", 10),
        (["A", "B"], "C", 10),
        (["A", "B"], "A", 4),
    ],
)
def test_what_is_no_test_is_refused(sides, target, rounds):
    with pytest.raises(BadDocument):
        Blind.drawn(sides, target, rounds)


def begun(caller, song, **form):
    data = {
        "side": ["untreated", "A"],
        "target": "A",
        "rounds": "5",
        "start_s": "0",
        "end_s": "4",
        **form,
    }
    page = caller.post(f"/sessions/{song}/proof/blind", data=data).text
    return json.loads(re.search(r"data-blind='([^']+)'", page)[1])


def sounds(caller, round_):
    answers = [caller.client.get(f"{round_['at']}/{token}") for token in round_["tokens"]]
    assert all(one.headers["Cache-Control"] == "no-store" for one in answers)
    assert len({len(one.data) for one in answers}) == 1
    return [np.frombuffer(one.data, "<f4").reshape(2, -1).T for one in answers]


def level_at_1k(sound):
    spectrum = np.abs(np.fft.rfft(sound[:, 0])) ** 2
    hz = np.fft.rfftfreq(sound.shape[0], 1 / RATE)
    return spectrum[(hz > 800) & (hz < 1250)].sum() / spectrum[(hz > 100) & (hz < 400)].sum()


def test_an_automatic_listener_tells_a_cut_apart_by_tone_alone(app, caller, song):
    """It hears all rounds right, though both sides are equally loud and no bytes come twice."""
    caller.edit(song, op="add move", part="tuba", kind="eq", values=CUT)
    now, seen = begun(caller, song), set()
    for n in range(5):
        played = sounds(caller, now)
        loudness = [loudness_lufs(np.ascontiguousarray(one), RATE) for one in played]
        assert loudness[0] == pytest.approx(loudness[1], abs=0.05)
        assert seen.isdisjoint({one.tobytes() for one in played} | set(now["tokens"]))
        seen |= {one.tobytes() for one in played} | set(now["tokens"])
        place = int(np.argmin([level_at_1k(one) for one in played]))
        page = caller.post(f"{now['at']}/answer", data={"place": place, "round": n}).text
        told = re.search(r"data-blind='([^']+)'", page)
        now = {**now, **json.loads(told[1])} if told else now
    assert "5 of 5 right" in page and "once in 32 tests" in page
    name = next(iter(jobs_of(app).desk.blind.taken(song)))
    caller.post(f"/sessions/{song}/proof/blind/{name}/keep", data={"side": "A"})
    kept = jobs_of(app).desk.blind.taken(song)[name]
    assert (kept.right, kept.kept) == (5, "A")
    shown = caller.client.get(f"/sessions/{song}/proof/still-to-hear").text
    assert re.search(r'data-item="blind" class="done"', shown)


def test_a_round_that_is_over_and_a_sound_that_is_none_are_refused(caller, song):
    now = begun(caller, song)
    assert caller.post(f"{now['at']}/answer", data={"place": 0, "round": 0}).status_code == 200
    assert caller.post(f"{now['at']}/answer", data={"place": 0, "round": 0}).status_code == 409
    assert caller.post(f"{now['at']}/answer", data={"place": 7, "round": 1}).status_code == 400
    assert caller.client.get(f"{now['at']}/{now['tokens'][0]}").status_code == 404
    long = {"side": ["untreated", "A"], "target": "A", "rounds": "5", "start_s": "0", "end_s": "40"}
    assert caller.post(f"/sessions/{song}/proof/blind", data=long).status_code == 400
    gone = f"/sessions/{song}/proof/blind/none/answer"
    assert caller.post(gone, data={"place": 0, "round": 0}).status_code == 404
    data = {"side": ["untreated", "Z"], "target": "Z", "rounds": "5"}
    assert caller.post(f"/sessions/{song}/proof/blind", data=data).status_code == 400


def test_a_test_under_way_is_there_again_until_it_is_given_up(caller, song):
    now = begun(caller, song)
    at = f"/sessions/{song}/proof/blind"
    assert now["tokens"][0] in caller.client.get(at).text
    assert "data-blind-begin" in caller.post(f"{now['at']}/give-up").text
    assert "data-blind-begin" in caller.client.get(at).text
    assert caller.client.get(f"{now['at']}/{now['tokens'][0]}").status_code == 404
    assert caller.post(f"{now['at']}/give-up").status_code == 404


def test_each_way_of_listening_ticks_after_eight_seconds_and_the_song_when_all_of_it_was_heard():
    found = Listened().heard([Span(0, 5, "mono"), Span(0, 2, "mono", "quiet")])
    assert not found.is_done("mono", 60) and not found.is_done("song", 60)
    found = found.heard([Span(3, 5, "mono"), Span(0, 20), Span(20.02, 40), Span(50, 59.9)])
    assert (
        found.is_done("mono", 60) and not found.is_done("quiet", 60) and not found.is_done("song", 60)
    )
    found = found.heard([Span(40, 50.5, level="quiet")])
    assert found.is_done("quiet", 60) and found.is_done("song", 60)
    assert Listened.of(json.loads(json.dumps(found.as_json()))) == found
    # Nobody hears backwards, or a minute in one go between two messages.
    assert Listened().heard([Span(9, 1, "mono"), Span(0, 60, "mono")]) == Listened()


def test_an_edit_that_changes_the_mix_unticks_and_undo_ticks_again(app, caller, song):
    def ticked():
        return re.findall(r'data-item="(\w+)" class="done"', caller.client.get(at).text)

    at = f"/sessions/{song}/proof/still-to-hear"
    played = [{"start_s": 0, "end_s": 4, "fold": "mono", "level": "loud"}] * 2
    revision = jobs_of(app).library.head(song).id
    said = caller.post(f"/sessions/{song}/listened", json={"revision": revision, "spans": played})
    assert said.json["heard"] == ["mono", "loud"] and ticked() == ["mono", "loud"]
    caller.edit(song, op="decide", leads="kick", gives_way="tuba", low_hz=40, high_hz=90)
    assert ticked() == ["mono", "loud"]
    caller.edit(song, op="add move", part="tuba", kind="eq", values=CUT)
    assert ticked() == []
    caller.post(f"/sessions/{song}/undo")
    assert ticked() == ["mono", "loud"]


def test_what_was_heard_of_a_state_that_is_gone_is_gone(caller, song):
    body = {"revision": 10**6, "spans": [{"start_s": 0, "end_s": 9, "fold": "mono", "level": "loud"}]}
    assert caller.post(f"/sessions/{song}/listened", json=body).json == {"heard": []}


@pytest.mark.parametrize(
    "spans", [[1], [{"start_s": "0"}], [{"start_s": 0, "end_s": True, "fold": "", "level": ""}]]
)
def test_what_cannot_have_been_played_is_refused(app, caller, song, spans):
    body = {"revision": jobs_of(app).library.head(song).id, "spans": spans}
    assert caller.post(f"/sessions/{song}/listened", json=body).status_code == 400
