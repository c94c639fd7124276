"""The limiter's true peak on bright material, against interpolation by the whole spectrum (scipy.signal.resample)."""

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


def below(hz, x):
    return scipy.signal.sosfilt(scipy.signal.butter(12, hz, "low", fs=RATE, output="sos"), x)


MATERIAL = {
    "hats": lambda: below(22000, hats(0.5)),
    "snare": lambda: below(22000, snare(0.5)),
    "kick": lambda: below(22000, kick(0.5)),
    "white noise": lambda: below(22000, np.random.default_rng(0).standard_normal(RATE // 2)),
    "a tone between the samples": lambda: tone(20000.7, 0.5),
}


@settings(max_examples=15, deadline=None)
@given(st.sampled_from(sorted(MATERIAL)), st.floats(3.0, 18.0), st.floats(0.5, 10.0), st.floats(1.0, 500.0))
def test_the_true_peak_stays_under_the_ceiling(name, over, lookahead, release):
    x = MATERIAL[name]()
    x *= 10 ** ((over - 1.0) / 20) / np.abs(x).max()
    y, _ = run("limiter", x, ceiling_db=-1.0, peaks="true peak", lookahead_ms=lookahead, release_ms=release)
    assert true_peak_db(y[0]) <= -1.0 + 0.05


@pytest.mark.parametrize("make", [hats, lambda seconds: np.random.default_rng(0).standard_normal(round(seconds * RATE))])
def test_noise_up_to_half_the_rate_comes_near(make):
    x = 2.0 * make(0.5)
    y, _ = run("limiter", x, ceiling_db=-1.0, peaks="true peak")
    assert true_peak_db(y[0]) <= -1.0 + 0.2
