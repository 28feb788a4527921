"""Echoes and rooms in closed form: when they come, how fast they decay, what crosses a border."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import RATE, session_of, sine
from moves_tools import noise, run
from pydantic import ValidationError

from pondel.core.audio.media import ArrayMedia
from pondel.core.engine import render
from pondel.core.errors import BadDocument
from pondel.core.moves.delay import Delay
from pondel.core.moves.reverb import LENGTHS_MS, Reverb, line_losses
from pondel.core.operations import parse_operation

OPEN = {"low_cut_hz": 20, "high_cut_hz": 20_000}


def delay(**more) -> Delay:
    return Delay(id="m", kind="delay", **{**OPEN, "sides": False, **more})


def reverb(**more) -> Reverb:
    return Reverb(id="m", kind="reverb", **{**OPEN, "damping": 0, "pre_delay_ms": 0, **more})


def pulse(frames: int, channels: int = 2) -> np.ndarray:
    sound = np.zeros((frames, channels), np.float32)
    sound[0] = 1.0
    return sound


@pytest.mark.parametrize(("time_ms", "frames"), [(100.0, 4800), (33.3, 1598)])
def test_each_echo_comes_in_time_and_as_much_softer_as_the_feedback_says(time_ms, frames):
    burst = np.zeros((RATE, 2), np.float32)
    burst[:480] = 0.5 * np.sin(2 * np.pi * 1000 * np.arange(480) / RATE)[:, None]
    out = run(delay(time_ms=time_ms, feedback=0.5), burst)
    assert np.abs(out[: frames - 1]).max() < 1e-6
    energies = [float((out[n * frames : n * frames + 960] ** 2).sum()) for n in (1, 2, 3)]
    falls_db = 10 * np.log10(np.array(energies[1:]) / energies[:-1])
    assert falls_db == pytest.approx([-6.02, -6.02], abs=0.1)


def test_a_note_value_follows_the_tempo():
    out = run(delay(time_beats=0.5, feedback=0), pulse(RATE), bpm=100)
    assert int(np.argmax(np.abs(out[:, 0]))) == pytest.approx(0.3 * RATE, abs=2)


def test_from_side_to_side_the_first_comes_left_and_the_next_right():
    out = run(delay(time_ms=100, feedback=0.5, sides=True), pulse(RATE, 1))
    loud = np.abs(out[[4800, 9600, 14400]])
    assert loud.argmax(axis=1).tolist() == [0, 1, 0]
    assert (loud.min(axis=1) < 0.01 * loud.max(axis=1)).all()


def test_a_delay_changes_with_the_map_of_tempi():
    move = {"id": "m", "kind": "delay", **OPEN, "time_beats": 1, "feedback": 0, "sides": False}
    sound = np.zeros((6 * RATE, 1), np.float32)
    sound[[round(0.1 * RATE), round(3.0 * RATE)]] = 1.0
    session = session_of({"id": "part", "moves": [move]})
    tempo = [{"at_s": 0, "tempo_bpm": 120}, {"at_s": 2, "tempo_bpm": 60}]
    session = parse_operation({"op": "give tempo", "tempo": tempo}).apply(session).document
    out = render.region(session, ArrayMedia({"part": sound}), ("part", "before fader"), 0, 6 * RATE)
    loud = np.flatnonzero(np.abs(out[:, 0]) > 0.3) / RATE
    assert loud.min() == pytest.approx(0.6, abs=0.001) and loud.max() == pytest.approx(4.0, abs=0.001)


def decay_s(response: np.ndarray) -> float:
    """60 dB of decay by Schroeder's backward integral (1965), from its fall between -5 and -35 dB."""
    left = np.cumsum((response.astype(np.float64) ** 2)[::-1])[::-1]
    level = 10 * np.log10(left / left[0])
    first, last = np.argmax(level < -5), np.argmax(level < -35)
    return 2.0 * (last - first) / RATE


@pytest.mark.parametrize("space", LENGTHS_MS)
@pytest.mark.parametrize("wanted_s", [0.4, 1.5, 4.0])
def test_a_space_decays_in_the_time_it_says(space, wanted_s):
    out = run(reverb(space=space, decay_s=wanted_s), pulse(round(2 * wanted_s * RATE), 1))
    for channel in out.T:
        assert decay_s(channel) == pytest.approx(wanted_s, rel=0.1)


