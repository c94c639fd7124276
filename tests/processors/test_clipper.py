"""The clipper's ceiling and cost on bright, hard and low material, over its range of use. The bounds are the project's own."""

import numpy as np
import pyloudnorm
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from tests.processors.test_processors import RATE, db, run
from tests.signals import hats, kick, snare


@settings(max_examples=25, deadline=None)
@given(
    st.sampled_from((hats, snare, kick)), st.floats(3.0, 18.0), st.floats(0.0, 1.0), st.sampled_from(("linear", "minimum")),
    st.sampled_from(("2x", "4x", "8x", "16x")), st.sampled_from((44100, 48000, 96000)), st.booleans(),
    st.sampled_from(("true peak", "samples")),
)  # fmt: skip
@example(hats, 6.0, 0.9, "linear", "16x", 48000, False, "true peak")
@example(snare, 12.0, 0.9, "minimum", "16x", 48000, False, "samples")
def test_nothing_leaves_over_the_ceiling(material, over, hardness, phase, oversampling, rate, dc_removal, overshoot):
    chosen = {
        "ceiling_db": -over,
        "overshoot": overshoot,
        "hardness": hardness,
        "phase": phase,
        "oversampling": oversampling,
        "dc_removal": dc_removal,
    }
    y, _ = run("clipper", material(0.5, rate), rate, **chosen)
    assert db(np.abs(y).max()) <= -over + 0.01


def test_left_alone_the_filters_swing():
    for material, over, swing in ((hats, 6.0, 2.0), (snare, 12.0, 0.5)):
        y, _ = run("clipper", material(), ceiling_db=-over, hardness=0.9, oversampling="16x", overshoot="left")
        assert db(np.abs(y).max()) > -over + swing


def folded_db(hz, chosen):
    """The strongest line that is no harmonic of a tone 12 dB into the ceiling; none of its samples repeat."""
    frames = 1 << 14
    at = round(hz * frames / RATE) | 1
    x = 4.0 * np.sin(2 * np.pi * at * np.arange(3 * frames) / frames)
    y, _ = run("clipper", x, ceiling_db=0.0, **chosen)
    lines = np.abs(np.fft.rfft(y[0, frames : 2 * frames]))
    return db(np.delete(lines, np.arange(at, len(lines), at)).max() / lines[at])


def test_what_is_held_folds_nothing_back():
    """Under the peak between the samples the gain stands still, for high tones; between the edges of a low one, further apart
    than half a millisecond, it moves with the wave."""
    for tone_hz in (300, 1000, 5000, 7777, 11000, 18000):
        assert folded_db(tone_hz, {"hardness": 1.0, "oversampling": "16x"}) < (-76 if tone_hz > 2000 else -66)


def test_oversampling_pays_under_the_ceiling_that_is_held():
    """Over tones from 3 to 20 kHz each factor folds less than the one before, on average."""
    average = [
        np.mean([folded_db(hz, {"oversampling": factor}) for hz in (3000, 5200, 7777, 11000, 14100, 17900, 19500)])
        for factor in ("1x", "2x", "4x", "8x", "16x")
    ]
    assert (np.diff(average) < -1.5).all(), average


@pytest.mark.parametrize("hardness", [0.8, 1.0])
def test_six_decibels_of_a_kick_cost_half_a_loudness_unit_at_most(hardness):
    """Clipping 6 dB off drum peaks leaves the perceived loudness nearly unchanged (common practice, no source)."""
    x = kick()
    y, _ = run("clipper", x, ceiling_db=-5.8, hardness=hardness, oversampling="16x")
    meter = pyloudnorm.Meter(RATE)
    assert db(np.abs(y).max()) == pytest.approx(-5.8, abs=0.06)
    assert meter.integrated_loudness(x) - meter.integrated_loudness(y[0].astype(np.float64)) <= 0.5
