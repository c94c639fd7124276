"""The compressor against Giannoulis, Massberg and Reiss, J. Audio Eng. Soc. 60(6), 2012 (from memory)."""

import itertools

import numpy as np
import pytest

from saltanvil.dsp.units import note_to_ms
from saltanvil.processors.base import Context
from saltanvil.processors.compressor import Compressor, CompressorSettings
from tests.signals import noise, tone

RATE = 48000


def run(x, key=None, **settings):
    step = Compressor(CompressorSettings(**settings), x.shape[0], Context(rate=RATE, tempo_bpm=84.0))
    return step.process(np.ascontiguousarray(x, dtype=np.float32), key), step.telemetry


def steady(level_db, seconds=0.25):
    """A constant: its level is the same at every sample."""
    return np.full((1, round(seconds * RATE)), 10 ** (level_db / 20), np.float32)


def published(x_db, threshold, ratio, knee):
    """Eq. 4."""
    if 2 * (x_db - threshold) < -knee:
        return x_db
    if 2 * abs(x_db - threshold) <= knee:
        return x_db + (1 / ratio - 1) * (x_db - threshold + knee / 2) ** 2 / (2 * knee) if knee else x_db
    return threshold + (x_db - threshold) / ratio


@pytest.mark.parametrize("topology", ["feed-forward", "feedback"])
def test_static_curve_over_the_grid(topology):
    for ratio, knee, threshold in itertools.product((1, 1.5, 4, 20, 50), (0, 6, 24), (-40, -18, 0)):
        for level in (-60, -42, -30, -20, -18, -12, -3, 6):
            y, _ = run(
                steady(level),
                threshold_db=threshold,
                ratio=ratio,
                knee_db=knee,
                attack_ms=0.05,
                release_ms=5,
                topology=topology,
            )
            assert 20 * np.log10(y[0, -1]) == pytest.approx(published(level, threshold, ratio, knee), abs=0.01), (
                ratio,
                knee,
                threshold,
                level,
            )


def change_db(x, y):
    return 20 * np.log10(np.abs(y[0]) / np.abs(x[0]))


@pytest.mark.parametrize("topology, release_scale", [("feed-forward", 1.0), ("feedback", None)])
@pytest.mark.parametrize("attack_ms", [0.5, 5, 50, 250])
def test_attack_and_release_times(topology, release_scale, attack_ms):
    """1 - 1/e of the way after the set time, within one tick of 64 frames or 2 %."""
    release_ms = 100.0
    x = np.concatenate([steady(-60, 0.05), steady(-10, 2.0), steady(-60, 1.0)], axis=1)
    y, _ = run(x, threshold_db=-30, ratio=4, knee_db=0, attack_ms=attack_ms, release_ms=release_ms, topology=topology)
    change = change_db(x, y)
    began, left = round(0.05 * RATE), round(2.05 * RATE)
    final = change[left - 1]
    assert final == pytest.approx(-15, abs=0.05)
    reached = np.argmax(change[began:left] <= final * (1 - 1 / np.e)) / RATE * 1000
    assert reached == pytest.approx(attack_ms, abs=max(64 / RATE * 1000, 0.02 * attack_ms))
    if release_scale:
        back = np.argmax(change[left:] >= final / np.e) / RATE * 1000
        assert back == pytest.approx(release_ms * release_scale, abs=max(64 / RATE * 1000, 2.0))


def test_release_as_a_note_and_automatic():
    x = np.concatenate([steady(-10, 1.0), steady(-60, 3.0)], axis=1)
    common = {"threshold_db": -30.0, "ratio": 4.0, "knee_db": 0.0, "attack_ms": 1.0}

    def released(y):
        change = change_db(x, y)[RATE:]
        return np.argmax(change >= change[0] / np.e) / RATE * 1000

    for tempo, bpm in (("session", 84.0), ("own", 140.0)):
        y, _ = run(x, **common, release_mode="note", release_note="1/8d", tempo=tempo, tempo_bpm=140.0)
        assert released(y) == pytest.approx(note_to_ms("1/8d", bpm), rel=0.02)
    short = np.concatenate([steady(-60, 0.99), steady(-10, 0.01), steady(-60, 3.0)], axis=1)
    quick, _ = run(short, **common, release_mode="automatic")
    long, _ = run(x, **common, release_mode="automatic")
    assert released(quick) < 100 < 500 < released(long)


def test_hold_range_and_mix():
    x = np.concatenate([steady(-10, 0.5), steady(-60, 0.5)], axis=1)
    y, _ = run(x, threshold_db=-30, ratio=10, knee_db=0, attack_ms=1, release_ms=20, hold_ms=200, range_db=6)
    change = change_db(x, y)
    held = change[round(0.5 * RATE) : round(0.69 * RATE)]
    assert held == pytest.approx(-6, abs=0.05)
    assert change[round(0.8 * RATE)] > -0.2
    dry, _ = run(x, threshold_db=-30, ratio=10, mix=0)
    assert np.array_equal(dry, x)


