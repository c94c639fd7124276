"""The true peak of limiter and clipper on bright material, against interpolation by the whole spectrum (scipy.signal.resample).

What lies below 0.45 of the rate never comes over; what reaches up to half the rate may, by bounds that are stated.
"""

import numpy as np
import pytest
import scipy.signal
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.processors.test_processors import RATE, run
from tests.signals import hats, kick, snare, tone


def true_peak_db(y):
    padded = np.pad(y.astype(np.float64), 4096)
    return 20 * np.log10(np.abs(scipy.signal.resample(padded, 16 * len(padded))).max())


def below(share, x):
    """Nothing above a share of the rate; with soft ends, as a cut would reach above it."""
    ramp = np.arange(len(x))
    x = np.pad(x * np.minimum(1.0, np.minimum(ramp, ramp[::-1]) / 240.0), 4096)
    spectrum = np.fft.rfft(x)
    spectrum[np.fft.rfftfreq(len(x)) > share] = 0.0
    return np.fft.irfft(spectrum, len(x))


def white(seconds, rate=RATE):
    return np.random.default_rng(0).standard_normal(round(seconds * rate))


def saw(seconds, rate=RATE):
    return scipy.signal.sawtooth(2 * np.pi * 3001.7 * np.arange(round(seconds * rate)) / rate)


MATERIAL = {
    "hats": hats,
    "snare": snare,
    "kick": kick,
    "white noise": white,
    "saw": saw,
    "square": lambda seconds, rate: np.sign(tone(997.3, seconds, rate=rate)),
    "a high tone": lambda seconds, rate: tone(0.447 * rate, seconds, rate=rate),
    "two tones": lambda seconds, rate: tone(0.43 * rate, seconds, rate=rate) + tone(0.361 * rate, seconds, rate=rate),
}
rates = st.sampled_from((44100, 48000, 96000))
#: How far noise and saws that reach up to half the rate come over the ceiling, in dB.
FULL_BAND_DB = {"limiter": 0.7, "clipper": 1.2}


def over_its_ceiling(x, over):
    return x * 10 ** ((over - 1.0) / 20) / np.abs(x).max()


@settings(max_examples=25, deadline=None)
@given(st.sampled_from(sorted(MATERIAL)), rates, st.floats(3.0, 18.0), st.floats(0.5, 10.0), st.floats(1.0, 500.0))
def test_the_true_peak_stays_under_the_ceiling(name, rate, over, lookahead, release):
    x = over_its_ceiling(below(0.45, MATERIAL[name](0.4, rate)), over)
    y, _ = run("limiter", x, rate, ceiling_db=-1.0, peaks="true peak", lookahead_ms=lookahead, release_ms=release)
    assert true_peak_db(y[0]) <= -1.0


@settings(max_examples=25, deadline=None)
@given(
    st.sampled_from(sorted(MATERIAL)), rates, st.floats(3.0, 18.0), st.floats(0.0, 1.0),
    st.sampled_from(("2x", "4x", "8x", "16x")), st.sampled_from(("linear", "minimum")),
)  # fmt: skip
def test_so_does_that_of_the_clipper(name, rate, over, hardness, oversampling, phase):
    x = over_its_ceiling(below(0.45, MATERIAL[name](0.4, rate)), over)
    chosen = {"ceiling_db": -1.0, "hardness": hardness, "oversampling": oversampling, "phase": phase}
    y, _ = run("clipper", x, rate, **chosen)
    assert true_peak_db(y[0]) <= -1.0


@pytest.mark.parametrize("share", [0.01, 0.02077, 0.0973, 0.25001, 0.31, 0.4167, 0.447])
def test_a_tone_reaches_its_ceiling(share):
    """Also with the settings as they are, so that a true peak of -1 dBTP can be asked for."""
    x = below(0.45, tone(share * RATE, 0.5, 6.0))
    y, _ = run("limiter", x, ceiling_db=-1.0)
    assert -1.05 <= true_peak_db(y[0]) <= -1.0


@pytest.mark.parametrize("kind", FULL_BAND_DB)
@pytest.mark.parametrize("make", [hats, white, saw])
def test_what_reaches_up_to_half_the_rate_stays_within_the_bound(kind, make):
    for over in (3.0, 9.0, 18.0):
        y, _ = run(kind, over_its_ceiling(make(0.5), over), ceiling_db=-1.0)
        assert true_peak_db(y[0]) <= -1.0 + FULL_BAND_DB[kind]


def test_two_bass_tones_make_few_others_by_default():
    """41 and 62 Hz, 6 dB over: an adaptive release is long against the waves it works on (-26 to -30 dB at a fixed 80 ms)."""
    t = np.arange(4 * RATE) / RATE
    x = np.sin(2 * np.pi * 41 * t) + np.sin(2 * np.pi * 62 * t)
    y, _ = run("limiter", x, ceiling_db=-1.0)
    lines = np.abs(np.fft.rfft(y[0, RATE : 3 * RATE] * np.blackman(2 * RATE)))
    hz = np.fft.rfftfreq(2 * RATE, 1 / RATE)
    others = (hz > 5) & (np.abs(hz - 41) > 3) & (np.abs(hz - 62) > 3)
    assert 20 * np.log10(lines[others].max() / lines.max()) < -34.0
