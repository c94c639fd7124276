"""The leveller on sounds that decay and sounds that do not, against pyloudnorm (filter "DeMan", ITU-R BS.1770-5)."""

import numpy as np
import pyloudnorm
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from tests.material import sound
from tests.processors.test_processors import RATE, run
from tests.signals import keys, kick, noise, plucked_bass, snare

METER = pyloudnorm.Meter(RATE, filter_class="DeMan")
MATERIAL = {
    "keys": lambda seed: keys(24.0, 0.6, 0.9, seed=seed),
    "slow keys": lambda seed: keys(30.0, 1.5, 1.5, seed=seed),
    "plucks": lambda seed: keys(20.0, 0.4, 0.3, seed=seed),
    "bass": lambda seed: np.concatenate(
        [v * plucked_bass(f, 1.2, seed=seed) for f, v in ((41, 1), (55, 0.7), (49, 0.5), (65, 1)) * 3]
    ),
    "drums": lambda seed: 0.5 * kick(16.0, seed=seed) + 0.5 * snare(16.0, seed=seed),
    "noise": lambda seed: noise(1, 16 * RATE, seed)[0].astype(np.float64),
}

#: The largest distances found over levels of -32 to -17 LUFS, speeds of 1 to 3 s, ranges of 14 and 24 dB and ten seeds are 0.2,
#: 1.2, 1.9, 1.9, 1.6 and 3.0 LU (medians below 0.4): soft sounds are not yet at their place after 4 s at a speed of 3 s, and
#: a few uneven notes of more than a second each are little to go by.
WITHIN_LU = {"noise": 0.3, "keys": 1.4, "plucks": 2.1, "bass": 2.1, "drums": 1.8, "slow keys": 3.2}


@settings(max_examples=8, deadline=None)
@given(
    st.sampled_from(sorted(MATERIAL)), st.floats(-32.0, -17.0), st.floats(1.0, 3.0), st.floats(14.0, 24.0), st.integers(0, 9),
)  # fmt: skip
@example("keys", -21.0, 2.0, 11.0, 0)
@example("keys", -26.0, 2.0, 12.0, 0)
@example("slow keys", -17.0, 1.0, 14.0, 4)
def test_what_leaves_stands_near_the_target(name, level, speed, most, seed):
    x = MATERIAL[name](seed)
    room = most - 10.0  # single notes need more than the mean does, and the range is kept
    target = min(max(-20.0, level - room), level + room)
    x = x * 10 ** ((level - METER.integrated_loudness(x)) / 20)
    y, _ = run("leveller", x, target_db=target, speed_s=speed, range_db=most, gate_db=-45.0)
    settled = y[0, 4 * RATE :].astype(np.float64)
    assert abs(METER.integrated_loudness(settled) - target) <= WITHIN_LU[name]


def test_a_change_is_covered_in_the_set_time_and_does_not_swing():
    steps = np.random.default_rng(0).standard_normal(36 * RATE) * np.repeat((0.03, 0.1, 0.03), 12 * RATE)
    for speed in (0.5, 1.0, 2.0):
        _, step = run("leveller", steps, target_db=-20.0, speed_s=speed, range_db=20.0)
        gain = -step.telemetry.reduction_db
        at = lambda s, gain=gain: gain[int(s * RATE / 64)]  # noqa: E731
        change = at(11.9) - at(23.9)
        assert 9.7 < change < 11.5
        covered = 12.0 + np.argmax(gain[int(12.0 * RATE / 64) :] < at(11.9) - 0.63 * change) * 64 / RATE
        assert 0.6 * speed < covered - 12.0 < 1.4 * speed + 0.4
        assert gain[int(12 * RATE / 64) : int(24 * RATE / 64)].min() > at(23.9) - 1.3


def test_keys_stand_within_1_lu_of_the_target_at_the_defaults():
    """Where the gain alone left them 1.6 and 2.3 LU over it."""
    for seed in range(3):
        x = keys(24.0, 0.6, 0.9, seed=seed)
        x *= 10 ** ((-26.0 - METER.integrated_loudness(x)) / 20)
        for most in (9.0, 12.0):
            y, _ = run("leveller", x, range_db=most)
            assert abs(METER.integrated_loudness(y[0].astype(np.float64)) + 20.0) <= 1.0


@pytest.mark.parametrize("softer_db", [6.0, 12.0, 18.0])
@pytest.mark.parametrize("variant", range(5))
def test_after_a_loud_phrase_a_soft_one_is_raised_and_not_taken_down(variant, softer_db):
    """The mean of powers falls more slowly than that of decibels: what the one stands over the other then is no property of the
    sound, and the gain once stayed 12 dB too low for ten seconds. Sounds of `tests.material`; the bound is ours."""
    voice = np.concatenate([sound("voice", variant)] * 2).astype(np.float32)
    x = np.concatenate((voice, voice * np.float32(10 ** (-softer_db / 20))))[None]
    y, _ = run("leveller", x, target_db=-20.0, range_db=12.0, speed_s=2.0, gate_db=-60.0)
    half = x.shape[1] // 2
    level = lambda sound, at: 10 * np.log10((sound[:, at : at + 8 * RATE].astype(float) ** 2).mean())  # noqa: E731
    for at in (half + 4 * RATE, half + 8 * RATE):
        gain = level(y, at) - level(x, at)
        present = level(y, half - 8 * RATE) - level(x, half - 8 * RATE)
        assert gain > present + 0.3 * min(softer_db, 12.0 - present)