def test_1_to_1_is_transparent_bit_for_bit():
    x = noise(2, 30000)
    for more in (
        {},
        {"detector": "rms"},
        {"topology": "feedback"},
        {"release_mode": "automatic"},
        {"restore_attacks_db": 6.0},
    ):
        y, _ = run(x, ratio=1, threshold_db=-50, **more)
        assert np.array_equal(y, x)


def test_linked_stereo_keeps_the_image_and_unlinked_does_not():
    x = noise(2, 48000)
    x[1] *= 0.25
    linked, _ = run(x, threshold_db=-35, ratio=8, stereo_link=1.0)
    gain = linked / x
    loud = np.abs(x).min(axis=0) > 1e-3
    assert np.abs(gain[0, loud] / gain[1, loud] - 1).max() < 1e-5
    free, _ = run(x, threshold_db=-35, ratio=8, stereo_link=0.0)
    alone, _ = run(np.ascontiguousarray(x[1:]), threshold_db=-35, ratio=8)
    assert np.array_equal(free[1:], alone)
    half, _ = run(x, threshold_db=-35, ratio=8, stereo_link=0.5)
    assert np.abs(linked[1]).sum() < np.abs(half[1]).sum() < np.abs(free[1]).sum()


def test_makeup_is_half_of_what_the_curve_takes_from_full_scale():
    settings = CompressorSettings(threshold_db=-24, ratio=4, knee_db=0, makeup="automatic", makeup_db=1.0)
    assert settings.automatic_makeup_db() == pytest.approx(24 * 0.75 / 2)
    y, _ = run(steady(-40), threshold_db=-24, ratio=4, knee_db=0, makeup="automatic", makeup_db=1.0)
    assert 20 * np.log10(y[0, -1]) == pytest.approx(-40 + 9 + 1, abs=0.01)


def test_attack_return_gives_back_attacks_and_never_more_than_was_taken():
    hit = np.exp(-np.arange(24000) / 4000) * tone(200, 0.5)
    x = np.tile(0.9 * hit, 4)[None].astype(np.float32)
    common = {"threshold_db": -30.0, "ratio": 10.0, "attack_ms": 0.1, "release_ms": 200.0}
    flat, _ = run(x, **common)
    back, _ = run(x, **common, restore_attacks_db=9.0)
    rise = 20 * np.log10(np.abs(back).max() / np.abs(flat).max())
    assert 3 < rise <= 9.01
    assert (np.abs(back) <= np.abs(x) + 1e-6).all()
    tail = slice(20000, 23000)
    assert np.abs(back[0, tail]).max() == pytest.approx(np.abs(flat[0, tail]).max(), rel=0.02)


def test_lookahead_delays_the_sound_and_catches_the_hit():
    x = np.concatenate([steady(-60, 0.1), steady(-3, 0.4)], axis=1)
    settings = {"threshold_db": -30.0, "ratio": 20.0, "attack_ms": 1.0, "knee_db": 0.0}
    late = Compressor.latency_of(CompressorSettings(**settings, lookahead_ms=5.0), RATE)
    assert late == 240
    y, _ = run(np.pad(x, ((0, 0), (0, late))), **settings, lookahead_ms=5.0)
    plain, _ = run(x, **settings)
    assert np.abs(y[:, late:]).max() < 0.3 * np.abs(plain).max()
    idle, _ = run(np.pad(x, ((0, 0), (0, late))), ratio=1, lookahead_ms=5.0)
    assert np.array_equal(idle[:, late:], x)


def test_a_key_steers_and_rms_reads_power():
    x, key = noise(1, 48000, level=0.01), noise(1, 48000, seed=3)
    _, alone = run(x, threshold_db=-20, ratio=4)
    _, steered = run(x, key, threshold_db=-20, ratio=4)
    assert alone.reduction_db.max() < 0.1 < 3 < steered.reduction_db.max()
    sine = tone(1000, 1.0, -10)[None]
    _, peak = run(sine, threshold_db=-60, ratio=4)
    _, rms = run(sine, threshold_db=-60, ratio=4, detector="rms", rms_ms=100)
    assert peak.detector_db.max() == pytest.approx(-10, abs=0.05)
    assert rms.detector_db[-1] == pytest.approx(-13.01, abs=0.05)


def test_a_turned_setting_glides():
    """Make-up and mix jump while a low sine sounds: no step larger than the gain's own ramp explains."""
    x = tone(50, 1.0, -12)[None].astype(np.float32)
    step = Compressor(CompressorSettings(ratio=1), 1, Context())
    first = step.process(np.ascontiguousarray(x[:, :24000]))
    step.configure(CompressorSettings(ratio=1, makeup_db=12), Context())
    y = np.concatenate([first, step.process(np.ascontiguousarray(x[:, 24000:]))], axis=1)
    assert np.abs(np.diff(y[0])).max() < 0.015
    assert np.abs(y[0, -4800:]).max() == pytest.approx(0.2512 * 3.981, rel=0.01)
