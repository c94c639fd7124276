"""Figures of a sound that comes in blocks are those of the whole."""

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from saltanvil.measure.figures import FiguresMeter, figures_of
from saltanvil.measure.loudness import true_peak_dbtp
from tests.signals import noise

RATE = 48000


@settings(max_examples=25, deadline=None)
@given(st.lists(st.integers(1, 30_000), min_size=1, max_size=8), st.sampled_from([1, 2, 6]))
def test_blocks_make_no_difference(sizes, channels):
    x = noise(channels, sum(sizes), len(sizes))
    meter = FiguresMeter(channels, RATE)
    for a, b in zip(np.cumsum([0, *sizes]), np.cumsum(sizes), strict=False):
        meter.add(np.ascontiguousarray(x[:, a:b]))
    whole, parts = figures_of(x, RATE).as_dict(), meter.figures().as_dict()
    for name, value in whole.items():
        assert (value is None) == (parts[name] is None), name
        assert value is None or abs(value - parts[name]) < 1e-4, name


@settings(max_examples=25, deadline=None)
@given(st.integers(1, 40), st.integers(0, 10_000))
def test_the_true_peak_of_the_ends_counts_too(frames, seed):
    """Against the whole array with silence around it; short sounds are nothing but ends."""
    x = np.random.default_rng(seed).standard_normal((2, frames)).astype(np.float32)
    assert abs(figures_of(x, RATE).true_peak_dbtp - true_peak_dbtp(x)) < 1e-4
