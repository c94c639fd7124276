"""Tempo of sounds made at a known one (no source: the truth is how they were made)."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from saltanvil.measure.tempo import estimate
from tests.signals import noise


def beats(bpm, seconds=24.0, first_s=0.2, rate=48000, seed=0):
    """Short bursts on the beat, every fourth louder, with ever so little swing of time."""
    rng = np.random.default_rng(seed)
    x = np.zeros((1, round(seconds * rate)), np.float32)
    for n, at in enumerate(np.arange(first_s, seconds - 0.2, 60.0 / bpm)):
        start = round((at + rng.normal(0, 0.002)) * rate)
        count = min(rate // 12, x.shape[1] - start)
        decay = np.exp(-np.arange(count) / (0.012 * rate))
        x[0, start : start + count] += (0.5 if n % 4 else 1.0) * decay * rng.standard_normal(count)
    return x


@settings(max_examples=12, deadline=None)
@given(st.floats(50, 200), st.sampled_from([44100, 48000, 96000]), st.floats(0.05, 0.4))
def test_a_beat_is_found_or_its_half_or_double(bpm, rate, first_s):
    result = estimate(beats(bpm, first_s=first_s, rate=rate), rate)
    assert result is not None and result.certainty > 0.3
    assert min(abs(result.bpm * times - bpm) / bpm for times in (0.5, 1.0, 2.0)) < 0.002
    away = (result.beat_s - first_s) * result.bpm / 60.0
    assert abs(away - round(2 * away) / 2) < 0.04  # on a beat, or half a beat of a tempo that was halved


def test_the_demo_is_read_at_its_tempo(demo_tracks):
    from saltanvil.demo.low_water import TEMPO_BPM

    for name in ("Kick", "Snare", "Guitar left"):
        result = estimate(demo_tracks[name], 48000)
        assert result is not None and result.bpm == pytest.approx(TEMPO_BPM, abs=0.05), name


def test_where_nothing_repeats_it_is_unsure_or_says_nothing():
    assert estimate(noise(1, 48000, 1), 48000) is None  # too short
    assert estimate(np.zeros((2, 480_000), np.float32), 48000) is None
    result = estimate(np.random.default_rng(1).standard_normal((1, 960_000)).astype(np.float32) * 0.1, 48000)
    assert result is None or result.certainty < 0.2
