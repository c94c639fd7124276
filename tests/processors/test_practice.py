"""Facts that mixing engineers rely on, over ranges and on sounds no processor was tuned on.

Common practice, no source, but where one is named; levels in dB from the definition, loudness by pyloudnorm (ITU-R BS.1770),
peaks between the samples by sixteenfold resampling with scipy.signal.
"""

import numpy as np
import pyloudnorm
import pytest
import scipy.signal
import soxr

from saltanvil.engine.path_runner import PathRunner
from saltanvil.session.document.path import Path
from tests.material import RATE, VARIANTS, one_kick, plucked, sound
from tests.processors.test_processors import run

METER = pyloudnorm.Meter(RATE)


def through(steps, x, key=None):
    """A sound (frames,) or (channels, frames) through a path, aligned to what entered."""
    rows = [None if part is None else np.ascontiguousarray(np.atleast_2d(part), np.float32) for part in (x, key)]
    path = Path.model_validate({"steps": [{"id": f"s{n}", **step} for n, step in enumerate(steps)]})
    y = PathRunner(path, rows[0], RATE, key=rows[1]).run()
    return y[0] if np.ndim(x) == 1 else y


def step(kind, **settings):
    return {"kind": kind, "settings": settings}


def bands(dividers_hz, lanes):
    """A split into bands, each a list of steps; phase-linear, so that bands can be held against each other."""
    return {
        "kind": "split",
        "settings": {"by": "bands", "dividers_hz": dividers_hz, "blend": False, "phase": "linear"},
        "lanes": [
            {"id": f"l{n}", "name": f"B{n}", "path": {"steps": [{"id": f"l{n}{k}", **one} for k, one in enumerate(steps)]}}
            for n, steps in enumerate(lanes)
        ],
    }


def db(value):
    return 20.0 * np.log10(np.maximum(np.abs(value), 1e-12))


def lufs(x):
    return METER.integrated_loudness(np.asarray(x, np.float64).T)


def true_peak_db(x):
    return db(np.abs(scipy.signal.resample(x, 16 * np.shape(x)[-1], axis=-1)).max())


def band_of(x, low_hz, high_hz):
    return scipy.signal.sosfiltfilt(scipy.signal.butter(4, (low_hz, high_hz), "band", fs=RATE, output="sos"), x)