def test_damping_takes_the_top_sooner_and_leaves_the_lows():
    losses = line_losses(np.array([0.05]), 2.0, 0.5)[0]
    low, top = losses[0] / (1 - losses[1]), losses[0] / (1 + losses[1])
    assert 20 * np.log10(low) == pytest.approx(-60 * 0.05 / 2.0)
    assert 20 * np.log10(top) == pytest.approx(-60 * 0.05 / (2.0 * (1 - 0.85 * 0.5)))


def test_a_space_is_about_as_loud_as_what_goes_in_and_wide():
    given = noise(4.0, 0.1)[:, :1]
    for wanted_s in (0.5, 3.0):
        out = run(reverb(decay_s=wanted_s), given)[2 * RATE :]
        louder_db = 10 * np.log10((out**2).mean() / (given[2 * RATE :] ** 2).mean())
        assert abs(louder_db) < 4
        assert abs(np.corrcoef(out.T)[0, 1]) < 0.3


@pytest.mark.parametrize("move", [delay(time_ms=150, feedback=0.6), reverb(decay_s=1.0)])
def test_what_rings_on_crosses_the_border_of_a_section_and_the_end_of_a_file(move):
    """Only what goes in is limited: w of the sound, which falls to nothing within 10 ms."""
    limited = {**move.model_dump(mode="json"), "sections": ["a"]}
    sections = [{"id": "a", "name": "A", "start_s": 0.0, "end_s": 1.0}]
    session = session_of({"id": "part", "moves": [limited]}, {"id": "long"}, sections=sections)
    sound = sine(500, 2.0)
    media = ArrayMedia({"part": sound, "long": sine(80, 3.0)})
    out = render.region(session, media, ("part", "before fader"), 0, 3 * RATE)
    whole = np.pad(sound, ((0, RATE), (0, 0)))
    inside = np.clip(1.0 - (np.arange(3 * RATE) - RATE) / (0.01 * RATE), 0.0, 1.0)[:, None]
    wanted = run(move, (whole * inside).astype("f4")) + whole * (1.0 - inside)
    # What was mono stands in the centre afterwards, at -3 dB in both channels.
    out = out * np.sqrt(2.0)
    assert np.abs(out - wanted).max() < 1e-5
    assert np.abs((out - whole)[round(1.1 * RATE) : round(1.3 * RATE)]).max() > 0.01


def test_an_echo_steps_aside_for_the_part_that_feeds_it(app_desk):
    """A return in one operation: it dips while the part sounds and rises in its pauses."""
    desk, session_id = app_desk
    asked = parse_operation({"op": "add space", "part": "voice", "space": "hall", "start_s": 0})
    document = desk.do(session_id, [asked]).document
    made = document.parts[-1]
    kinds = [move.kind for move in made.moves]
    assert made.name == "Hall of Voice" and kinds == ["reverb", "compressor"]
    assert made.moves[-1].key.source == "voice" and document.part("voice").sends[0].to == made.id
    assert made.moves[0].low_cut_hz >= 250
    trace = desk.now(document).reductions(made.id, 0, 8 * RATE)[made.moves[-1].id].mean
    sounding, pause = trace[100:190].mean(), trace[300:390].min()
    assert sounding == pytest.approx(9.0, abs=3.0) and pause < 1.0
    assert made.moves[-1].why
    with pytest.raises(BadDocument, match="no space of its own"):
        desk.do(session_id, [asked.model_copy(update={"part": made.id})])


@pytest.fixture
def app_desk(tmp_path):
    import soundfile

    from pondel.core.document import Session
    from pondel.jobs.desk import Desk
    from pondel.store.library import Library

    library = Library(tmp_path)
    tone = sine(400, 8.0, -15)
    sounding = (np.arange(len(tone)) // RATE) % 2 == 0
    soundfile.write(tmp_path / "voice.wav", tone * sounding[:, None], RATE, "PCM_24")
    file = library.media.adopt(tmp_path / "voice.wav")
    part = {"id": "voice", "name": "Voice", "role": "lead", "file": file}
    session_id = library.create(Session.model_validate({"name": "Song", "parts": [part]}))
    yield Desk(library), session_id
    library.close()


def test_times_beyond_what_a_line_holds_are_refused():
    with pytest.raises(ValidationError):
        delay(time_ms=5000)
