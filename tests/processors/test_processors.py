"""Each processor against equations, scipy.signal and its own words."""

import numpy as np
import pytest
import scipy.signal
from hypothesis import given, settings
from hypothesis import strategies as st

from saltanvil.dsp.units import ms_to_frames
from saltanvil.measure.figures import figures_of
from saltanvil.processors import REGISTRY
from saltanvil.processors.base import Context
from saltanvil.processors.freecurve import FreeCurveSettings, points_from_text, points_to_csv
from tests.signals import kick, noise, plucked_bass, snare, steps, tone

RATE = 48000


def made(kind, channels=1, rate=RATE, **chosen):
    processor = REGISTRY[kind]
    return processor(processor.settings_model(**chosen), channels, Context(rate=rate))


def run(kind, x, rate=RATE, **chosen):
    """Treated sound, aligned to x."""
    x = np.atleast_2d(np.asarray(x, dtype=np.float32))
    step = made(kind, x.shape[0], rate, **chosen)
    late = step.latency_of(step.settings_model(**chosen), rate)
    return np.ascontiguousarray(step.process(np.ascontiguousarray(np.pad(x, ((0, 0), (0, late)))))[:, late:]), step


def db(value):
    return 20 * np.log10(np.maximum(np.abs(value), 1e-12))


# ---- starting points -------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("kind", sorted(set(REGISTRY) - {"trim", "split"}))
def test_six_starting_points_are_valid_and_say_what_to_listen_for(kind):
    processor = REGISTRY[kind]
    assert len(processor.starts) >= 6 and len({s.name for s in processor.starts}) == len(processor.starts)
    for start in processor.starts:
        processor.settings_model.model_validate(start.settings)
        assert start.listen.endswith(".") and len(start.listen) > 30


# ---- gate and expander -----------------------------------------------------------------------------------------------


def test_gate_opens_and_shuts_in_the_set_times():
    """One-pole smoothing: 1 - 1/e of the way after the set time (Giannoulis, Massberg and Reiss 2012, eq. 7)."""
    x = np.concatenate((np.full(4800, 0.001), np.full(9600, 0.5), np.full(48000, 0.001)))
    y, _ = run("gate", x, threshold_db=-20.0, range_db=40.0, attack_ms=10.0, hold_ms=20.0, release_ms=50.0)
    gain = y[0] / x
    floor = 0.01
    assert gain[4700] == pytest.approx(floor, rel=1e-3)
    assert gain[4800 + 480] == pytest.approx(floor + (1 - floor) * (1 - np.exp(-1)), rel=0.02)
    assert gain[14399 + 959] == pytest.approx(1.0, abs=1e-3)  # held for 20 ms
    after = 14400 + 960 + 2400
    assert gain[after] == pytest.approx(floor + (1 - floor) * np.exp(-1), rel=0.02)
    assert gain[-1] == pytest.approx(floor, rel=1e-2)


def test_hysteresis_keeps_the_door_where_it_is():
    x = steps((-60, 0.1), (-23, 0.2), (-15, 0.2), (-23, 0.2), (-30, 0.2))
    chosen = {"threshold_db": -20.0, "hysteresis_db": 6.0, "hold_ms": 3.0, "attack_ms": 0.1, "release_ms": 5.0}
    y, step = run("gate", x, **chosen)
    level = np.array([db(y[0, round(at * RATE) : round((at + 0.05) * RATE)]).max() for at in (0.2, 0.4, 0.6, 0.8)])
    assert level[0] < -80  # between the thresholds, and shut: stays shut
    assert level[1] == pytest.approx(-15, abs=0.1) and level[2] == pytest.approx(-23, abs=0.1)  # now open: stays open
    assert level[3] < -60
    gate_state, openings = step.telemetry.rows["gate_state"], step.telemetry.rows["openings"]
    assert openings.sum() == 1 and {0, 3} <= set(gate_state.astype(int))


def test_hold_takes_the_ticks_off():
    """A millisecond or two of hold removes what chatter there is (common practice, no source): an RMS detector's; a peak
    detector holds crests itself and hardly chatters at all."""
    rng = np.random.default_rng(3)
    hit = np.exp(-np.arange(RATE) / 6000) * (np.sin(2 * np.pi * 190 * np.arange(RATE) / RATE) + 0.4 * rng.standard_normal(RATE))

    def openings(detector, hold):
        chosen = {"threshold_db": -20.0, "hysteresis_db": 0.0, "release_ms": 5.0, "rms_ms": 1.0}
        _, step = run("gate", 0.5 * hit, detector=detector, hold_ms=hold, **chosen)
        return step.telemetry.rows["openings"].sum()

    assert openings("peak", 0.0) <= 5 and openings("peak", 2.0) == 1
    assert openings("rms", 2.0) < openings("rms", 0.0) and openings("rms", 2.0) <= 5


