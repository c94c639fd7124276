"""Overs: where they are, and how high, against the meter of the whole."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from saltanvil.measure.loudness import true_peak_dbtp
from saltanvil.measure.overs import OverMeter

RATE = 48000


def measured(x, limit, size):
    meter = OverMeter(len(x), RATE, limit)
    for at in range(0, x.shape[1], size):
        meter.add(x[:, at : at + size])
    return meter


@settings(max_examples=30, deadline=None)
@given(st.lists(st.integers(2_000, 94_000), min_size=1, max_size=6), st.integers(100, 20_000), st.integers(0, 5))
def test_every_place_above_the_level_is_found_whatever_the_blocks(places, size, seed):
    """Bursts of a quarter of the rate, whose true peak lies 3 dB above their samples (sampling theorem)."""
    x = np.random.default_rng(seed).standard_normal((2, 96_000)).astype(np.float32) * 1e-3
    t = np.arange(400)
    for place in places:
        x[1, place : place + 400] = (0.8 * np.sin(np.pi / 2 * t + np.pi / 4) * np.hanning(400)).astype(np.float32)
    found, count = measured(x, -4.0, size).places()
    middles = sorted((place + 200) / RATE for place in places if all(other <= place or other > place + 400 for other in places))
    for middle in middles:
        assert any(abs(over.at_s - middle) < 0.12 for over in found)
    for over in found:
        assert any(abs(over.at_s - (place + 200) / RATE) < 0.12 for place in places)
    assert count == len(found)
    assert max(over.true_peak_dbtp for over in found) == pytest.approx(true_peak_dbtp(x), abs=1e-6)
    assert measured(x, 0.5, size).places()[1] == 0 or true_peak_dbtp(x) > 0.5


def test_samples_above_full_scale_are_counted():
    x = np.zeros((2, 10_000), np.float32)
    x[0, [5, 9_999]] = [1.01, -2.0]
    x[1, 7] = 1.0
    meter = measured(x, 0.0, 999)
    assert meter.sample_overs == 2
    found, _ = meter.places()
    assert [round(over.at_s, 1) for over in found] == [0.0, 0.2] and found[1].true_peak_dbtp >= 6.0
