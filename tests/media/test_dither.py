"""Noise shaping: where the noise lies, how much there is of it, and that it changes nothing but that."""

import numpy as np
import pytest
import scipy.signal
from hypothesis import given, settings
from hypothesis import strategies as st

from saltanvil.media.convert import converted
from saltanvil.media.dither import Quantiser, hearing_threshold_db, shaped_power_db, shaping_db, shaping_taps
from tests.signals import noise, tone

BITS = 16
RATES = (44100, 48000, 88200, 96000)


def errors(x, rate, shaped=True, seed="s"):
    """What rounding adds, in steps of the last bit."""
    out = Quantiser(BITS, len(x), seed, rate if shaped else None)(x) >> (32 - BITS)
    return out - x.astype(np.float64) * (1 << (BITS - 1))


@pytest.mark.parametrize("rate", RATES)
def test_the_noise_lies_where_the_curve_says(rate):
    """Power of the error in bands against the documented curve over plain TPDF noise, LSB^2/4 (Lipshitz, Wannamaker and
    Vanderkooy 1992), by scipy.signal.welch; and its total."""
    error = errors((0.3 * noise(1, 1 << 19, 3)).astype(np.float32), rate)[0]
    hz, density = scipy.signal.welch(error, rate, nperseg=2048)
    plain = 0.25 / (rate / 2)
    inside = slice(4, -4)
    told = shaping_db(rate, hz[inside])
    assert np.abs(10 * np.log10(density[inside] / plain) - told).max() < 1.6  # of one bin; and on the whole:
    smooth = np.convolve(10 * np.log10(density[inside] / plain) - told, np.ones(32) / 32, "valid")
    assert np.abs(smooth).max() < 0.35
    assert 10 * np.log10(error.var() / 0.25) == pytest.approx(shaped_power_db(rate), abs=0.1)
    assert abs(error.mean()) < 0.02


@pytest.mark.parametrize("rate", RATES)
def test_what_is_taken_here_comes_up_there(rate):
    """Gerzon and Craven 1989: the logarithm of the shaped spectrum keeps its mean; its zeros lie within the unit circle."""
    hz = np.linspace(0, rate / 2, 20001)
    assert shaping_db(rate, hz).mean() == pytest.approx(0.0, abs=0.02)
    assert np.abs(np.roots(np.concatenate([[1.0], shaping_taps(rate)]))).max() < 1.0
    # Softest where hearing is keenest, which is between 2 and 5 kHz (Terhardt 1979).
    low = hz[shaping_db(rate, hz).argmin()]
    assert 2000 < low < 5000 and 2000 < hz[1:][hearing_threshold_db(hz[1:]).argmin()] < 5000
    weight = 10 ** (-hearing_threshold_db(hz[1:]) / 10)
    heard = 10 * np.log10((10 ** (shaping_db(rate, hz[1:]) / 10) * weight).sum() / weight.sum())
    assert heard < -14.0  # decibels softer to the ear than plain dither
    assert 5.0 < shaped_power_db(rate) < 12.0


@settings(max_examples=25, deadline=None)
@given(st.lists(st.integers(1, 900), min_size=1, max_size=8), st.sampled_from(RATES))
def test_shaping_does_not_depend_on_the_blocks(sizes, rate):
    x = noise(2, sum(sizes), 1)
    whole, parts = Quantiser(BITS, 2, "a", rate), Quantiser(BITS, 2, "a", rate)
    edges = np.cumsum([0, *sizes])
    pieces = [parts(x[:, a:b]) for a, b in zip(edges, edges[1:], strict=False)]
    assert np.array_equal(whole(x), np.concatenate(pieces, axis=1))


def test_clipping_leaves_no_trace_in_what_follows():
    """A second at twice full scale is held there; afterwards the error is as ever."""
    x = np.concatenate([np.full(48_000, 2.0), 0.1 * tone(997, 2.0)])[None].astype(np.float32)
    quantiser = Quantiser(BITS, 1, "s", 48000)
    out = quantiser(x) >> (32 - BITS)
    assert out[0, :48_000].max() == 32767 and out[0, :48_000].min() >= 32700
    assert quantiser.clipped == 48_000 and quantiser.over_db == pytest.approx(6.02, abs=0.01)
    after = out[0, 49_000:] - x[0, 49_000:].astype(np.float64) * 32768
    assert 10 * np.log10(after.var() / 0.25) == pytest.approx(shaped_power_db(48000), abs=0.2)


def test_dither_after_conversion_is_the_better_order():
    """Common practice, no source: dithered first and converted then, a file at the new rate is rounded again, and its error is
    larger; without dither the second rounding distorts what is softer than a step."""
    x = (0.4 * tone(997, 4.0))[None].astype(np.float32)
    ideal = np.concatenate(list(converted([x], 48000, 44100, 1)), axis=1).astype(np.float64) * 32768
    right = Quantiser(BITS, 1, "s")(np.concatenate(list(converted([x], 48000, 44100, 1)), axis=1)) >> 16
    first = (Quantiser(BITS, 1, "s")(x) >> 16).astype(np.float32) / 32768
    moved = np.concatenate(list(converted([first], 48000, 44100, 1)), axis=1)
    inside = slice(2000, -2000)
    error = (right - ideal)[0, inside].var()
    again = ((Quantiser(BITS, 1, "t")(moved) >> 16) - ideal)[0, inside].var()
    assert error == pytest.approx(0.25, rel=0.05)  # LSB^2/4: dithered once
    assert again > 1.7 * error  # twice, but for what conversion filtered off
    # Rounded without dither after it: a tone softer than a step comes out distorted.
    soft = np.concatenate(list(converted([(0.75 / 32768 * tone(997, 4.0))[None].astype(np.float32)], 48000, 44100, 1)), axis=1)
    for made, clean in ((Quantiser(BITS, 1, "u")(soft) >> 16, True), (np.rint(soft * 32768), False)):
        spectrum = np.abs(np.fft.rfft(made[0][:88200].astype(float) * np.hanning(88200)))
        harmonics = [spectrum[round(997 * n * 2) - 3 : round(997 * n * 2) + 4].max() for n in (3, 5, 7)]
        assert (max(harmonics) < 6 * np.median(spectrum[4000:20000])) == clean