def test_lookahead_opens_the_gate_before_the_hit():
    x = np.zeros(RATE)
    x[24000:30000] = tone(3000, 0.125, -6)
    first = slice(24000, 24000 + 96)
    late, _ = run("gate", x, threshold_db=-30.0, attack_ms=2.0)
    early, _ = run("gate", x, threshold_db=-30.0, attack_ms=2.0, lookahead_ms=10.0)
    assert db(late[0, first]).max() < db(x[first]).max() - 3
    assert db(early[0, first]).max() == pytest.approx(db(x[first]).max(), abs=0.1)
    assert not early[0, : 24000 - ms_to_frames(10.0, RATE)].any()


@settings(max_examples=25, deadline=None)
@given(st.floats(1.2, 8), st.floats(-50, -20), st.floats(6, 60), st.floats(-70, -6))
def test_expander_static_curve(ratio, threshold, most, level):
    """Below the threshold `ratio` decibels out for one in (Zoelzer's definition of a downward expander; from memory)."""
    chosen = {"ratio": ratio, "threshold_db": threshold, "range_db": most, "hysteresis_db": 0.0, "hold_ms": 0.0}
    y, _ = run("expander", np.full(RATE, 10 ** (level / 20)), attack_ms=0.1, release_ms=5.0, **chosen)
    under = min(level - threshold, 0)
    assert db(y[0, -1]) == pytest.approx(level + max(under * (ratio - 1), -most), abs=0.01)
    processor = REGISTRY["expander"]
    assert processor.curve(processor.settings_model(**chosen), np.array([level]))[0] == pytest.approx(db(y[0, -1]), abs=0.02)


