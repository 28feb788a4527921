"""What files say of themselves when they come in: their place, markers, halves, twins, a rough mix."""

from __future__ import annotations

import io
import struct

import numpy as np
import pytest
import soundfile
from conftest import RATE, session_of, sine
from hypothesis import given, settings
from hypothesis import strategies as st
from web_tools import audio, jobs_of, until

from pondel.core.advice.halves import halves
from pondel.core.advice.names import sounds_like_a_mix
from pondel.core.audio.broadcast import NOTHING, Marker, told_by
from pondel.core.document import Part
from pondel.core.errors import PondelError
from pondel.core.measures.apart import apart
from pondel.core.measures.spectrum import axis_hz
from pondel.core.operations import BringIn, ReplaceRecording, SetPart
from pondel.core.operations.places import NamedMoment
from pondel.store.prints import Order


def chunk(name: bytes, body: bytes) -> bytes:
    return name + struct.pack("<I", len(body)) + body + bytes(len(body) % 2)


def bext(frames: int) -> bytes:
    """A broadcast extension after EBU Tech 3285, version 1."""
    texts = b"made by hand".ljust(256, b"\0") + bytes(32 + 32) + b"2026-11-28" + b"10:00:00"
    return chunk(b"bext", texts + struct.pack("<QH", frames, 1) + bytes(64 + 10 + 180))


def cues(*named: tuple[int, str]) -> bytes:
    """Cue points with their labels."""
    points = b"".join(
        struct.pack("<II4sIII", n, at, b"data", 0, 0, at) for n, (at, _) in enumerate(named, 1)
    )
    labels = b"".join(
        chunk(b"labl", struct.pack("<I", n) + name.encode() + b"\0")
        for n, (_, name) in enumerate(named, 1)
    )
    return chunk(b"cue ", struct.pack("<I", len(named)) + points) + chunk(b"LIST", b"adtl" + labels)


def wav(samples: np.ndarray, *extra: bytes) -> bytes:
    """A WAV file with further chunks before its sound."""
    out = io.BytesIO()
    soundfile.write(out, samples, RATE, "PCM_16", format="WAV")
    plain = out.getvalue()
    body = plain[12:36] + b"".join(extra) + plain[36:]
    return b"RIFF" + struct.pack("<I", len(body) + 4) + b"WAVE" + body


SOUND = np.linspace(-0.5, 0.5, RATE)


def told(tmp_path, data: bytes):
    path = tmp_path / "a.wav"
    path.write_bytes(data)
    return told_by(path)


