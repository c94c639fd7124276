"""Echo and room over their ranges, and where a mono strip becomes stereo. The bounds are the project's own."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from saltanvil.engine.audition import Scope
from saltanvil.engine.cache import SegmentCache
from saltanvil.engine.media import Arrays
from saltanvil.engine.path_runner import PathRunner
from saltanvil.engine.render import render_strips
from saltanvil.engine.scope import ScopeRenderer
from saltanvil.session.document.path import Path
from saltanvil.session.document.session import Session, Strip
from saltanvil.session.validate import checked
from tests.processors.test_processors import RATE, db, run
from tests.signals import noise, tone

OPEN = {"damping_hz": 20000.0, "low_hz": 5.0, "mix": 1.0}


def impulse(seconds, **chosen):
    x = np.zeros((2, round(seconds * RATE)))
    x[:, 0] = 1.0
    return run("room", x, **OPEN, **chosen)[0].astype(np.float64)


@pytest.mark.parametrize("size", ["chamber", "room", "church", "hall"])
@settings(max_examples=6, deadline=None)
@given(st.floats(np.log(0.1), np.log(4.0)))
def test_a_room_is_dense_and_dies_away_as_set(size, decay):
    """Schroeder's backward integration, from -5 to -35 dB (ISO 3382-1's T30, from memory)."""
    decay = max(0.1, float(np.exp(decay)))
    h = impulse(max(1.5 * decay, 0.5), size=size, decay_s=decay, predelay_ms=0.0)
    tail = np.cumsum((h**2).sum(axis=0)[::-1])[::-1]
    at = [int((10 * np.log10(tail / tail[0] + 1e-20) < level).argmax()) for level in (-5.0, -35.0)]
    assert 2 * (at[1] - at[0]) / RATE == pytest.approx(decay, rel=0.15)
    assert h[0, 0] != 0.0  # no pre-delay is none
    around = np.sqrt(np.convolve(h[0] ** 2, np.ones(480) / 480, "same"))
    heard = np.flatnonzero(np.abs(h[0]) > 0.03 * around)
    heard = heard[(heard > 0.03 * RATE) & (heard < decay * RATE)]
    assert np.diff(heard).max() < 0.002 * RATE


@settings(max_examples=15, deadline=None)
@given(
    st.sampled_from(("chamber", "room", "church", "hall")), st.floats(0.1, 4.0), st.floats(2000.0, 20000.0), st.booleans(),
)  # fmt: skip
def test_a_steady_noise_leaves_a_room_as_loud_as_it_came(size, decay, damping, mono):
    x = np.random.default_rng(0).standard_normal((2, 8 * RATE)) * 0.1
    if mono:
        x[1] = x[0]
    y, _ = run("room", x, size=size, decay_s=decay, damping_hz=damping, low_hz=5.0, mix=1.0)
    assert db(np.std(y[:, 5 * RATE :]) / np.std(x)) == pytest.approx(0.0, abs=1.2)


def test_predelay_moves_the_whole_room():
    direct, later = (impulse(0.6, size="hall", decay_s=0.4, predelay_ms=ms) for ms in (0.0, 50.0))
    assert not later[:, :2400].any() and np.allclose(later[:, 2400:], direct[:, :-2400], atol=1e-6)


def test_a_wide_echo_walks_from_side_to_side():
    x = np.zeros((2, RATE))
    x[:, 0] = 1.0
    chosen = {"time_mode": "ms", "time_ms": 100.0, "feedback": 0.5, "low_hz": 5.0, "high_hz": 20000.0, "mix": 1.0}
    y, _ = run("echo", x, width=1.0, **chosen)
    sides = [np.abs(y[:, at - 50 : at + 200]).max(axis=1) for at in (4800, 9600, 14400)]
    assert sides[0][0] > 0.5 > 1e-3 > sides[0][1] and sides[1][1] > 0.2 > 1e-3 > sides[1][0] and sides[2][0] > sides[2][1]
    plain, _ = run("echo", x, **chosen)
    assert np.array_equal(plain[0], plain[1])


def session_of(*steps, pan=0.0):
    voice = Strip(id="v", name="Voice", kind="track", media_id=0, path=Path.model_validate({"steps": list(steps)}), pan=pan)
    return checked(Session(name="S", strips=[Strip(id="main", name="Main", kind="main", output=None), voice]))


ROOM = {"kind": "room", "id": "r", "settings": {"mix": 0.5}}
SQUEEZE = {"kind": "compressor", "id": "c", "settings": {"threshold_db": -40.0}}
DRY = {"kind": "room", "id": "r", "settings": {"width": 0.0}}


def main_of(session, x, frames):
    return np.concatenate([b["main"] for b in render_strips(session, Arrays(x), 0, frames)], axis=1)


@pytest.mark.parametrize("pan", [0.0, -0.6])
def test_a_mono_strip_becomes_stereo_at_the_room_and_keeps_its_level(pan):
    """Before it, and where nothing is wet yet, it sounds as the mono strip does."""
    x = noise(1, RATE)
    plain = main_of(session_of(SQUEEZE, pan=pan), x, RATE)
    wide = main_of(session_of(SQUEEZE, {**ROOM, "settings": {"mix": 0.5, "predelay_ms": 250.0}}, pan=pan), x, RATE)
    first = slice(0, round(0.24 * RATE))
    assert np.allclose(wide[:, first], 0.5 * plain[:, first], atol=1e-6)
    left, right = wide[:, RATE // 2 :]
    balance = np.linalg.norm(plain[0]) / np.linalg.norm(plain[1])
    assert abs(np.corrcoef(left, right)[0, 1]) < 0.97 and np.linalg.norm(left) / np.linalg.norm(right) == pytest.approx(
        balance, rel=0.1
    )
    mono = main_of(session_of(SQUEEZE, DRY), x, RATE)
    assert np.allclose(mono[0], mono[1])


@pytest.mark.parametrize("by", ["copies", "bands"])
def test_a_room_in_a_lane_makes_the_split_stereo_and_scopes_can_be_compared(by):
    split = {
        "kind": "split", "id": "s", "settings": {"by": by, "position": 0.5},
        "lanes": [{"id": "a", "name": "A"}, {"id": "b", "name": "B", "bypass": False, "path": {"steps": [SQUEEZE, ROOM]}}],
    }  # fmt: skip
    x = noise(1, RATE)
    session = session_of(split, {"kind": "trim", "id": "t", "settings": {}})
    y = main_of(session, x, RATE)
    assert not np.allclose(y[0], y[1], atol=1e-3)
    whole = PathRunner(session.strip("v").path, x, RATE).run()
    pieces = PathRunner(session.strip("v").path, x, RATE).run([0, 100, 164, 5000, 5001, RATE + 0])
    assert whole.shape[0] == 2 and np.array_equal(whole[:, : pieces.shape[1]], pieces)
    for scope in (Scope("v"), Scope("v", "s"), Scope("v", "r"), Scope("v", lane_id="b"), Scope("v", "t")):
        compared = ScopeRenderer(session, Arrays(x), SegmentCache(), 0, RATE).compare(scope)
        assert compared.before.shape == compared.after.shape == (2, RATE)


def test_a_room_in_a_lane_of_one_side_stays_there():
    split = {
        "kind": "split", "id": "s", "settings": {"by": "mid/side"},
        "lanes": [{"id": "a", "name": "Mid", "path": {"steps": [ROOM]}}, {"id": "b", "name": "Side"}],
    }  # fmt: skip
    x = np.tile(tone(300, 1.0, -12), (2, 1)).astype(np.float32)
    y = PathRunner(session_of(split).strip("v").path, x, RATE).run()
    assert np.allclose(y[0], y[1], atol=1e-6) and np.abs(y).max() > 0.05
