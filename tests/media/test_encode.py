"""Writing files: dither that has nothing in common between files and channels, and clipping that is said."""

import json
import struct
import time

import numpy as np
import pytest
import soundfile
from hypothesis import given, settings
from hypothesis import strategies as st

from saltanvil.cli import main
from saltanvil.media.dither import Quantiser
from saltanvil.media.encode import Writing, write_audio
from saltanvil.media.formats import Tags
from tests.signals import noise

BITS, RATE = 16, 48000


def errors(seed, frames=200_000, channels=2):
    """What is added to digital silence, in steps of the last bit."""
    return (Quantiser(BITS, channels, seed)(np.zeros((channels, frames), np.float32)) >> (32 - BITS)).astype(float)


def test_dither_is_independent_between_files_and_channels_and_reproducible():
    """Correlation of 200,000 samples: 4.5 standard deviations (1/sqrt(n)) are 0.010; the fault was 1.000."""
    one, other = errors("kick"), errors("snare")
    rows = [*one, *other]
    for a in range(4):
        for b in range(a):
            assert abs(np.corrcoef(rows[a], rows[b])[0, 1]) < 0.010
    assert np.array_equal(one, errors("kick")) and not np.array_equal(one, other)
    # Of two mono files' sum the noise rises by 3 dB, as for any independent noises (6 dB for the same one).
    assert np.var(one[0] + other[0]) / np.var(one[0]) == pytest.approx(2.0, rel=0.03)


@settings(max_examples=25, deadline=None)
@given(st.lists(st.integers(1, 900), min_size=1, max_size=8))
def test_dither_does_not_depend_on_the_blocks(sizes):
    x = noise(2, sum(sizes), 1)
    whole, parts = Quantiser(24, 2, "a"), Quantiser(24, 2, "a")
    edges = np.cumsum([0, *sizes])
    pieces = [parts(x[:, a:b]) for a, b in zip(edges, edges[1:], strict=False)]
    assert np.array_equal(whole(x), np.concatenate(pieces, axis=1))


@pytest.mark.parametrize("kind", ["wav16", "wav24", "flac16", "flac24", "wav32f"])
def test_clipped_samples_are_counted_with_how_far_they_were_over(kind, tmp_path):
    x = np.full((2, 5000), 0.5, np.float32)
    x[0, [100, 2000, 4999]] = [1.5, -2.0, 1.0]  # full scale itself is no clipping
    x[1, 7] = -1.01
    path = tmp_path / ("x.wav" if kind.startswith("wav") else "x.flac")
    written = write_audio(path, [x[:, :1500], x[:, 1500:]], 48000, 2, kind, 5000)
    assert written.frames == 5000
    if kind == "wav32f":
        assert written.clipped == 0 and written.warning("x") is None
        assert soundfile.read(path)[0].max() == 1.5
        return
    assert written.clipped == 3 and written.over_db == pytest.approx(20 * np.log10(2.0), abs=1e-3)
    assert written.warning("x.wav") == "x.wav: 3 samples were clipped, by up to 6.0 dB; lower the level, or write 32-bit float"
    assert np.abs(soundfile.read(path)[0]).max() <= 1.0


@pytest.fixture
def loud(tmp_path):
    x = 2.0 * noise(2, 48_000, 4) / np.abs(noise(2, 48_000, 4)).max()
    soundfile.write(tmp_path / "in.wav", x.T, 48000, subtype="FLOAT")
    (tmp_path / "path.json").write_text('{"steps": [{"kind": "trim", "settings": {"gain_db": 0}}]}')
    return tmp_path, x.astype(np.float32)


