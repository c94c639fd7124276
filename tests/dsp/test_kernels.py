"""Kernels against exact mathematics, SciPy and the published properties."""

import numpy as np
import pytest
from scipy import signal

from saltanvil.dsp import biquad, logs, mix
from saltanvil.dsp.units import note_to_ms
from saltanvil.media.dither import Quantiser
from saltanvil.processors.base import Context
from saltanvil.processors.equaliser import Equaliser, EqualiserSettings
from tests.signals import noise


def test_polynomial_logarithm_and_power():
    power = np.geomspace(1e-29, 1e4, 4001).astype(np.float32)
    scratch, out = np.empty_like(power), np.empty_like(power)
    logs.log2_block(power, power.view(np.int32), scratch, scratch.view(np.int32), out, len(power))
    assert np.abs(out - np.log2(power.astype(np.float64))).max() * 3.0103 < 1e-4  # dB
    exponent = np.linspace(-40, 4, 4001).astype(np.float32)
    fraction, shift, made = np.empty_like(exponent), np.empty(len(exponent), np.int32), np.empty_like(exponent)
    logs.exp2_block(exponent, fraction, shift, made, made.view(np.int32), len(exponent))
    assert np.abs(made / 2.0 ** exponent.astype(np.float64) - 1).max() < 1e-6


@pytest.mark.parametrize("kind", ["bell", "low shelf", "high shelf", "high-pass", "low-pass"])
def test_cookbook_filters_against_scipy(kind):
    """Response by scipy.signal.freqz, and the Cookbook's values at centre, corner and far ends."""
    hz, q, gain, rate = 1000.0, 0.9, 6.0, 48000
    b0, b1, b2, a1, a2 = biquad.cookbook(kind, hz, q, gain, rate)
    at = np.array([1.0, hz, 23999.0])
    _, h = signal.freqz([b0, b1, b2], [1, a1, a2], worN=at, fs=rate)
    db = 20 * np.log10(np.maximum(np.abs(h), 1e-12))
    assert biquad.response_db(np.array([[b0, b1, b2, a1, a2]]), at, rate) == pytest.approx(db, abs=1e-3)
    corner = 20 * np.log10(q)
    expected = {
        "bell": (0, gain, 0), "low shelf": (gain, gain / 2, 0), "high shelf": (0, gain / 2, gain),
        "high-pass": (None, corner, 0), "low-pass": (0, corner, None),
    }[kind]  # fmt: skip
    for result, wanted in zip(db, expected, strict=True):
        assert result < -80 if wanted is None else result == pytest.approx(wanted, abs=0.01)


def test_the_cascade_filters_as_scipy_does():
    x = noise(2, 20000)
    settings = EqualiserSettings(band1_kind="high-pass", band1_frequency_hz=80, band2_gain_db=-6, band4_gain_db=3)
    step = Equaliser(settings, 2, Context())
    y = step.process(x)
    sections = [[*row[:3], 1.0, *row[3:]] for row in step._target]
    assert y == pytest.approx(signal.sosfilt(sections, x.astype(np.float64)), abs=1e-6)


def test_a_moved_filter_neither_clicks_nor_rings_on():
    """A 100 Hz sine while a bell far above it jumps by 24 dB: no step beyond 1.6 of the sine's own (it was 11)."""
    x = (0.5 * np.sin(2 * np.pi * 100 * np.arange(48000) / 48000))[None].astype(np.float32)
    step = Equaliser(EqualiserSettings(), 1, Context())
    first = step.process(np.ascontiguousarray(x[:, :24000]))
    step.configure(EqualiserSettings(band3_gain_db=24.0), Context())
    y = np.concatenate([first, step.process(np.ascontiguousarray(x[:, 24000:]))], axis=1)
    assert np.abs(np.diff(y[0])).max() < 1.6 * np.abs(np.diff(x[0])).max()


def test_delay_and_placing():
    x = noise(2, 5000)
    ring, at, y = np.zeros((2, 256), np.float32), np.zeros(1, np.int64), np.empty_like(x)
    mix.delay(x, y, ring, at, 100)
    assert np.array_equal(y[:, 100:], x[:, :-100]) and not y[:, :100].any()
    assert float(mix.peak(x)) == np.abs(x).max()


def test_note_values():
    """Common practice, no source: a quarter lasts 60000 / bpm ms, dotted x 1.5, triplet x 2/3."""
    assert note_to_ms("1/4", 84) == pytest.approx(60000 / 84)
    assert note_to_ms("1/8d", 120) == pytest.approx(375)
    assert note_to_ms("1/4t", 120) == pytest.approx(500 * 2 / 3)


@pytest.mark.parametrize("bits", [16, 24])
def test_tpdf_dither(bits):
    """Lipshitz, Wannamaker, Vanderkooy 1992: error power LSB^2/4 and mean 0, whatever the (constant) signal."""
    lsb = 2.0 ** (1 - bits)
    for value in (0.0, 0.25 * lsb, 0.5 * lsb, 1000.3 * lsb):
        x = np.full((1, 400_000), value, np.float32)
        error = (Quantiser(bits)(x) >> (32 - bits)) * lsb - x.astype(np.float64)
        assert error.mean() / lsb == pytest.approx(0, abs=0.005)
        assert (error**2).mean() / lsb**2 == pytest.approx(0.25, rel=0.02)