# ---- key filters -----------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("slope", [12, 24, 48])
@pytest.mark.parametrize("shape", ["high-pass", "low-pass", "band"])
def test_key_filters_are_butterworth(slope, shape):
    """Against scipy.signal.butter, second-order sections."""
    chosen = {"key_filter": shape, "key_slope": f"{slope} dB/oct", "key_low_hz": 300.0, "key_high_hz": 5000.0}
    processor = REGISTRY["compressor"]
    hz = np.geomspace(30, 20000, 60)
    result = processor.key_response(processor.settings_model(**chosen), hz, RATE)
    expected = np.zeros(len(hz))
    for kind, corner in (("high", 300.0), ("low", 5000.0)):
        if shape in ("band", f"{kind}-pass"):
            sos = scipy.signal.butter(slope // 6, corner, kind, fs=RATE, output="sos")
            expected += db(scipy.signal.sosfreqz(sos, hz, fs=RATE)[1])
    audible = expected > -150
    assert np.allclose(result[audible], expected[audible], atol=0.01)
    step = made("compressor", **chosen)
    impulse = np.zeros((1, 8192), np.float32)
    impulse[0, 0] = 1.0
    step.process(impulse)
    heard = db(np.fft.rfft(step.detector_input[0]))[np.rint(hz * 8192 / RATE).astype(int)]
    loud = (expected > -60) & (hz > 300)
    assert np.allclose(heard[loud], np.interp(np.rint(hz * 8192 / RATE) * RATE / 8192, hz, expected)[loud], atol=1.0)


@pytest.mark.parametrize("kind", ["compressor", "gate", "expander", "freecurve"])
def test_the_detector_hears_its_key_filter_and_the_sound_does_not(kind):
    low, high = tone(60, 1.0, -6), tone(4000, 1.0, -30)
    _, step = run(kind, low + high, key_filter="high-pass", key_low_hz=1000.0, key_slope="48 dB/oct")
    assert step.telemetry.detector_db[300:].max() == pytest.approx(-30, abs=0.5)
    idle = {
        "compressor": {"ratio": 1.0},
        "gate": {"range_db": 0.0},
        "expander": {"ratio": 1.0},
        "freecurve": {"points": ((-60.0, -60.0), (0.0, 0.0))},
    }
    y, _ = run(kind, low + high, key_filter="high-pass", key_low_hz=1000.0, **idle[kind])
    assert np.array_equal(y[0], (low + high).astype(np.float32))


# ---- limiter ---------------------------------------------------------------------------------------------------------


def exact_true_peak_db(x, times=16):
    """Largest magnitude of the band-limited interpolation at 16x: zeros appended to the spectrum (scipy.signal.resample)."""
    fade = np.minimum(1.0, np.minimum(np.arange(len(x)), np.arange(len(x))[::-1]) / 500)
    return db(scipy.signal.resample(x.astype(float) * fade, len(x) * times)).max()


def below_20k(x):
    spectrum = np.fft.rfft(x)
    spectrum[int(20000 * len(x) / RATE) :] = 0
    return np.fft.irfft(spectrum, len(x))


T = np.arange(RATE // 2) / RATE
WORST = {
    "fs/4 at 45 degrees": np.sin(2 * np.pi * 12000 * T + np.pi / 4),
    "fs/6 at 60 degrees": np.sin(2 * np.pi * 8000 * T + np.pi / 3),
    "19997 Hz": np.sin(2 * np.pi * 19997 * T + 0.3),
    "square": below_20k(np.sign(np.sin(2 * np.pi * 1003 * T))),
    "bursts": below_20k(np.sin(2 * np.pi * 7919 * T) * ((T * 40) % 1 < 0.3)),
    "noise": below_20k(np.random.default_rng(5).standard_normal(len(T)) * 0.5),
    "clicks": below_20k((np.random.default_rng(6).random(len(T)) < 0.003) * 3.0),
}
limiter_settings = st.fixed_dictionaries(
    {
        "ceiling_db": st.floats(-12, 0),
        "gain_db": st.floats(0, 24),
        "lookahead_ms": st.floats(0.5, 10),
        "release_ms": st.floats(1, 500),
        "release_mode": st.sampled_from(["fixed", "adaptive", "low-end weighted"]),
        "low_end_weight": st.floats(0, 1),
        "stereo_link": st.sampled_from([0.0, 0.4, 1.0]),
        "peaks": st.sampled_from(["sample peak", "true peak"]),
    }
)


@settings(max_examples=60, deadline=None)
@given(limiter_settings, st.sampled_from(sorted(WORST)), st.sampled_from(sorted(WORST)))
def test_the_limiters_ceiling_holds_at_every_setting(chosen, left, right):
    """Sample peaks by 0.0 dB; true peak by 0.1 dB, by the BS.1770 meter at 4x and by exact interpolation at 16x."""
    y, _ = run("limiter", np.stack((WORST[left], WORST[right])), **chosen)
    assert np.abs(y).max() <= np.float32(10 ** (chosen["ceiling_db"] / 20))
    if chosen["peaks"] == "true peak":
        assert figures_of(y, RATE).true_peak_dbtp <= chosen["ceiling_db"] + 0.1
        assert max(exact_true_peak_db(side) for side in y) <= chosen["ceiling_db"] + 0.1


def test_an_idle_limiter_is_a_pure_delay_and_a_working_one_gives_back():
    x = noise(2, 20000, level=0.02)
    assert np.array_equal(run("limiter", x, ceiling_db=-1.0)[0], x)
    hit = np.concatenate((tone(1000, 0.1, -12), tone(1000, 0.01, 6), tone(1000, 0.5, -12)))
    reduction = {}
    for mode in ("fixed", "adaptive"):
        _, step = run("limiter", hit, release_mode=mode, release_ms=50.0, ceiling_db=-6.0, peaks="sample peak")
        reduction[mode] = step.telemetry.reduction_db
        assert reduction[mode].max() == pytest.approx(12, abs=0.1)
        gone = int((0.11 + 0.2) * RATE / 64)
        assert reduction[mode][gone] < 1.0  # four release times on
    long = np.concatenate((tone(1000, 2.0, 6), tone(1000, 1.0, -20)))
    at = int(2.2 * RATE / 64)
    slow = run("limiter", long, release_mode="adaptive", release_ms=50.0, ceiling_db=-6.0)[1].telemetry.reduction_db[at]
    quick = run("limiter", long, release_mode="fixed", release_ms=50.0, ceiling_db=-6.0)[1].telemetry.reduction_db[at]
    assert slow > quick + 4  # what was held for long comes back slowly


def test_leaning_breathes_with_the_low_end():
    high = tone(3000, 1.0, -26)
    kick = np.zeros(RATE)
    kick[12000:24000] = tone(60, 0.25, -4)
    chosen = {"ceiling_db": -3.0, "release_mode": "low-end weighted", "low_end_weight": 0.8, "release_ms": 60.0}
    y, _ = run("limiter", high + kick, **chosen)
    level = lambda a, b: db(scipy.signal.sosfilt(scipy.signal.butter(4, 1500, "high", fs=RATE, output="sos"), y[0])[a:b]).max()  # noqa: E731
    assert level(16000, 22000) < level(4000, 10000) - 2 and level(40000, 47000) == pytest.approx(level(4000, 10000), abs=0.2)
    plain, _ = run("limiter", high + kick, **{**chosen, "release_mode": "fixed"})
    assert np.allclose(plain[0], high + kick, atol=1e-6)


# ---- clipper ---------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("oversampling", ["1x", "2x", "4x", "8x", "16x"])
def test_small_signals_pass_bit_for_bit_at_every_hardness(oversampling):
    x = noise(2, 9000, level=0.01)
    for hardness in (0.3, 1.0):
        assert np.array_equal(run("clipper", x, oversampling=oversampling, hardness=hardness, ceiling_db=-6.0)[0], x)
    quiet = noise(2, 9000, level=1e-4)
    assert np.allclose(run("clipper", quiet, oversampling=oversampling, hardness=0.0)[0], quiet, atol=1e-9)


def test_minimum_phase_is_less_late_and_leaves_the_lows_in_place():
    processor = REGISTRY["clipper"]
    chosen = {"oversampling": "8x", "overshoot": "left"}
    late = {p: processor.latency_of(processor.settings_model(phase=p, **chosen), RATE) for p in ("linear", "minimum")}
    assert late["minimum"] <= 8 < 60 < late["linear"]
    x = tone(200, 0.5, -20)
    y, _ = run("clipper", x, phase="minimum", ceiling_db=0.0, hardness=1.0, **chosen)
    assert np.abs(y[0, 500:-500] - x[500:-500]).max() < 2e-3 * np.abs(x).max()  # a fraction of a sample


def folded_db(oversampling, phase="linear"):
    """Strongest line that is no harmonic below half the rate, re the fundamental: 5 kHz driven 12 dB."""
    y, _ = run("clipper", tone(5000, 2.0, 12), ceiling_db=0.0, hardness=1.0, oversampling=oversampling, phase=phase)
    lines = np.abs(np.fft.rfft(y[0, RATE:].astype(float) * np.kaiser(RATE, 20)))
    hz = np.arange(len(lines))
    harmonic = np.min([np.abs(hz - k * 5000) for k in range(1, 5)], axis=0) < 25
    return db(lines[~harmonic].max() / lines.max())


def test_aliasing_is_80_db_down_at_full_quality():
    """Folding after the sampling theorem; design/5: 5 kHz driven 12 dB, all lines up to half the rate."""
    assert folded_db("16x") < -80 and folded_db("16x", "minimum") < -80
    assert folded_db("16x") < folded_db("4x") - 15 < folded_db("1x") - 50


def test_a_sine_driven_without_limit_tends_to_a_square():
    """Fourier series of a square wave: odd harmonics 1/n; THD 48.3 % of the fundamental."""
    chosen = {"ceiling_db": -36.0, "drive_db": 18.0, "hardness": 1.0, "oversampling": "16x", "overshoot": "left"}
    y, _ = run("clipper", tone(100, 2.0, 0), **chosen)
    lines = np.abs(np.fft.rfft(y[0, RATE:].astype(float))) / (RATE / 2)
    harmonics = lines[100:20000:100] / lines[100]
    for n in (3, 5, 7, 9, 11):
        assert harmonics[n - 1] == pytest.approx(1 / n, rel=0.005)
    assert harmonics[1::2].max() < 1e-3
    assert np.sqrt((harmonics[1:] ** 2).sum()) == pytest.approx(0.483, abs=0.006)


@pytest.mark.parametrize("hardness", [0.0, 0.5, 0.9, 1.0])
def test_the_drawn_curve_is_what_happens(hardness):
    chosen = {"hardness": hardness, "ceiling_db": -6.0, "drive_db": 3.0, "oversampling": "1x", "output_db": 1.0}
    processor = REGISTRY["clipper"]
    for level in (-30.0, -9.0, -6.0, -3.0, 3.0):
        y, _ = run("clipper", [[10 ** (level / 20)]], **chosen)
        drawn = processor.curve(processor.settings_model(**chosen), np.array([level]))[0]
        assert db(y[0, 0]) == pytest.approx(drawn, abs=1e-3)


def test_what_is_outside_the_window_or_kept_clear_is_not_clipped():
    low, middle, high = tone(50, 1.0, -3), tone(1000, 1.0, -3), tone(12000, 1.0, -3)
    for chosen, spared, cut in (
        ({"window": "on", "window_low_hz": 400.0, "window_high_hz": 2500.0}, low, middle),
        ({"keep_clear": "below", "clear_hz": 200.0}, low, middle),
        ({"keep_clear": "above", "clear_hz": 5000.0}, high, middle),
    ):
        limit = {"ceiling_db": -12.0, "hardness": 1.0, "oversampling": "8x"}
        alone, _ = run("clipper", spared, **limit, **chosen)
        assert np.abs(alone[0] - spared).max() < 1e-3  # passes untouched, aligned
        clipped, _ = run("clipper", cut, **limit, **chosen)
        assert db(clipped[0, 9000:-9000]).max() < -9
        both, _ = run("clipper", spared + cut, **limit, **chosen)
        assert np.abs(both[0] - spared - clipped[0])[9000:-9000].max() < 0.03


def test_drive_given_back_and_dc_removed():
    x = noise(1, RATE, level=0.05)
    y, _ = run("clipper", x, drive_db=12.0, compensate_drive=True, ceiling_db=0.0, hardness=1.0)
    quiet = np.abs(x[0]) < 0.2
    assert np.allclose(y[0][quiet], x[0][quiet], atol=1e-3)
    lopsided = np.maximum(tone(200, 2.0, 0.0), -0.2)
    kept, _ = run("clipper", lopsided, ceiling_db=-6.0)
    removed, _ = run("clipper", lopsided, ceiling_db=-6.0, dc_removal=True)
    assert abs(kept[0, RATE:].mean()) > 0.01 > 0.001 > abs(removed[0, RATE:].mean())


# ---- transient shaper ------------------------------------------------------------------------------------------------


def hits(level=0.5):
    rng = np.random.default_rng(1)
    one = np.exp(-np.arange(24000) / 3000) * (
        np.sin(2 * np.pi * 220 * np.arange(24000) / RATE) + 0.5 * rng.standard_normal(24000)
    )
    return level * np.tile(one, 4) / np.abs(one).max()


@settings(max_examples=20, deadline=None)
@given(st.floats(-24, 24), st.floats(-24, 24), st.floats(0.25, 4), st.booleans())
def test_the_shapers_gain_does_not_depend_on_level(attack, sustain, speed, full):
    chosen = {"attack_db": attack, "sustain_db": sustain, "speed": speed, "full_range": full}
    loud, _ = run("shaper", hits(0.5), **chosen)
    soft, _ = run("shaper", hits(0.5 * 10 ** (-30 / 20)), **chosen)
    heard = np.abs(loud[0]) > 1e-5
    assert np.abs(db(loud[0][heard]) - db(soft[0][heard]) - 30).max() < 0.1


def test_attack_and_sustain_do_what_they_say():
    x = hits()
    onset = lambda y: np.abs(y[48000 : 48000 + 480]).max()  # noqa: E731
    tail = lambda y: np.sqrt(np.mean(y[48000 + 9600 : 48000 + 14400] ** 2))  # noqa: E731
    more, _ = run("shaper", x, attack_db=9.0)
    less, _ = run("shaper", x, attack_db=-9.0)
    assert db(onset(more[0]) / onset(x)) > 4 and db(onset(less[0]) / onset(x)) < -4
    assert db(tail(more[0]) / tail(x)) == pytest.approx(0, abs=0.5)
    longer, _ = run("shaper", x, sustain_db=9.0)
    assert db(tail(longer[0]) / tail(x)) > 5 and db(onset(longer[0]) / onset(x)) < 1.5
    assert np.array_equal(run("shaper", x)[0][0], x.astype(np.float32))


def test_the_attack_detector_can_ignore_lows_and_level_safe_does_not_clip():
    thud = np.concatenate((np.zeros(24000), tone(50, 0.5, -6) * np.exp(-np.arange(24000) / 6000))) + tone(6000, 1.0, -30)
    filtered, _ = run("shaper", thud, attack_db=12.0, attack_hz=3000.0)
    everything, _ = run("shaper", thud, attack_db=12.0, full_range=True)
    assert np.abs(filtered[0, 22000:] - thud[22000:]).max() < 0.05 < 0.2 < np.abs(everything[0, 22000:] - thud[22000:]).max()
    raised, _ = run("shaper", hits(0.9), attack_db=12.0)
    safe, _ = run("shaper", hits(0.9), attack_db=12.0, level_safe=True)
    assert np.abs(raised).max() > 1.2 and np.abs(safe).max() <= 10 ** (-0.1 / 20) + 1e-6


@pytest.mark.parametrize("make", [kick, snare, lambda s: plucked_bass(41.0, s)])
def test_the_shaper_leaves_no_offset(make):
    """At its maximum, in every half second; a gain that moves within the wave left up to -21 dBFS."""
    x = 0.5 * make(3.0)
    for chosen in ({"attack_db": 24.0}, {"sustain_db": 24.0}, {"attack_db": 24.0, "sustain_db": -24.0, "full_range": True}):
        y, _ = run("shaper", x, **chosen)
        offsets = (y[0] - x).reshape(-1, RATE // 2).mean(axis=1)
        assert db(np.abs(offsets).max()) < -45


def test_as_a_tone_control_it_is_two_shelves():
    x = np.zeros(16384)
    x[0] = 1.0
    y, _ = run("shaper", x, mode="tone", attack_db=6.0, sustain_db=-4.0, attack_hz=3000.0, sustain_hz=200.0)
    response = db(np.fft.rfft(y[0]))
    at = lambda hz: response[round(hz * 16384 / RATE)]  # noqa: E731
    assert at(20) == pytest.approx(-4, abs=0.1) and at(18000) == pytest.approx(6, abs=0.1)
    assert at(3000) == pytest.approx(3, abs=0.2) and at(200) == pytest.approx(-2, abs=0.2)


# ---- de-esser --------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("slope", [12, 24, 48])
def test_the_desser_cuts_what_a_butterworth_high_pass_lets_through(slope):
    """|H|^2 = (1 + g^2 w^2M) / (1 + w^2M): the power of scipy's low-pass plus g^2 times its high-pass."""
    processor = REGISTRY["deesser"]
    hz = np.geomspace(200, 20000, 80)
    chosen = processor.settings_model(shape=f"high-pass {slope}", frequency_hz=5000.0, range_db=12.0)
    power = {}
    for kind in ("low", "high"):
        sos = scipy.signal.butter(slope // 6, 5000.0, kind, fs=RATE, output="sos")
        power[kind] = np.abs(scipy.signal.sosfreqz(sos, hz, fs=RATE)[1]) ** 2
    expected = 10 * np.log10(power["low"] + 10 ** (-12 / 10) * power["high"])
    assert np.allclose(processor.response(chosen, hz, RATE), expected, atol=0.01)
    assert np.allclose(processor.key_response(chosen, hz, RATE), 10 * np.log10(power["high"]), atol=0.01)
    # The running filter, held at full reduction by a threshold far below, has the response that is drawn.
    carrier = noise(1, 1 << 17, level=0.3)
    held = {"threshold_db": -60.0, "ratio": 50.0, "range_db": 12.0, "release_ms": 1000.0, "against": "level"}
    y, _ = run("deesser", carrier, shape=chosen.shape, frequency_hz=5000.0, **held)
    f, before = scipy.signal.welch(carrier[0, 48000:], RATE, nperseg=4096)
    _, cross = scipy.signal.csd(carrier[0, 48000:], y[0, 48000:], RATE, nperseg=4096)
    measured = db(np.abs(cross) / before)
    inside = (f > 300) & (f < 18000)
    assert np.abs(measured[inside] - processor.response(chosen, f[inside], RATE)).max() < 0.3


@pytest.mark.parametrize("shape", ["band narrow", "band wide"])
def test_bands_have_their_width_and_spare_the_rest(shape):
    processor = REGISTRY["deesser"]
    chosen = processor.settings_model(shape=shape, frequency_hz=4000.0, width_oct=1.0, range_db=12.0)
    hz = np.array([400.0, 4000.0 / 2**0.5, 4000.0, 4000.0 * 2**0.5, 19000.0])
    cut, heard = processor.response(chosen, hz, RATE), processor.key_response(chosen, hz, RATE)
    assert cut[2] == pytest.approx(-12, abs=0.5) and abs(cut[0]) < 0.3 and abs(cut[4]) < 0.3
    assert heard[2] == pytest.approx(0, abs=0.8) and heard[[1, 3]] == pytest.approx([-3, -3], abs=0.8)


def words(level):
    """Half a second of vowel, then of hiss, twice: what a threshold against the whole must treat alike at any level."""
    rng = np.random.default_rng(2)
    hiss = scipy.signal.sosfilt(scipy.signal.butter(4, (5500, 9000), "band", fs=RATE, output="sos"), rng.standard_normal(24000))
    vowel = sum(tone(f, 0.5, -12 - i * 4) for i, f in enumerate((150, 300, 700, 1200, 2400)))
    return level * np.tile(np.concatenate((vowel, 0.5 * hiss / np.abs(hiss).max())), 2)


def test_against_the_whole_soft_and_loud_words_are_treated_alike():
    chosen = {"threshold_db": -8.0, "range_db": 12.0, "against": "whole", "frequency_hz": 5000.0}
    result = {}
    for level in (1.0, 0.1):
        x = words(level)
        y, _ = run("deesser", x, **chosen)
        vowel, hiss = slice(50000, 70000), slice(74000, 95000)
        result[level] = [db(np.std(y[0, part]) / np.std(x[part])) for part in (vowel, hiss)]
        assert abs(result[level][0]) < 0.3 and result[level][1] < -4
    assert result[1.0] == pytest.approx(result[0.1], abs=0.3)
    loud, soft = (run("deesser", words(g), **{**chosen, "against": "level", "threshold_db": -30.0})[1] for g in (1.0, 0.03))
    assert loud.telemetry.reduction_db.max() > 5 > 0.5 > soft.telemetry.reduction_db.max()


def test_only_the_band_or_everything():
    hiss = slice(74000, 95000)
    low = scipy.signal.butter(4, 1000, "low", fs=RATE, output="sos")
    given = words(1.0) + tone(300, 2.0, -20)
    hard = {"threshold_db": -40.0, "against": "level", "range_db": 20.0, "ratio": 20.0}
    kept, _ = run("deesser", given, reduce="band", **hard)
    ducked, _ = run("deesser", given, reduce="everything", **hard)
    level = lambda y: np.std(scipy.signal.sosfilt(low, y)[hiss])  # noqa: E731
    assert db(level(kept[0]) / level(given)) == pytest.approx(0, abs=0.3)
    assert db(level(ducked[0]) / level(given)) < -8


# ---- leveller --------------------------------------------------------------------------------------------------------


def test_the_leveller_brings_phrases_to_the_target_and_waits_in_pauses():
    phrase = lambda level, seconds: np.random.default_rng(4).standard_normal(round(seconds * RATE)) * 10 ** (level / 20)  # noqa: E731
    pause = phrase(-70, 2.0)
    x = np.concatenate((phrase(-26, 6.0), pause, phrase(-26, 2.0)))
    y, step = run("leveller", x, measure="level", target_db=-20.0, range_db=9.0, speed_s=1.0, gate_db=-50.0)
    gain = db(np.std(y[0, 5 * RATE : 6 * RATE]) / np.std(x[5 * RATE : 6 * RATE]))
    assert gain == pytest.approx(6.0, abs=0.2)
    at = lambda s: step.telemetry.reduction_db[int(s * RATE / 64)]  # noqa: E731
    assert at(7.9) == at(6.4)  # not moved at all in the pause
    assert at(8.3) == pytest.approx(at(6.4), abs=0.3)  # and no jump at the next word
    far, _ = run("leveller", phrase(-45, 8.0), measure="level", target_db=-20.0, range_db=9.0, speed_s=1.0, gate_db=-60.0)
    assert db(np.std(far[0, 7 * RATE :])) == pytest.approx(-36, abs=0.3)


def test_the_leveller_counts_loudness_as_the_meter_does():
    """ITU-R BS.1770-5 by our meter, itself checked against pyloudnorm."""
    x = np.stack([tone(1000, 8.0, -30)] * 2)
    y, _ = run("leveller", x, target_db=-23.0, range_db=20.0, speed_s=0.5, gate_db=-50.0)
    assert figures_of(np.ascontiguousarray(y[:, 5 * RATE :]), RATE).integrated_lufs == pytest.approx(-23.0, abs=0.1)


# ---- free curve ------------------------------------------------------------------------------------------------------


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 2**32 - 1), st.floats(-75, 5))
def test_the_free_curve_goes_through_its_points(seed, level):
    """Without rounding it is numpy's interpolation of the points, with constant gain beyond them."""
    rng = np.random.default_rng(seed)
    given = np.sort(rng.choice(np.arange(-70, 6), size=rng.integers(2, 9), replace=False)).astype(float)
    points = tuple((float(a), float(np.clip(a + rng.uniform(-20, 8), -120, 12))) for a in given)
    chosen = {"points": points, "rounding_db": 0.0, "attack_ms": 1.0, "release_ms": 5.0}
    y, _ = run("freecurve", np.full(RATE // 2, 10 ** (level / 20)), **chosen)
    ends = np.array([b - a for a, b in points])
    expected = level + np.interp(level, given, ends)
    assert db(y[0, -1]) == pytest.approx(expected, abs=0.02)
    curve = REGISTRY["freecurve"].curve(FreeCurveSettings(**{**chosen, "rounding_db": 8.0}), np.array([level]))[0]
    rounded, _ = run("freecurve", np.full(RATE // 2, 10 ** (level / 20)), **{**chosen, "rounding_db": 8.0})
    assert db(rounded[0, -1]) == pytest.approx(curve, abs=0.02)


def test_points_as_csv_and_json():
    points = ((-60.0, -90.0), (-40.5, -40.5), (0.0, -12.25))
    assert points_from_text(points_to_csv(points)) == points
    assert points_from_text("[[-60, -90], [-40.5, -40.5], [0, -12.25]]") == points
    for text, why in (
        ("-60,-60\n-60.2,-40", "at least 0.5 dB"),
        ("-60,-60", "at least 2"),
        ("a,b\n1,2", "cannot be read"),
        ("-60,-60,3\n0,0,1", "cannot be used"),
        ("[[1,2]", "cannot be read"),
        ("-60,-60\n99,0", "line 2"),
    ):
        with pytest.raises(ValueError, match=why):
            points_from_text(text)


# ---- stereo ----------------------------------------------------------------------------------------------------------


def test_stereo_idle_passes_bit_for_bit_and_each_control_does_its_part():
    x = noise(2, 8000)
    assert np.array_equal(run("stereo", x)[0], x)
    assert np.array_equal(run("stereo", x, swap=True)[0], x[::-1])
    assert np.array_equal(run("stereo", x, invert="both")[0], -x) and np.array_equal(run("stereo", x, invert="left")[0][0], -x[0])
    narrow = run("stereo", x, width=0.0)[0]
    assert np.allclose(narrow, x.mean(axis=0), atol=1e-7)
    wide = run("stereo", x, width=2.0)[0]
    assert np.allclose(wide[0] - wide[1], 2 * (x[0] - x[1]), atol=1e-6) and np.allclose(
        wide.sum(axis=0), x.sum(axis=0), atol=1e-6
    )
    left = run("stereo", x, balance=-0.5)[0]
    assert np.array_equal(left[0], x[0]) and 0.3 < left[1].std() / x[1].std() < 0.6
    offset, _ = run("stereo", x[:, :1] * 0 + np.full((2, RATE * 2), 0.3, np.float32), dc_removal=True)
    assert np.abs(offset[:, -1000:]).max() < 1e-6


def test_lows_lose_their_sides_and_the_rest_keeps_its_place():
    """The side goes through a Linkwitz-Riley high-pass (scipy's Butterworth twice), the middle through its all-pass."""
    impulse = np.zeros((2, 1 << 16), np.float32)
    impulse[0, 0], impulse[1, 0] = 1.0, -1.0
    y, _ = run("stereo", impulse, mono_below_hz=200.0)
    hz = np.fft.rfftfreq(1 << 16, 1 / RATE)
    sos = scipy.signal.butter(2, 200.0, "high", fs=RATE, output="sos")
    wanted = 2 * db(scipy.signal.sosfreqz(sos, hz, fs=RATE)[1])
    result = db(np.fft.rfft((y[0] - y[1]).astype(np.float64) / 2))
    seen = (hz > 20) & (hz < 20000)
    assert np.abs(result - wanted)[seen].max() < 0.01
    impulse[1, 0] = 1.0
    y, _ = run("stereo", impulse, mono_below_hz=200.0)
    assert np.abs(db(np.fft.rfft(y[0].astype(np.float64))))[seen].max() < 0.01 and np.array_equal(y[0], y[1])


@given(st.integers(1, 2), st.integers(1, 5000), st.sampled_from(("level", "hits")), st.sampled_from((0.0, 5.0, 20.0)))
def test_without_a_key_a_ducker_passes_its_sound_untouched(channels, frames, by, lookahead_ms):
    """Nothing pushes it, and its own sound is not asked for: null against the input, aligned."""
    x = noise(channels, frames, level=1.0)
    y, _ = run("ducker", x, by=by, depth_db=30.0, threshold_db=-80.0, lookahead_ms=lookahead_ms)
    np.testing.assert_array_equal(y, x)