def test_the_command_line_warns_and_reports_what_the_file_holds(loud, capsys):
    folder, x = loud
    command = ["process", str(folder / "in.wav"), "--path", str(folder / "path.json"), "--report", "-o"]
    over = int((np.abs(x) > 1.0).sum())
    assert over > 10
    for strict, status in ((False, 0), (True, 4)):
        out = folder / "out.wav"
        assert main([*command, str(out), "--format", "wav16", *(["--strict"] if strict else [])]) == status
        told = capsys.readouterr()
        assert (
            told.err
            == f"saltanvil: out.wav: {over} samples were clipped, by up to 6.0 dB; lower the level, or write 32-bit float\n"
        )
        after = json.loads(told.out)["after"]
        assert after["clipped_samples"] == over and after["clipped_by_db"] == pytest.approx(6.02, abs=0.01)
        held = soundfile.read(out)[0]
        assert after["sample_peak_dbfs"] == 0.0 and np.abs(held).max() == 1.0  # of the file, not of the sound before clipping
    assert main([*command, str(folder / "out.wav"), "--strict"]) == 0  # 32-bit float holds everything
    told = capsys.readouterr()
    assert told.err == "" and json.loads(told.out)["after"]["sample_peak_dbfs"] == pytest.approx(6.02, abs=0.01)


def test_a_missing_folder_is_refused_before_the_work(loud, capsys):
    folder, _ = loud
    out = folder / "nowhere" / "out.wav"
    assert main(["process", str(folder / "in.wav"), "--path", str(folder / "path.json"), "-o", str(out)]) == 1
    assert capsys.readouterr().err == f"saltanvil: {out.parent}: there is no such folder to write to; make it first\n"


@pytest.mark.parametrize("frames", [500, 4800, 50_123, 123_457])
@pytest.mark.parametrize("rate", [44100, 48000])
def test_the_edit_list_of_aac_ends_to_the_sample(tmp_path, frames, rate):
    """ISO/IEC 14496-12, boxes mvhd and elst: the duration in the timescale of the file, from memory. FFmpeg decodes the last
    block to its end whatever the list says; decoders that follow it give just the frames that were written."""
    path = tmp_path / "x.m4a"
    write_audio(path, [noise(2, frames, 1, 0.1)], rate, 2, "aac-192", frames)
    data = path.read_bytes()
    (timescale,) = struct.unpack_from(">I", data, data.index(b"mvhd") + 16)
    _, count, duration, start = struct.unpack_from(">IIII", data, data.index(b"elst") + 4)
    assert (timescale, count, duration, start) == (rate, 1, frames, 1024)


@pytest.mark.parametrize("kind", ["wav32f", "aiff32f"])
def test_the_same_floats_are_the_same_file_whenever_they_are_written(tmp_path, kind):
    """Broadcast WAV says by intention when it was made (EBU Tech 3285)."""
    sound = noise(2, 20_000, 1, 0.5)
    files = []
    for name in ("a", "b"):
        write_audio(tmp_path / name, [sound], RATE, 2, Writing(kind, tags=Tags(title="Oars")), 20_000)
        files.append((tmp_path / name).read_bytes())
        time.sleep(1.1)  # stamps count in seconds
    assert files[0] == files[1]
    read, _ = soundfile.read(tmp_path / "a", dtype="float32")
    assert np.array_equal(read.T, sound)


def test_process_dithers_each_stem_with_noise_of_its_own(tmp_path):
    """The fault was one noise in all files: a correlation of 1.000 between two stems of silence but for a click each."""
    (tmp_path / "none.json").write_text('{"steps": []}')
    left = {}
    for name, place in (("oars", 100), ("winch", 200), ("again", 100)):
        x = np.zeros((60_000, 1), np.float32)
        x[place] = 0.25
        file = tmp_path / (f"{name}.wav" if name != "again" else "sub/oars.wav")
        file.parent.mkdir(exist_ok=True)
        soundfile.write(file, x, RATE, subtype="FLOAT")
        out = tmp_path / f"{name} out.wav"
        assert main(["process", str(file), "-o", str(out), "--path", str(tmp_path / "none.json"), "--format", "wav16"]) == 0
        left[name] = soundfile.read(out, dtype="int16")[0][1000:].astype(float)
    assert abs(np.corrcoef(left["oars"], left["winch"])[0, 1]) < 0.02
    assert np.array_equal(left["oars"], left["again"])
