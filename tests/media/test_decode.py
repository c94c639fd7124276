"""Reading files: the length that went in comes out."""

import subprocess

import numpy as np
import pytest
import soundfile
from hypothesis import given, settings
from hypothesis import strategies as st

from saltanvil.media.decode import open_audio
from tests.signals import noise


def decoded(path):
    source = open_audio(path, path.name)
    return np.concatenate(list(source.blocks), axis=1), source.rate


@settings(max_examples=12, deadline=None)
@given(frames=st.integers(3000, 120_000), rate=st.sampled_from([44100, 48000]), channels=st.sampled_from([1, 2]))
def test_aac_is_decoded_to_its_exact_length_and_place(tmp_path_factory, frames, rate, channels):
    """Encoded by ffmpeg's own encoder; the fault was up to 1023 samples of filling at the end."""
    folder = tmp_path_factory.mktemp("aac")
    x = noise(channels, frames, 3)
    soundfile.write(folder / "x.wav", x.T, rate, subtype="FLOAT")
    subprocess.run(["ffmpeg", "-v", "error", "-i", folder / "x.wav", "-c:a", "aac", "-b:a", "192k", folder / "x.m4a"], check=True)
    y, result = decoded(folder / "x.m4a")
    assert result == rate and y.shape == x.shape
    span = slice(1500, min(frames - 1100, 40_000))
    own = x[0, span].astype(np.float64)
    lags = {lag: float(np.dot(y[0, span.start + lag : span.stop + lag], own)) for lag in range(-20, 21)}
    assert max(lags, key=lags.get) == 0


@pytest.mark.parametrize(("codec", "suffix"), [("libmp3lame", "mp3"), ("libopus", "opus"), ("flac", "flac")])
def test_other_codecs_keep_their_length(codec, suffix, tmp_path):
    x = noise(2, 77_777, 4)
    soundfile.write(tmp_path / "x.wav", x.T, 48000, subtype="PCM_16")
    subprocess.run(["ffmpeg", "-v", "error", "-i", tmp_path / "x.wav", "-c:a", codec, tmp_path / f"x.{suffix}"], check=True)
    y, _ = decoded(tmp_path / f"x.{suffix}")
    assert y.shape == x.shape