def envelope_db(x, seconds=0.01):
    """RMS of windows."""
    size = round(seconds * RATE)
    return 10.0 * np.log10((x[: len(x) // size * size].reshape(-1, size) ** 2).mean(axis=1) + 1e-14)


def kick_and_hiss(seed):
    """A kick every half second, 12 dB over a steady hiss that fills the highs."""
    rng = np.random.default_rng(seed)
    x = np.zeros(4 * RATE)
    for start in range(RATE // 4, len(x) - RATE, RATE // 2):
        event = one_kick(rng, rng.uniform(45, 65))
        x[start : start + len(event)] += 0.6 * event
    hiss = scipy.signal.sosfilt(scipy.signal.butter(2, 3000, "high", fs=RATE, output="sos"), rng.standard_normal(len(x)))
    return x + 0.012 * hiss


@pytest.mark.parametrize("seed", range(3))
@pytest.mark.parametrize("ratio", [4.0, 8.0])
def test_three_bands_pump_less_than_one(seed, ratio):
    """The kick pulls the hiss down in one band; in three the hiss has a compressor of its own."""
    x = kick_and_hiss(seed)
    squeeze = step("compressor", threshold_db=-24.0, ratio=ratio, attack_ms=5.0, release_ms=120.0)
    gains = []
    for path in ([squeeze], [bands([200.0, 2000.0], [[squeeze]] * 3)]):
        y = through(path, x)
        change = envelope_db(band_of(y, 5000, 15000)) - envelope_db(band_of(x, 5000, 15000))
        gains.append(np.percentile(change[50:-50], 2.0))
    assert gains[0] < -14.0 and gains[1] > gains[0] + 8.0


@pytest.mark.parametrize(("q", "most_db"), [(0.71, 0.4), (0.76, 0.3), (0.8, 0.3)])
def test_a_high_pass_at_22_hz_spares_the_lowest_string(q, most_db):
    """41 Hz and above lose 0.3 dB at most (0.34 with the flattest Q, from the definition), 10 Hz 12 dB or more."""
    t = np.arange(2 * RATE) / RATE
    path = [step("equaliser", band1_kind="high-pass", band1_frequency_hz=22.0, band1_q=q)]
    for hz in (41.2, 55.0, 82.4, 1000.0):
        x = 0.3 * np.sin(2 * np.pi * hz * t)
        assert abs(db(through(path, x)[RATE:].std() / x[RATE:].std())) < most_db, hz
    x = 0.3 * np.sin(2 * np.pi * 10.0 * t)
    assert db(through(path, x)[RATE:].std() / x[RATE:].std()) < -12.0


@pytest.mark.parametrize("variant", VARIANTS)
def test_converting_the_rate_after_limiting_raises_peaks_unless_they_are_true_peaks(variant):
    """96 to 44.1 kHz (soxr): a sample ceiling of -0.1 dB goes over full scale, a true-peak ceiling of -0.5 does not."""
    x = scipy.signal.resample_poly(sound("drums", variant), 2, 1) * 10 ** (14.0 / 20.0)
    peaks = {}
    for name, ceiling_db in (("sample peak", -0.1), ("true peak", -0.5)):
        y, _ = run("limiter", x, rate=2 * RATE, ceiling_db=ceiling_db, peaks=name, release_ms=40.0, release_mode="fixed")
        peaks[name] = np.abs(soxr.resample(y[0].astype(np.float64), 2 * RATE, 44100, "VHQ")).max()
    assert peaks["true peak"] < 1.0 < peaks["sample peak"]


@pytest.mark.parametrize("kind", ["drums", "mix", "voice"])
@pytest.mark.parametrize("variant", [0, 3])
def test_a_ceiling_of_minus_0_3_and_a_trim_of_minus_0_3_leave_minus_0_6(kind, variant):
    limit = step("limiter", ceiling_db=-0.3, gain_db=12.0)
    y = through([limit, step("trim", gain_db=-0.3)], sound(kind, variant))
    assert -0.75 < true_peak_db(y) <= -0.6 + 0.01


@pytest.mark.parametrize("variant", VARIANTS)
def test_a_short_decay_of_the_ducker_costs_the_bass_next_to_nothing(variant):
    """Six decibels under the head of a kick: 25 ms cost under 0.5 LU, 250 ms twice as much and more."""
    bass, kick = sound("bass", variant), sound("kick", variant)
    cost = {}
    for decay_ms in (25.0, 250.0):
        duck = step("ducker", depth_db=6.0, attack_ms=1.0, hold_ms=0.0, decay_ms=decay_ms, threshold_db=-12.0)
        cost[decay_ms] = lufs(bass) - lufs(through([duck], bass, kick))
    assert cost[25.0] < 0.5 and cost[250.0] > max(0.8, 2.0 * cost[25.0])


@pytest.mark.parametrize("variant", VARIANTS)
def test_speech_with_make_up_into_a_ceiling_comes_louder_and_never_over(variant):
    """2.5:1 with 8 dB of make-up into -3 dBTP: the syllables draw together, the ceiling holds, and it is louder."""
    x = sound("speech", variant)
    y = through(
        [
            step("compressor", threshold_db=-14.0, ratio=2.5, attack_ms=5.0, release_ms=80.0, makeup_db=8.0),
            step("limiter", ceiling_db=-3.0),
        ],
        x,
    )
    spoken = envelope_db(x, 0.05) > -40.0
    spread = [np.ptp(np.percentile(envelope_db(part, 0.05)[spoken], (10, 95))) for part in (x, y)]
    assert true_peak_db(y) <= -3.0 + 0.01
    assert lufs(y) > lufs(x) + 2.0 and spread[1] < spread[0] - 2.0


@pytest.mark.parametrize("seed", range(4))
@pytest.mark.parametrize("over_db", [4.0, 8.0])
def test_a_limiter_lines_up_a_stray_hit_and_leaves_the_others(seed, over_db):
    rng = np.random.default_rng(seed)
    event = one_kick(rng, rng.uniform(45, 65))
    event = event / np.abs(event).max() * 10 ** (-11.0 / 20.0)
    starts = np.arange(8) * RATE // 2 + RATE // 8
    x = np.zeros(5 * RATE)
    for n, start in enumerate(starts):
        x[start : start + len(event)] += event * (10 ** (over_db / 20.0) if n == 3 else 1.0)
    y = through([step("limiter", ceiling_db=-10.0)], x)
    peaks = [[np.abs(part[start : start + RATE // 4]).max() for start in starts] for part in (x, y)]
    moved = db(np.array(peaks[1]) / np.array(peaks[0]))
    assert np.abs(np.delete(moved, 3)).max() < 1.0 and abs(db(peaks[1][3]) + 10.0) < 0.3


@pytest.mark.parametrize("hz", [36.7, 41.2, 55.0, 65.4, 80.0])
def test_harmonics_of_a_low_tone_add_energy_above_it_and_none_below(hz):
    t = np.arange(2 * RATE) / RATE
    x = 0.25 * np.sin(2 * np.pi * hz * t)
    y = through([step("lowend", amount_db=0.0)], x)
    power = [np.abs(np.fft.rfft(part[RATE:] * np.hanning(RATE))) ** 2 for part in (x, y)]
    octaves = lambda one, low, high: 10 * np.log10(one[round(low * hz) : round(high * hz)].sum() + 1e-12)  # noqa: E731
    assert octaves(power[1], 1.5, 8.0) > octaves(power[0], 1.5, 8.0) + 20.0
    assert octaves(power[1], 1.5, 8.0) > octaves(power[1], 0.7, 1.3) - 24.0
    assert abs(octaves(power[1], 0.7, 1.3) - octaves(power[0], 0.7, 1.3)) < 3.0


@pytest.mark.parametrize("seed", range(3))
def test_a_slower_attack_in_the_middle_band_brings_out_the_pick_and_moves_no_other_band(seed):
    rng = np.random.default_rng(seed)
    x, starts = np.zeros(4 * RATE), range(RATE // 8, 3 * RATE, RATE // 2)
    for start in starts:
        note = plucked(rng, 110.0 * 2 ** (int(rng.integers(0, 8)) / 12), 0.45, 0.7)
        x[start : start + len(note)] += 0.2 * note
    ys = []
    for attack_ms in (1.0, 25.0):
        squeeze = step("compressor", threshold_db=-40.0, ratio=4.0, attack_ms=attack_ms, release_ms=60.0)
        ys.append(through([bands([400.0, 5000.0], [[], [squeeze], []])], x))
    picked = []
    for y in ys:
        middle = band_of(y, 700, 3500)
        heads = [np.abs(middle[s : s + round(0.012 * RATE)]).max() for s in starts]
        bodies = [np.sqrt((middle[s + RATE // 10 : s + RATE // 4] ** 2).mean()) for s in starts]
        picked.append(np.median(db(np.array(heads) / np.array(bodies))))
    assert picked[1] > picked[0] + 2.0
    for low, high in ((60, 250), (8000, 15000)):
        assert abs(db(band_of(ys[1], low, high).std() / band_of(ys[0], low, high).std())) < 0.5


@pytest.mark.parametrize("kind", ["mix", "guitar", "drums"])
@pytest.mark.parametrize("variant", [1, 4])
def test_eight_decibels_of_reduction_where_it_is_quiet_leave_no_contrast(kind, variant):
    """A quiet and a loud half, 8 dB apart: a compressor that takes 8 dB in the quiet one takes so much more in the loud one that
    both end up about alike; one that only reaches the loud one's tops keeps most of the contrast."""
    part = sound(kind, variant)[: 4 * RATE]
    x = np.concatenate([part * 10 ** (-8.0 / 20.0), part])
    contrasts, reduced = [], []
    for threshold_db in (-30.0, -6.0):
        squeeze = step("compressor", threshold_db=threshold_db, ratio=10.0, attack_ms=3.0, release_ms=150.0)
        y = through([squeeze], x)
        contrasts.append(lufs(y[4 * RATE :]) - lufs(y[: 4 * RATE]))
        reduced.append(lufs(x[: 4 * RATE]) - lufs(y[: 4 * RATE]))
    assert reduced[0] >= 8.0 and contrasts[0] < 2.5 < 4.0 < contrasts[1]


@pytest.mark.parametrize("variant", VARIANTS)
def test_minus_12_lufs_with_at_most_2_db_of_limiting_takes_a_clipper_before(variant):
    """A mix brought to -12 LUFS under -1 dBTP: alone the limiter takes far more than 2 dB; behind a clipper 2 dB at most."""
    x = np.stack([sound("mix", variant)] * 2)
    raised = step("trim", gain_db=-12.0 - lufs(x))
    clip = step("clipper", ceiling_db=-1.0, hardness=0.9)
    taken, loud = [], []
    for steps in ([raised], [raised, clip]):
        y = through([*steps, step("limiter", ceiling_db=-1.0)], x)
        taken.append(true_peak_db(through(steps, x)) + 1.0)
        loud.append(lufs(y))
        assert true_peak_db(y) <= -1.0 + 0.01
    assert taken[0] > 3.0 and taken[1] < 2.0 and loud[1] == pytest.approx(-12.0, abs=1.0)
