"""Figures of a sound that comes in blocks are those of the whole."""

from dataclasses import fields

import numpy as np
import pyloudnorm
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from saltanvil.measure.figures import FIGURES, Figures, FiguresMeter, figures_in, figures_of, number_text
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


UNITS = {"lufs": "LUFS", "lu": "LU", "dbtp": "dBTP", "dbfs": "dBFS", "db": "dB"}


def test_a_figure_is_described_once():
    """Everything shows what this registry says; an entry without a description, or a measured value without an entry, fails."""
    x = noise(2, 5 * 48000, 3)
    figures = figures_of(x, 48000)
    assert list(FIGURES) == list(figures.as_dict()) == [one.name for one in fields(Figures)]
    for name, figure in FIGURES.items():
        assert figure.name == name and figure.unit == UNITS[name.rpartition("_")[2]]
        assert figure.label and len(figure.short) <= 16 and figure.help.endswith(".") and figure.source and figure.tables
        assert figure.text(getattr(figures, name)).replace("-", "").replace(".", "").isdigit()
    assert all(figures_in(table) for table in ("ledger", "master", "report", "sections"))


def test_peak_to_loudness_is_true_peak_less_integrated_loudness():
    """PLR (common practice, no source), against pyloudnorm's loudness."""
    x = noise(2, 5 * 48000, 4)
    figures = figures_of(x, 48000)
    assert figures.plr_lu == pytest.approx(figures.true_peak_dbtp - figures.integrated_lufs)
    meter = pyloudnorm.Meter(48000, filter_class="DeMan")
    assert figures.plr_lu == pytest.approx(figures.true_peak_dbtp - meter.integrated_loudness(x.T), abs=0.05)
    assert figures_of(np.zeros((1, 48000), np.float32), 48000).plr_lu is None


def test_numbers_in_words():
    assert [number_text(value, 1) for value in (-0.04, 0.0, -12.34, None, float("-inf"))] == ["0.0", "0.0", "-12.3", "--", "--"]
