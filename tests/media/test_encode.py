"""Writing files: dither that has nothing in common between files and channels, and clipping that is said."""

import json

import numpy as np
import pytest
import soundfile
from hypothesis import given, settings
from hypothesis import strategies as st

from saltanvil.cli import main
from saltanvil.media.dither import Quantiser
from saltanvil.media.encode import write_audio
from tests.signals import noise

BITS = 16


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