def test_a_broadcast_file_says_when_it_begins_and_where_its_markers_are(tmp_path):
    marked = cues((RATE // 2, "Chorus \u00e9"), (0, "Verse"))
    found = told(tmp_path, wav(SOUND, bext(3600 * RATE + 24000), marked))
    assert found.start_s == 3600.5
    assert found.markers == [Marker(0.0, "Verse"), Marker(0.5, "Chorus \u00e9")]


def test_a_plain_file_says_nothing(tmp_path):
    assert told(tmp_path, wav(SOUND)) == NOTHING
    assert told(tmp_path, b"OggS" + bytes(40)) == NOTHING


@pytest.mark.parametrize(
    "extra",
    [
        chunk(b"bext", b"short"),
        chunk(b"cue ", struct.pack("<I", 4_000_000_000)),
        chunk(b"LIST", b"adtl" + (b"LIST" + struct.pack("<I", 1 << 20) + b"adtl") * 20_000),
        chunk(b"iXML", b"<!DOCTYPE a [<!ENTITY b SYSTEM 'file:///etc/passwd'>]><a>&b;</a>"),
        chunk(b"junk", b"") * 5000,
    ],
)
def test_harmful_chunks_are_passed_over(tmp_path, extra):
    assert told(tmp_path, wav(SOUND, extra)) == NOTHING


@given(st.binary(max_size=400))
@settings(max_examples=200, deadline=None)
def test_no_bytes_make_it_fail(tmp_path_factory, data):
    path = tmp_path_factory.getbasetemp() / "any.wav"
    path.write_bytes(b"RIFF\xff\xff\xff\xffWAVE" + data)
    told_by(path)


def bring(document, name: str, stamp_s: float | None, *markers: tuple[float, str], ends_s=10.0):
    part = Part(id=name.lower(), name=name, file=f"{name}.wav", stamp_s=stamp_s)
    moments = [NamedMoment(at_s=at_s, name=words) for at_s, words in markers]
    return BringIn(part=part, markers=moments, ends_s=ends_s).apply(document)


def starts(document) -> dict[str, float]:
    return {part.id: part.start_s for part in document.parts}


def test_stems_of_unequal_start_fall_into_place_in_whatever_order_they_come():
    document = session_of()
    for name, stamp_s in (("B", 3612.5), ("C", 3615.0), ("A", 3610.0), ("D", 3610.0)):
        done = bring(document, name, stamp_s)
        document = done.document
    assert starts(document) == {"a": 0.0, "b": 2.5, "c": 5.0, "d": 0.0}
    late = bring(document, "Late", 3700.25)
    assert "90.25 s" in late.said[0] and "90.25 s" in late.title
    other = bring(document, "Other", 20.0)
    assert starts(other.document)["other"] == 0.0 and "left at the start" in other.said[0]
    assert starts(bring(document, "Plain", None).document)["plain"] == 0.0


def test_a_new_recording_goes_where_its_file_says_unless_the_part_was_moved_by_hand():
    document = session_of()
    for name, stamp_s in (("A", 3600.0), ("B", 3602.0)):
        document = bring(document, name, stamp_s).document
    later = ReplaceRecording(part="b", file="new.wav", stamp_s=3603.5)
    moved = later.apply(document)
    assert starts(moved.document) == {"a": 0.0, "b": 3.5} and "3.50 s instead of 2.00 s" in moved.title
    assert moved.document.part("b").stamp_s == 3603.5
    by_hand = SetPart(part="b", field="start_s", value=5.0).apply(document).document
    assert starts(later.apply(by_hand).document)["b"] == 5.0
    plain = ReplaceRecording(part="b", file="new.wav").apply(document)
    assert starts(plain.document)["b"] == 2.0 and plain.document.part("b").stamp_s == 3602.0
    early = ReplaceRecording(part="b", file="new.wav", stamp_s=3590.0).apply(document)
    assert starts(early.document)["b"] == 2.0 and "left where it was" in early.title


def test_a_file_with_a_block_of_no_bytes_says_nothing(tmp_path):
    data = bytearray(wav(SOUND, bext(10 * RATE)))
    at = data.index(b"fmt ") + 8
    data[at + 12 : at + 14] = bytes(2)
    assert told(tmp_path, bytes(data)).markers == []


def test_markers_become_sections_where_there_are_none():
    done = bring(session_of(), "Mix", None, (4.0, "Chorus"), (0.0, "Verse"), ends_s=9.5)
    rows = [(s.name, s.start_s, s.end_s) for s in done.document.sections]
    assert rows == [("Verse", 0.0, 4.0), ("Chorus", 4.0, 9.5)]
    again = bring(done.document, "Other", None, (1.0, "Bridge"))
    assert again.document.sections == done.document.sections


@pytest.mark.parametrize(
    ("names", "found"),
    [
        (["Room L", "Kick", "Room R"], [(0, 2, "Room")]),
        (["OH_left", "OH_right"], [(0, 1, "OH")]),
        (["Gtr (R)", "Gtr (L)"], [(1, 0, "Gtr")]),
        (["pianoL", "pianoR", "Piano 2.L", "Piano 2.R"], [(0, 1, "piano"), (2, 3, "Piano 2")]),
        (["Room L", "Room L", "Room R"], []),
        (["Vocal", "Snare", "Bar", "Or"], []),
        (["L", "R"], []),
    ],
)
def test_left_and_right_of_one_name_are_found(names, found):
    assert halves(names) == found


def test_names_of_whole_mixes():
    assert all(map(sounds_like_a_mix, ["Rough mix 3", "REF Parade", "2mix", "Premaster", "Mix"]))
    assert not any(
        map(sounds_like_a_mix, ["Remix gtr", "Mixed voices", "Refrain voice", "Rough gtr"][:3])
    )


def test_two_balances_are_as_far_apart_as_they_were_made():
    hz = axis_hz()
    pink = np.full(hz.size, -40.0)
    assert apart(pink + 6.0, pink).rms_db < 1e-6
    lifted = np.where(hz > 1000, pink + 3.0, pink - 3.0)
    found = apart(lifted, pink)
    assert found.rms_db == pytest.approx(3.0, abs=0.3) and "another balance" in found.words()
    bump = pink + 4.0 * np.exp(-0.5 * (np.log2(hz / 250) / 0.2) ** 2)
    found = apart(bump, pink)
    assert 200 < found.most_hz < 320 and found.most_db == pytest.approx(3.3, abs=0.8)
    assert apart(np.full(hz.size, -200.0), pink) is None


STEMS = {"kick.wav": audio(np.tile(sine(60, 4), (1, 2)))}


@pytest.fixture
def song(filled):
    return filled[1]


def test_halves_twins_and_a_rough_mix_at_intake(app, caller, song):
    jobs = jobs_of(app)
    document = lambda: jobs.library.head(song).document  # noqa: E731
    before = len(document().parts)
    left, right = (sine(hz, 1)[:, 0] * 0.3 for hz in (300, 400))
    caller.upload(song, ("Bells L.wav", wav(left)), ("Bells R.wav", wav(right)))
    until(lambda: len(document().parts) == before + 2)
    caller.upload(song, ("Again.wav", wav(left)))
    until(lambda: any("kept once" in a.message for a in jobs.arrivals.of_session(song)))
    page = caller.client.get(f"/sessions/{song}/intake").text
    assert "Join as Bells, stereo" in page
    where = "left=bells-l&right=bells-r&name=Bells"
    assert caller.post(f"/sessions/{song}/intake/join?{where}").status_code == 303
    joined = document().part("bells-l")
    assert joined.name == "Bells" and not document().has_part("bells-r")
    samples, _ = soundfile.read(jobs.library.media.path(joined.file))
    assert np.allclose(samples, np.stack([left, right], axis=1), atol=1e-4)
    refused = caller.post(f"/sessions/{song}/intake/join?left=bells-l&right=kick&name=x")
    assert refused.status_code == 400 and "stereo already" in refused.text
    caller.edit(song, op="remove part", part="bells-l")
    caller.upload(song, ("Rough mix.wav", audio(np.tile(sine(60, 4, -20), (1, 2)))))
    until(lambda: document().has_part("rough-mix"))
    assert "looks like a whole mix" in caller.client.get(f"/sessions/{song}/intake").text
    caller.edit(song, op="set part", part="rough-mix", field="reference", value=True)
    assert "rough-mix" not in {part.id for part in document().summed()}
    words = "0.0 dB apart: this is the balance you heard"
    until(lambda: words in caller.client.get(f"/sessions/{song}/intake").text)


def test_a_reference_is_not_of_the_song(app, caller, song):
    jobs = jobs_of(app)
    short = jobs.desk.frames(jobs.library.head(song).document)
    caller.upload(song, ("Reference.wav", wav(np.tile(SOUND, 30))))
    until(lambda: jobs.library.head(song).document.has_part("reference"))
    assert jobs.desk.frames(jobs.library.head(song).document) == 30 * RATE
    caller.edit(song, op="set part", part="reference", field="reference", value=True)
    assert jobs.desk.frames(jobs.library.head(song).document) == short


def test_a_stamp_after_midnight_is_none_and_a_reference_is_never_printed(tmp_path, app, caller, song):
    assert told(tmp_path, wav(SOUND, bext(90_000 * RATE))).start_s is None
    jobs = jobs_of(app)
    caller.edit(song, op="set part", part="kick", field="reference", value=True)
    document = jobs.library.head(song).document
    with pytest.raises(PondelError, match="never printed"):
        jobs.desk.printing.print_to(document, tmp_path, Order("kick", "wav", "24"))


def test_intake_opens_where_a_recording_of_a_folded_family_is_gone(app, caller, song):
    jobs = jobs_of(app)
    caller.upload(song, ("kick two.wav", audio(np.tile(sine(80, 2), (1, 2)))))
    until(lambda: jobs.library.head(song).document.has_part("kick-two"))
    gone = jobs.library.head(song).document.part("kick-two").file
    jobs.library.media.path(gone).unlink()
    caller.client.set_cookie("pondel_rows", "role")
    for _ in range(3):
        page = caller.client.get(f"/sessions/{song}/intake")
        assert page.status_code == 200 and "2 parts" in page.text
