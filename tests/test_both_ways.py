"""Both ways to part the lows: opposite at every frequency, compared, and built as two variants."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import hits, sine
from doing import do
from web_tools import audio, jobs_of

from pondel.core.errors import BadDocument
from pondel.core.hearing.table import Scope
from pondel.core.moves.registry import kind_of
from pondel.jobs.both_ways import both_ways

RATE = 48000
HZ = np.geomspace(25, 1000, 60)
LOOP = 0, 4 * RATE
STEMS = {
    "kick.wav": audio(hits(5.0)),
    "tuba.wav": audio(0.5 * (sine(49, 5) + sine(98, 5) + 0.6 * sine(147, 5))),
    "horn.wav": audio(0.2 * sine(600, 5)),
}
PATH = "both-ways?part=tuba&leader=kick&start_s=0&end_s=4"


def gain_db(move) -> np.ndarray:
    """What a side does at each frequency, in dB."""
    (factor,) = kind_of(move.kind).drawn(move, HZ, RATE).factors
    return 20 * np.log10(np.abs(factor.still))


@pytest.fixture
def found(app, filled):
    desk, song = jobs_of(app).desk, filled[1]
    document = desk.library.head(song).document
    return desk, document, both_ways(desk, document, "kick", "tuba", *LOOP)


def test_what_one_gains_the_other_gives_and_the_reverse_is_its_mirror(found):
    _, _, both = found
    gains = [
        [gain_db(way.document.part(part).moves[-1]) for part in ("kick", "tuba")] for way in both.ways
    ]
    for kick, tuba in gains:
        assert np.allclose(kick + tuba, 0.0, atol=0.02)
    assert np.allclose(gains[0][0], -gains[1][0], atol=0.02)
    beside = HZ / both.parted_hz
    subs, mids = beside < 0.8, (beside > 1.8) & (beside < 3)
    assert gains[0][0][subs].mean() > 0.5 and gains[0][0][mids].mean() < -0.5
    assert max(np.abs(gains[0][0])) == pytest.approx(2.0, abs=0.3)


def test_the_figures_are_those_of_the_table(found):
    desk, document, both = found
    first = both.ways[0]
    table = desk.loops.table(first.document, *LOOP)
    subs = Scope(zone_hz=(25.0, both.parted_hz))
    kick, tuba = first.sides
    assert first.title == "Kick owns the subs"
    assert kick.subs_db[1] == pytest.approx(table.clear_db("kick", subs))
    assert kick.subs_db[1] > kick.subs_db[0] and tuba.subs_db[1] < tuba.subs_db[0]
    assert desk.tried(first.name) == first.document
    again = do(document, first.operation.op, facts=desk, **first.operation.model_dump(exclude={"op"}))
    assert again.document == first.document


def test_a_third_part_does_not_own_the_subs(found):
    desk, document, _ = found
    with pytest.raises(BadDocument, match="one of the two"):
        do(document, "part lows", facts=desk, part="tuba", leader="kick", subs="horn")


def test_both_are_built_as_variants_and_what_was_open_stays(app, caller, song):
    variants, library = jobs_of(app).variants, jobs_of(app).library
    before = library.head(song).document
    caller.client.get(f"/sessions/{song}/{PATH}")
    split = jobs_of(app).low_end_splits.begin(before, "kick", "tuba", *LOOP)
    assert split.finished.wait(60) and split.is_complete
    shown = caller.client.get(f"/sessions/{song}/{PATH}").get_data(as_text=True)
    assert "Kick owns the subs" in shown and "Tuba owns the subs" in shown
    answer = caller.post(f"/sessions/{song}/{PATH.replace('?', '/build?')}")
    assert answer.status_code == 303
    owners = {}
    for one in variants.of(song):
        document = library.revision(song, one.head).document
        owners[one.name] = [move.bands[0].difference_db for move in document.part("kick").moves]
    assert owners == {"A": [], "B": [4.0], "C": [-4.0]}
    assert next(one.name for one in variants.of(song) if one.is_open) == "B"
    assert library.revision(song, variants.of(song)[0].head).document == before


def test_without_room_for_two_nothing_is_built(app, caller, song):
    variants = jobs_of(app).variants
    for _ in range(6):
        variants.keep(song)
    assert "Two more variants are needed" in caller.client.get(f"/sessions/{song}/{PATH}").text
    assert caller.post(f"/sessions/{song}/{PATH.replace('?', '/build?')}").status_code == 400
    assert len(variants.of(song)) == 7


def test_one_that_is_not_heard_is_told(app, caller, song):
    caller.edit(song, op="set part", part="tuba", field="mute", value=True)
    answer = caller.client.get(f"/sessions/{song}/{PATH}")
    assert answer.status_code == 400 and "not heard in the mix" in answer.text
