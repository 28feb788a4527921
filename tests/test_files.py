"""Reading every open format, converting rates, and writing without surprises."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile
from conftest import sine

from pondel.core.audio import files
from pondel.core.audio.media import MOST_OPEN_FILES, FileReader, FolderMedia
from pondel.core.dsp.dither import Dither
from pondel.core.errors import BadAudio, BadDocument, BadRecording


def converted(path, tmp_path, rate=48000):
    target = tmp_path / "out.wav"
    files.convert(path, target, rate)
    return soundfile.read(target, dtype="float32", always_2d=True)[0]


@pytest.mark.parametrize(
    ("format", "subtype", "exact"),
    [
        ("WAV", "PCM_U8", 2**-7),
        ("WAV", "PCM_16", 2**-15),
        ("WAV", "PCM_24", 2**-23),
        ("WAV", "PCM_32", 2**-23),
        ("WAV", "FLOAT", 1e-9),
        ("WAV", "DOUBLE", 1e-7),
        ("AIFF", "PCM_24", 2**-23),
        ("FLAC", "PCM_24", 2**-23),
        ("OGG", "VORBIS", 0.02),
        ("MP3", "MPEG_LAYER_III", 0.02),
    ],
)
@pytest.mark.parametrize("channels", [1, 2])
def test_every_format_comes_in(tmp_path, format, subtype, exact, channels):
    samples = np.repeat(sine(440, 0.5, -6), channels, axis=1)
    path = tmp_path / "in"
    soundfile.write(path, samples, 48000, subtype, format=format)
    out = converted(path, tmp_path)
    assert out.shape[1] == channels
    middle = slice(5000, 15000)
    if format == "MP3":
        # The codec may shift the sound by a few frames: compare levels instead.
        assert np.sqrt((out[middle] ** 2).mean()) == pytest.approx(0.5012 / np.sqrt(2), rel=0.02)
    else:
        assert np.abs(out[middle] - samples[middle]).max() <= exact * 1.01


@pytest.mark.parametrize("rate", [8000, 22050, 44100, 88200, 96000, 192000])
def test_rates_are_converted_without_touching_the_tone(tmp_path, rate):
    path = tmp_path / "in.wav"
    soundfile.write(path, sine(1000, 1.0, -6, rate), rate, "FLOAT")
    out = converted(path, tmp_path)
    assert out.shape[0] == pytest.approx(48000, abs=2)
    t = np.arange(48000) / 48000
    expected = 10 ** (-6 / 20) * np.sin(2 * np.pi * 1000 * t)
    middle = slice(5000, 43000)
    assert 20 * np.log10(np.abs(out[middle, 0] - expected[middle]).max()) < -90


def test_truncated_aiff_and_growing_wav(tmp_path):
    path = tmp_path / "a.aiff"
    soundfile.write(path, sine(100, 1.0), 48000, "PCM_16", format="AIFF")
    path.write_bytes(path.read_bytes()[:30000])
    with pytest.raises(BadAudio, match="cut short"):
        files.probe(path)
    growing = tmp_path / "b.wav"
    soundfile.write(growing, sine(100, 1.0), 48000, "PCM_16")
    body = bytearray(growing.read_bytes())
    at = body.index(b"data") + 4
    body[at : at + 4] = b"\xff\xff\xff\xff"
    growing.write_bytes(body)
    assert files.probe(growing).frames > 0


def test_dither_keeps_the_mean_and_makes_a_steady_error():
    level = 0.3 / 32768
    out = Dither(16, 1).process(np.full((200_000, 1), level, np.float32))
    error = (out - level) * 32768
    assert error.mean() == pytest.approx(0, abs=0.01)
    # Rounding plus triangular noise of one step: 1/12 + 1/6 of a squared step.
    assert error.var() == pytest.approx(0.25, rel=0.02)
    loud = Dither(16, 1).process(np.array([[2.0], [-2.0]], np.float32))
    assert loud.max() <= 1 and loud.min() >= -1


def test_a_writer_counts_what_it_clips(tmp_path):
    block = np.array([[0.5, 1.5], [-2.0, 0.1]], np.float32)
    with files.Writer(tmp_path / "x.wav", 48000, 2, "wav", "24") as writer:
        writer.write(block)
    assert writer.clipped == 2
    with files.Writer(tmp_path / "y.wav", 48000, 2, "wav", "32f") as writer:
        writer.write(block)
    assert writer.clipped == 0
    assert np.array_equal(soundfile.read(tmp_path / "y.wav", dtype="float32")[0], block)


@pytest.mark.parametrize(("name", "safe"), [("a/b:c", "a b c"), ("..", "part"), ("Voice 2", "Voice 2")])
def test_names_become_safe_file_names(name, safe):
    assert files.safe_name(name) == safe


def test_a_folder_keeps_its_files_to_itself(tmp_path):
    (tmp_path / "in").mkdir()
    (tmp_path / "secret.wav").write_bytes(b"x")
    media = FolderMedia(tmp_path / "in")
    for name in ("../secret.wav", "/etc/passwd", "gone.wav"):
        with pytest.raises((BadDocument, BadRecording)):
            media.open(name)


def test_more_readers_than_open_files_read_on_where_they_were(tmp_path):
    sound = np.arange(1000, dtype="f4")[:, None] / 1000
    readers = []
    for n in range(MOST_OPEN_FILES + 40):
        path = tmp_path / f"{n}.wav"
        soundfile.write(path, sound * (n + 1) / 400, 48000, "FLOAT")
        readers.append(FileReader(path))
    for start in (0, 100):
        for n, reader in enumerate(readers):
            assert np.allclose(reader.read(start, 100), sound[start : start + 100] * (n + 1) / 400)
    handles = Path("/proc/self/fd")
    if handles.is_dir():
        named = [one.readlink() for one in handles.iterdir() if one.is_symlink() and one.exists()]
        assert sum(one.is_relative_to(tmp_path) for one in named) <= MOST_OPEN_FILES


@pytest.mark.parametrize(
    "name", ["media/link.wav", "linked/out.wav", "../out/out.wav", "media/../../out/out.wav"]
)
def test_no_name_leads_out_of_the_folder(tmp_path, name):
    folder, outside = tmp_path / "in", tmp_path / "out"
    (folder / "media").mkdir(parents=True)
    outside.mkdir()
    for place in (folder / "media" / "own.wav", outside / "out.wav"):
        place.write_bytes(b"sound")
    (folder / "media" / "link.wav").symlink_to(outside / "out.wav")
    (folder / "linked").symlink_to(outside)
    media = FolderMedia(folder)
    assert media.path("media/own.wav") == folder.resolve() / "media" / "own.wav"
    with pytest.raises(BadDocument, match="outside"):
        media.path(name)
