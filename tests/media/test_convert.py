"""Sample-rate conversion on the way out: nothing folds, nothing is mirrored, nothing is late."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from saltanvil.media.convert import converted, converted_frames
from tests.signals import tone

RATES = (44100, 48000, 88200, 96000)


def through(x, rate, to, size=5000):
    blocks = [x[:, at : at + size] for at in range(0, x.shape[1], size)]
    return np.concatenate(list(converted(blocks, rate, to, len(x))), axis=1)


@settings(max_examples=40, deadline=None)
@given(st.integers(1, 40_000), st.sampled_from(RATES), st.sampled_from(RATES), st.integers(1, 9000))
def test_lengths_are_exact(frames, rate, to, size):
    """round(frames x to / rate), in whole numbers, whatever the blocks."""
    x = np.ones((2, frames), np.float32)
    assert through(x, rate, to, size).shape == (2, converted_frames(frames, rate, to))
    assert abs(converted_frames(frames, rate, to) - frames * to / rate) <= 0.5


@pytest.mark.parametrize(("rate", "to"), [(48000, 44100), (96000, 44100), (88200, 48000), (44100, 96000), (48000, 96000)])
def test_a_sweep_leaves_neither_aliases_nor_images(rate, to):
    """Tones step by step up to the edge of what is passed: all else stays 120 dB below; tones beyond it leave nothing. Levels of
    whole spectra by FFT under a Blackman-Harris window, whose side lobes lie below -92 dB (so all of the tone is cut out)."""
    limit = 0.5 * min(rate, to)
    for hz in np.linspace(0.02, 0.90, 12) * limit:
        y = through((0.5 * tone(hz, 1.0, rate=rate))[None].astype(np.float32), rate, to)[0].astype(np.float64)
        t = np.arange(len(y)) / to
        inside = slice(2000, -2000)
        basis = np.stack([np.sin(2 * np.pi * hz * t[inside]), np.cos(2 * np.pi * hz * t[inside])], axis=1)
        fit, *_ = np.linalg.lstsq(basis, y[inside], rcond=None)
        rest = y[inside] - basis @ fit
        assert 10 * np.log10(rest.var() / (0.5 * 0.25)) < -120, hz
        assert 20 * np.log10(np.hypot(*fit) / 0.5) == pytest.approx(0, abs=0.01)
        assert np.arctan2(fit[1], fit[0]) == pytest.approx(0, abs=2e-4)  # neither late nor early
    if to < rate:  # what lies beyond half the new rate is gone
        for hz in np.linspace(1.02, 1.9, 8) * limit:
            if hz < rate / 2 * 0.98:
                y = through((0.5 * tone(hz, 1.0, rate=rate))[None].astype(np.float32), rate, to)[0, 2000:-2000]
                assert 10 * np.log10(max(float(y.astype(np.float64).var()), 1e-30) / 0.125) < -120, hz


def test_blocks_make_no_difference():
    x = np.random.default_rng(2).standard_normal((2, 30_000)).astype(np.float32) * 0.2
    assert np.array_equal(through(x, 48000, 44100, 700), through(x, 48000, 44100, 30_000))
