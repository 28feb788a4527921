"""References: the mix's tone beside theirs, and one of them heard as loud as the mix; pictures."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import RATE, hits, session_of
from scipy.signal import freqz, lfilter
from web_tools import audio, jobs_of, until

from pondel.core.document import Part
from pondel.core.judgement.references import NAMES_HZ, PartTone, Run, Whole, beside, whole_of
from pondel.core.judgement.tone import THIRDS_HZ
from pondel.core.measures.loudness import loudness_lufs
from pondel.core.measures.spectrum import axis_hz
from pondel.core.operations import BringIn, SetPart
from pondel.jobs import archives, sessions
from pondel.jobs.desk import Desk
from pondel.jobs.sides import Where
from pondel.store.library import Library
from pondel.store.variants import Variants

random = np.random.default_rng(7)


def pink(seconds: float, width: float = 0.3) -> np.ndarray:
    """Pink noise in two channels, most of it alike."""
    frames = round(seconds * RATE)
    hz = np.fft.rfftfreq(frames, 1 / RATE)
    shape = np.where(hz > 15, 1 / np.sqrt(np.maximum(hz, 15)), 0.0)
    both, own = (np.fft.irfft(shape * np.fft.rfft(random.normal(size=frames))) for _ in range(2))
    out = np.stack([both + width * own, both - width * own], axis=1)
    return (0.1 * out / out.std()).astype(np.float32)


def bell(at_hz: float, gain_db: float, q: float = 2.0) -> tuple[np.ndarray, np.ndarray]:
    """The bell of the audio EQ cookbook."""
    a, w = 10 ** (gain_db / 40), 2 * np.pi * at_hz / RATE
    alpha = np.sin(w) / (2 * q)
    above, below = (np.array([1 + alpha * s, -2 * np.cos(w), 1 - alpha * s]) for s in (a, 1 / a))
    return above, below


def with_bell(sound: np.ndarray, at_hz: float, gain_db: float) -> np.ndarray:
    return lfilter(*bell(at_hz, gain_db), sound, axis=0).astype(np.float32)


def bell_in_third_db(at_hz: float, gain_db: float) -> float:
    """What a bell does to pink noise in the third octave around its middle."""
    hz = at_hz * 2 ** np.linspace(-1 / 6, 1 / 6, 200)
    response = freqz(*bell(at_hz, gain_db), hz, fs=RATE)[1]
    return float(10 * np.log10((np.abs(response) ** 2).mean()))


def flat(lufs: float, **raised_db: float) -> Whole:
    """A made-up piece: as much in every third octave, but for some."""
    levels = np.full(axis_hz().size, -30.0)
    for name, db in raised_db.items():
        hz = float(name.removeprefix("at_"))
        levels[np.abs(np.log2(axis_hz() / hz)) <= 1 / 6] += db
    return Whole(levels, lufs, -12.0)


def test_nominal_names_stand_at_the_middles():
    assert len(NAMES_HZ) == THIRDS_HZ.size
    assert np.abs(np.log2(np.array(NAMES_HZ) / THIRDS_HZ)).max() < 0.04


def test_what_is_only_louder_is_the_same():
    sound = pink(8.0)
    reference = whole_of([sound], RATE)
    found = beside(whole_of([0.25 * sound], RATE), [reference])
    told = found.difference_db[np.isfinite(found.difference_db)]
    assert told.size > 25 and np.abs(told).max() < 0.05 and found.runs == ()


def test_a_third_octave_that_is_lower_is_told_with_its_place_and_amount():
    sound = pink(8.0)
    lowered = with_bell(sound, 250, -6.0)
    found = beside(whole_of([lowered], RATE), [whole_of([sound], RATE)] * 2)
    (run,) = found.runs
    assert run.low_hz <= 250 <= run.high_hz
    louder_db = loudness_lufs(sound, RATE) - loudness_lufs(lowered, RATE)
    want_db = bell_in_third_db(250, -6.0) + louder_db
    assert found.difference_db[NAMES_HZ.index(250.0)] == pytest.approx(want_db, abs=0.3)
    assert run.words().endswith("dB less than the references, more than they differ")


def test_between_the_ticks_nothing_is_told():
    references = [flat(-14, at_400=4.0), flat(-20, at_400=-4.0)]
    found = beside(flat(-17, at_400=0.8), references)
    assert found.runs == ()
    at = NAMES_HZ.index(400.0)
    # Matched in loudness: the first is 6 LU louder than the others.
    assert found.ticks_db[:, at] == pytest.approx([1.0, -1.0], abs=0.05)
    assert found.ticks_db[:, 0] == pytest.approx([-3.0, 3.0], abs=0.05)


def test_who_is_cut_there_most_is_named_and_who_is_loudest():
    quieter, louder = flat(-20, at_250=-4.0), flat(-20, at_2000=5.0)
    references = [flat(-20), flat(-20)]
    hz = axis_hz()

    def part(name: str, before_db: float, after_db: float) -> PartTone:
        levels = np.full(hz.size, -90.0)
        low = (hz > 200) & (hz < 3000)
        before, after = (np.where(low, db, levels) for db in (before_db, after_db))
        return PartTone(name, before, after)

    parts = [part("Guitar", -30, -38), part("Keys", -31, -37), part("Voice", -28, -28)]
    (run,) = beside(quieter, references, parts).runs
    assert run.words() == (
        "250 Hz: 4.0 dB less than the references, more than they differ; "
        "Guitar and Keys are cut there most"
    )
    (run,) = beside(louder, references, parts).runs
    assert run.loudest == ("Voice",) and run.words().endswith("Voice is loudest there")


def test_ranges_are_said_with_one_unit_and_one_reference_is_one():
    run = Run(160.0, 400.0, -2.1, 1, (), ())
    assert run.words() == "160 to 400 Hz: 2.1 dB less than the reference"
    assert Run(800.0, 1250.0, 2.1, 1, (), ()).words().startswith("800 Hz to 1.25 kHz: 2.1 dB more")


SONG = pink(6.0)
STEMS = {
    "kick.wav": audio(hits(6.0)),
    "bed.wav": audio(0.5 * SONG),
    "theirs.wav": audio(0.9 * pink(4.0)),
}


@pytest.fixture
def song(filled):
    return filled[1]


@pytest.fixture
def with_reference(caller, song):
    caller.edit(song, op="set part", part="theirs", field="reference", value=True)
    return song


def sound_of(caller, song, **asked) -> np.ndarray:
    facts = caller.client.get(f"/sessions/{song}/listen", query_string=asked).json
    chunks = [
        np.frombuffer(caller.client.get(f"/sound/{facts['hash']}/{n}").data, "<f4").reshape(2, -1).T
        for n in range(facts["chunks"])
    ]
    return np.concatenate(chunks)


def test_a_reference_is_heard_as_loud_as_the_mix_again_and_again(app, caller, with_reference):
    loop = {"start_s": 1, "end_s": 5}
    about = {"hear": "reference", "part": "theirs"}
    sound = sound_of(caller, with_reference, **about)
    file = jobs_of(app).library.head(with_reference).document.part("theirs").file
    length = jobs_of(app).desk.media.frames(file)
    theirs = jobs_of(app).desk.media.open(file).read(0, length)
    assert np.array_equal(sound[:length], theirs)
    assert np.array_equal(sound[length : length + RATE], theirs[:RATE])
    answer = caller.client.get(f"/sessions/{with_reference}/match", query_string=about | loop).json
    mix = sound_of(caller, with_reference, hear="mix")[RATE : 5 * RATE]
    want = loudness_lufs(mix, RATE) - loudness_lufs(sound[RATE : 5 * RATE], RATE)
    assert answer["gain_db"] == pytest.approx(want, abs=0.01)


def test_only_a_reference_is_heard_as_one(caller, with_reference):
    about = {"hear": "reference", "part": "kick"}
    answer = caller.client.get(f"/sessions/{with_reference}/listen", query_string=about)
    assert answer.status_code == 400 and "no reference" in answer.text


def test_the_comparison_follows_the_mix_and_is_kept(app, caller, with_reference):
    desk = jobs_of(app).desk
    document = jobs_of(app).library.head(with_reference).document
    where = Where(0, desk.frames(document), is_song=True)
    assert desk.references.known(document, where) is None
    first = desk.references.compare(document, where)
    assert [part.name for part, _ in first.references] == ["Theirs"] and first.beside is not None
    bands = [{"hz": 250, "gain_db": -9, "q": 1.0}]
    caller.edit(with_reference, op="add move", part="bed", kind="eq", values={"bands": bands})
    edited = jobs_of(app).library.head(with_reference).document
    assert desk.references.known(edited, where) is None
    second = desk.references.compare(edited, where)
    assert second.beside is not None and first.beside is not None
    at = NAMES_HZ.index(250.0)
    assert second.beside.difference_db[at] - first.beside.difference_db[at] < -5
    (run,) = (run for run in second.beside.runs if run.low_hz <= 250 <= run.high_hz)
    assert "Bed is cut there most" in run.words()
    again = desk.references.known(document, where)
    assert again is not None and np.allclose(again.mix.levels_db, first.mix.levels_db, atol=1e-3)


def test_in_another_data_folder_the_archive_tells_the_same(app, with_reference, tmp_path):
    here = jobs_of(app)
    packed = tmp_path / "song.zip"
    document = here.library.head(with_reference).document
    archives.write_archive(here.library, document, packed)
    there = Desk(Library(tmp_path / "there"))
    opened = there.library.head(sessions.import_archive(there.library, packed)).document
    where = Where(0, there.frames(opened), is_song=True)
    first, second = (
        one.references.compare(of, where) for one, of in ((here.desk, document), (there, opened))
    )
    assert first.beside is not None and second.beside is not None
    assert np.allclose(
        first.beside.difference_db, second.beside.difference_db, atol=2e-3, equal_nan=True
    )
    assert [run.words() for run in first.beside.runs] == [run.words() for run in second.beside.runs]
    there.library.close()


def test_the_page_says_what_to_do_and_then_tells(app, caller, song):
    def fragment() -> str:
        return caller.client.get(f"/sessions/{song}/proof/references").text

    assert "tick <em>reference</em>" in fragment()
    caller.edit(song, op="set part", part="theirs", field="reference", value=True)
    until(lambda: "data-poll" not in fragment())
    page = fragment()
    assert "every third octave" in page and page.count("<tr>") > len(NAMES_HZ)
    assert 'data-track="theirs"' in page


def test_a_silent_mix_or_track_is_told(app, caller, with_reference):
    for part in ("kick", "bed"):
        caller.edit(with_reference, op="set part", part=part, field="mute", value=True)
    until(
        lambda: (
            "The mix is silent"
            in caller.client.get(f"/sessions/{with_reference}/proof/references").text
        )
    )


def test_a_reference_is_never_printed_and_never_told_on_the_sheet(caller, with_reference):
    answer = caller.post(f"/sessions/{with_reference}/prints", data={"what": "theirs", "format": "wav"})
    assert "never printed" in answer.text
    page = caller.client.get(f"/sessions/{with_reference}/hand-off").text
    assert "only Kick" in page and "only Theirs" not in page
    assert "Theirs" not in caller.client.get(f"/sessions/{with_reference}/recall/recall.json").text


def test_pictures_are_files_in_the_look_of_the_sheet(caller, song):
    caller.edit(song, op="give way", part="bed", leader="kick", kind="multiband")
    about = {"part": "bed", "move": "m1", "leader": "kick", "start_s": 0, "end_s": 4}

    def get(name: str, **more):
        return caller.client.get(f"/sessions/{song}/pictures/{name}", query_string=about | more)

    for what in ("response", "hit"):
        drawn = get(f"{what}.svg")
        assert (
            drawn.mimetype == "image/svg+xml"
            and f"Bed Multiband compressor {what}.svg" in (drawn.headers["Content-Disposition"])
        )
        # Words stay words, and the paper is that of the screen.
        assert "Kick</text>" in drawn.text and "#fbf8f0" in drawn.text
        assert "#171614" in get(f"{what}.svg", sheet="night").text
        image = get(f"{what}.png")
        assert image.mimetype == "image/png" and image.data.startswith(b"\x89PNG")
    assert "as far as it goes" in get("response.svg").text and "hits of Kick" in get("hit.svg").text
    for name in (r"$\frac$", "鼓 🥁 <b>&", "{nb} " + 70 * "W"):
        caller.edit(song, op="set part", part="kick", field="name", value=name)
        assert get("hit.svg").status_code == get("hit.png").status_code == 200, name
        assert caller.client.get(f"/sessions/{song}/recall/recall.pdf").status_code == 200, name
    assert get("hit.gif").status_code == get("else.svg").status_code == 404
    assert get("hit.svg", move="m9").status_code == 404
    assert get("hit.svg", sheet="dusk").status_code == 400
    silent = get("hit.svg", start_s=0, end_s=0.5)
    assert silent.status_code == 400 and "no hit" in silent.text


def test_a_reference_is_of_all_variants_and_undo_takes_it_back_from_all(tmp_path):
    library = Library(tmp_path)
    song = library.create(session_of({"id": "kick"}, {"id": "tuba"}), rate_known=True)
    variants = Variants(library)
    variants.keep(song)

    def in_each() -> dict[str, list[str]]:
        return {
            one.name: [p.id for p in library.revision(song, one.head).document.parts if p.reference]
            for one in variants.of(song)
        }

    part = Part(id="track", name="Track", file="media/x.wav", reference=True)
    library.edit(song, None, BringIn(part=part).apply)
    assert in_each() == {"A": ["track"], "B": ["track"]}
    library.edit(song, None, SetPart(part="tuba", field="reference", value=True).apply)
    assert in_each() == {"A": ["tuba", "track"], "B": ["tuba", "track"]}
    library.history.undo(song)
    library.history.undo(song)
    assert in_each() == {"A": [], "B": []}
    other = session_of({"id": "kick"}, {"id": "own", "reference": True})
    variants.put_back(song, "B", {"C": other})
    library.edit(song, None, BringIn(part=part).apply)
    assert in_each()["C"] == ["own", "track"], "what a variant has by itself stays"
    library.history.undo(song)
    assert in_each()["C"] == ["own"]
    assert [p.id for p in variants.open(song, "A").document.parts] == ["kick", "tuba"]
    library.close()
