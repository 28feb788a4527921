"""Prints: what is printed sums to the mix, nothing clips in silence, a file says where it begins."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
import soundfile
from conftest import hits, sine
from web_tools import audio, jobs_of, until

from pondel.core.audio.broadcast import told_by
from pondel.core.audio.files import safe_name
from pondel.core.document import Session
from pondel.core.dsp.split import Split
from pondel.core.engine.render import region
from pondel.core.errors import BadDocument
from pondel.core.operations.base import Done
from pondel.jobs.printing import check_order, rings_out_s
from pondel.store.prints import Order

RATE = 48000
STEMS = {
    "kick.wav": audio(hits(3.0)),
    "tuba.wav": audio(sine(62, 3, -14) + 0.3 * sine(700, 3, -14)),
    "voice.wav": audio(0.5 * sine(440, 3, -10)),
}


@pytest.fixture
def song(filled):
    return filled[1]


@pytest.fixture
def printed(app, song, caller, tmp_path):
    """Prints the session with a group, a hall and moves; by name float32 (frames, channels)."""
    for name in ("Brass", "Hall"):
        caller.edit(song, op="add return", name=name)
    caller.edit(song, op="set group", part="tuba", value="brass")
    caller.edit(song, op="set send", part="voice", to="hall", value=-6)
    caller.edit(song, op="add move", part="hall", kind="reverb", values={"decay_s": 1.0, "mix": 1.0})
    caller.edit(song, op="give way", part="tuba", leader="kick", kind="compressor")
    jobs = jobs_of(app)
    out = tmp_path / "out"
    out.mkdir()

    def work(**order):
        document = jobs.library.head(song).document
        paths = jobs.desk.printing.print_to(document, out, Order(**order))
        return {path.stem: soundfile.read(path, dtype="float32", always_2d=True)[0] for path in paths}

    return work


def test_parts_groups_and_returns_sum_to_the_mix(printed):
    found = printed(what="both", format="wav", bits="32f")
    assert set(found) == {"mix", "Kick", "Voice", "Brass", "Hall"}
    total = sum(sound.astype(np.float64) for name, sound in found.items() if name != "mix")
    assert np.abs(total - found["mix"]).max() < 10 ** (-120 / 20)


def test_what_is_printed_and_brought_in_again_nulls_with_the_mix(app, caller, printed):
    found = printed(what="both", format="wav", bits="32f")
    jobs = jobs_of(app)
    again = jobs.library.create(Session(name="Again"))
    stems = {
        f"{name}.wav": audio(sound, subtype="FLOAT") for name, sound in found.items() if name != "mix"
    }
    assert caller.upload(again, *stems.items()).status_code == 202
    document = until(
        lambda: (one := jobs.library.head(again).document) and len(one.parts) == len(stems) and one
    )
    mix = region(document, jobs.desk.media, "mix", 0, found["mix"].shape[0])
    assert np.abs(mix.astype(np.float64) - found["mix"]).max() < 10 ** (-120 / 20)


def test_the_song_rings_out_where_that_is_asked_for(app, printed, song):
    plain = printed(what="mix", format="wav", bits="32f")["mix"]
    ringing = printed(what="mix", format="wav", bits="32f", ring_out=True)["mix"]
    more = rings_out_s(jobs_of(app).library.head(song).document)
    assert ringing.shape[0] - plain.shape[0] == int(np.ceil(more * RATE)) > 1.5 * RATE
    assert np.array_equal(ringing[: plain.shape[0]], plain)
    tail = ringing[plain.shape[0] :]
    assert np.abs(tail[: RATE // 4]).max() > 1e-3 and np.abs(tail[-RATE // 10 :]).max() < 1e-4


def test_a_stretch_rings_out_without_what_plays_on_after_it(printed, song):
    order = {"what": "mix", "format": "wav", "bits": "32f", "start_s": 0.5, "end_s": 1.5}
    plain = printed(**order)["mix"]
    ringing = printed(**order, ring_out=True)["mix"]
    assert np.array_equal(ringing[: plain.shape[0]], plain)
    tail = np.abs(ringing[plain.shape[0] :]).max(axis=1)
    # The hall dies away; what the parts play from there on would stay as loud as it was.
    assert tail[: RATE // 10].max() > 1e-3
    levels = [
        tail[n : n + RATE // 4].max() for n in range(RATE // 10, tail.size - RATE // 4, RATE // 4)
    ]
    assert all(after < before for before, after in itertools.pairwise(levels))
    assert levels[0] < 0.5 * np.abs(plain[-RATE // 4 :]).max() and levels[-1] < 1e-3


def test_both_sides_of_a_split_sum_to_what_is_printed_and_keep_to_their_side(printed):
    whole = printed(what="tuba", format="wav", bits="32f")["Tuba"]
    sides = printed(what="tuba", format="wav", bits="32f", split_hz=200.0)
    low, high = sides["Tuba low"], sides["Tuba high"]
    assert low.shape == high.shape == whole.shape
    assert np.abs(low.astype(np.float64) + high - whole).max() < 1e-6

    def level(sound, hz):
        spectrum = np.abs(np.fft.rfft(sound[RATE : 2 * RATE, 0] * np.hanning(RATE)))
        return 20 * np.log10(spectrum[hz] + 1e-12)

    assert level(low, 62) - level(high, 62) > 70 and level(high, 700) - level(low, 700) > 70


@pytest.mark.parametrize("sizes", [[48000], [1, 999, 47000], [333] * 145])
def test_a_split_in_blocks_is_that_of_the_whole(sizes):
    noise = np.random.default_rng(3).standard_normal((sum(sizes), 1)).astype(np.float32)
    whole, pieces = Split(150.0, RATE, 1), Split(150.0, RATE, 1)
    both = [pieces.process(block) for block in np.split(noise, np.cumsum(sizes)[:-1])]
    low, high = whole.process(noise)
    assert np.allclose(np.concatenate([one for one, _ in both]), low, atol=1e-5)
    assert np.allclose(low[whole.delay :] + high[whole.delay :], noise[: -whole.delay], atol=1e-6)


def test_what_would_clip_says_by_how_much_to_lower_it_and_leaves_nothing(app, caller, song, tmp_path):
    caller.edit(song, op="set part", part="kick", field="fader_db", value=9)
    printing, document = jobs_of(app).desk.printing, jobs_of(app).library.head(song).document
    over = Order("mix", "wav", "32f")
    (path,) = printing.print_to(document, tmp_path, over)
    over_db = 20 * np.log10(np.abs(soundfile.read(path)[0]).max())
    assert over_db > 0.1
    path.unlink()
    for format, bits in (("wav", "24"), ("flac", "16"), ("ogg", "24")):
        with pytest.raises(BadDocument, match=r"over full scale: print .* dB lower, or as 32-bit"):
            printing.print_to(document, tmp_path, Order("mix", format, bits))
    enough = np.ceil(10 * over_db) / 10
    with pytest.raises(BadDocument, match=f"print {enough:.1f} dB lower"):
        printing.print_to(document, tmp_path, Order("mix", "wav", "24"))
    (path,) = printing.print_to(document, tmp_path, Order("mix", "wav", "24", lower_db=enough))
    assert 0.98 < np.abs(soundfile.read(path)[0]).max() <= 1.0


def test_prints_open_few_files_at_a_time_and_sum_up_the_same(printed, monkeypatch):
    at_once = printed(what="parts", format="wav", bits="32f", split_hz=150.0)
    monkeypatch.setattr("pondel.jobs.printing.FILES_AT_ONCE", 2)
    by_passes = printed(what="parts", format="wav", bits="32f", split_hz=150.0)
    assert at_once.keys() == by_passes.keys() and len(at_once) == 8
    assert all(np.array_equal(by_passes[name], sound) for name, sound in at_once.items())


def test_prints_begin_where_their_files_did_on_the_clock_of_their_session(printed, app, song, tmp_path):
    library = jobs_of(app).library
    document = library.head(song).document
    stamps = {"kick": 3600.0, "tuba": 3601.5}
    parts = [
        part.model_copy(update={"stamp_s": stamps.get(part.id), "start_s": at_s})
        for part, at_s in zip(document.parts, (0.0, 1.5, 0.0, 0.0, 0.0), strict=False)
    ]
    library.edit(song, None, lambda one: Done(one.model_copy(update={"parts": parts}), "Stamped"))
    printed(what="both", format="wav", bits="24")
    printed(what="mix", format="wav", bits="24", start_s=1.0, end_s=2.0, pattern="piece")
    out = tmp_path / "out"
    assert told_by(out / "Brass.wav").start_s == 3600.0
    assert told_by(out / "mix.wav").start_s == 3600.0
    assert told_by(out / "piece.wav").start_s == 3601.0


def test_a_print_of_a_stretch_is_that_of_the_song_and_says_where_it_begins(printed, tmp_path):
    whole = printed(what="mix", format="wav", bits="24")["mix"]
    piece = printed(what="mix", format="wav", bits="24", start_s=1.25, end_s=2.0, pattern="piece")[
        "piece"
    ]
    assert np.array_equal(piece, whole[60000:96000])
    told = told_by(tmp_path / "out" / "piece.wav")
    assert told.start_s == pytest.approx(1.25, abs=1e-9)
    assert soundfile.info(tmp_path / "out" / "piece.wav").frames == 36000
    assert told_by(tmp_path / "out" / "mix.wav").start_s == 0.0


def test_files_are_named_by_a_pattern(printed):
    found = printed(
        what="parts", format="flac", bits="16", pattern="{number} {session} {part} {variant}"
    )
    assert sorted(found)[0].startswith("01 Song ") and all(name.endswith(" A") for name in found)
    same = printed(what="parts", format="wav", bits="16", pattern="stem")
    assert set(same) == {"stem", "stem 2", "stem 3", "stem 4"}


@pytest.mark.parametrize(
    "pattern", ["{part", "{nobody}", "{part.name}", "{part!r}", "{part:>99}", "{}", "  "]
)
def test_a_pattern_that_is_none_is_refused(app, song, pattern):
    document = jobs_of(app).library.head(song).document
    with pytest.raises(BadDocument, match="a name is made of"):
        check_order(document, Order("mix", "wav", "24", pattern=pattern))


def test_an_order_from_the_page_is_printed_and_one_that_is_none_refused(app, caller, song):
    jobs = jobs_of(app)
    form = {
        "what": "parts",
        "format": "flac",
        "bits": "24",
        "over": "loop",
        "loop_start_s": "1",
        "loop_end_s": "2",
    }
    more = {"lower_db": "3 dB", "split_hz": "0.2k", "pattern": "{part} {variant}"}
    assert caller.post(f"/sessions/{song}/prints", data={**form, **more}).status_code == 303
    one = until(lambda: next((p for p in jobs.prints.of_session(song) if p.state == "done"), None))
    assert len(one.files) == 6 and "Kick A low.flac" in one.files and "3 dB lower" in one.message
    assert soundfile.info(jobs.prints.file(song, one.id, "Kick A low.flac")).frames == RATE
    for wrong in ({"lower_db": "a lot"}, {"lower_db": "90"}, {"split_hz": "5"}, {"pattern": "{x}"}):
        assert caller.post(f"/sessions/{song}/prints", data={**form, **wrong}).status_code == 400


@pytest.mark.parametrize(
    ("name", "file"),
    [("CON", "CON_"), ("com1", "com1_"), ("Nul. take", "Nul. take_"), ("Console", "Console")],
)
def test_no_file_is_called_like_a_device_of_another_system(name, file):
    assert safe_name(name) == file
