"""How one listens to the main: what each monitor does, and that changing it fades."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.signal import butter, sosfilt

from saltanvil.engine.monitor import MONITORS, Monitor
from saltanvil.measure import speaker
from tests.signals import noise, tone

RATE = 48000


def through(monitor, x, change=None, at=0, blocks=(1024,)):
    """x through a monitor that is changed at a frame, in blocks of any length (in ticks after the change)."""
    parts, now, number = [], 0, 0
    while now < x.shape[1]:
        if change and now == at:
            monitor.name = change
        stop = at if change and now < at else x.shape[1]
        frames = min(blocks[number % len(blocks)], stop - now)
        parts.append(monitor(np.ascontiguousarray(x[:, now : now + frames])))
        now, number = now + frames, number + 1
    return np.concatenate(parts, axis=1)


def test_each_monitor_does_what_it_says():
    x = noise(2, RATE)
    assert np.array_equal(through(Monitor("full range", RATE), x), x)
    mono = through(Monitor("mono", RATE), x)
    assert np.allclose(mono, np.tile(x.mean(axis=0), (2, 1)), atol=1e-7)
    assert np.allclose(through(Monitor("dim", RATE), x), 0.1 * x, atol=1e-7)
    low = np.tile(tone(60.0, 1.0, -6).astype(np.float32), (2, 1))
    small = through(Monitor("small speaker", RATE), low)
    assert 20 * np.log10(np.abs(small[:, RATE // 2 :]).max() / np.abs(low).max()) < -30
    expected = sosfilt(np.insert(speaker.sections(RATE), 3, 1.0, axis=1), x.mean(axis=0).astype(np.float64))
    assert np.allclose(through(Monitor("small speaker", RATE), x)[0], expected, atol=1e-5)  # SciPy's cascade


@pytest.mark.parametrize("first", MONITORS)
@pytest.mark.parametrize("then", MONITORS)
def test_a_change_fades_and_does_not_click(first, then):
    """What lies above 9 kHz while tones below 1 kHz change monitors: no more than in a plain fade of 8 ms."""
    t = np.arange(RATE // 2) / RATE
    x = (0.4 * np.stack([np.sin(2 * np.pi * 110 * t + 1), np.sin(2 * np.pi * 441 * t)])).astype(np.float32)
    high = butter(6, 9000, "high", fs=RATE, output="sos")
    at = 12_288

    def click(y):
        return float(np.abs(sosfilt(high, y.astype(np.float64), axis=-1))[:, at - 100 : at + 4800].max())

    one, other = through(Monitor(first, RATE), x), through(Monitor(then, RATE), x)
    share = np.clip((np.arange(len(t)) - at) / 384, 0, 1)
    plain = max(click(one * (1 - share) + other * share), click(one), click(other))
    changed = through(Monitor(first, RATE), x, then, at)
    assert click(changed) <= max(2 * plain, 10 ** (-70 / 20))
    settled = slice(at + 9600, None)
    assert np.allclose(changed[:, settled], other[:, settled], atol=1e-6)


@settings(max_examples=20, deadline=None)
@given(st.sampled_from(MONITORS), st.sampled_from(MONITORS), st.lists(st.integers(1, 40), min_size=1, max_size=5))
def test_it_does_not_depend_on_the_blocks(first, then, ticks):
    x, blocks = noise(2, 9600), tuple(64 * n for n in ticks)
    one = through(Monitor(first, RATE), x, then, 3200)
    assert np.array_equal(one, through(Monitor(first, RATE), x, then, 3200, blocks))
