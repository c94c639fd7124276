"""What every detector promises, over its range of use: the set curve, the set times, lookahead, no ripple.

The curves are those of Giannoulis, Massberg and Reiss, J. Audio Eng. Soc. 60(6), 2012, eq. 4, and of a downward expander
(Zoelzer), from memory; the bounds are the project's own.
"""

import numpy as np
import pytest
import scipy.signal
from hypothesis import example, given, settings
from hypothesis import strategies as st

from saltanvil.dsp.units import ms_to_frames
from saltanvil.processors import REGISTRY
from saltanvil.processors.base import Context
from tests.signals import noise, plucked_bass, tone

RATE = 48000


def run(kind, x, key=None, rate=RATE, **chosen):
    """Treated sound, aligned to x, (frames,)."""
    processor = REGISTRY[kind]
    settings_ = processor.settings_model(**chosen)
    late = processor.latency_of(settings_, rate)
    step = processor(settings_, 1, Context(rate=rate))
    pad = lambda s: None if s is None else np.ascontiguousarray(np.pad(s, (0, late))[None], np.float32)  # noqa: E731
    return step.process(pad(x), pad(key))[0, late:]


def gain_db(y, x, hz, rate=RATE):
    """Change of a sine over its last whole periods, by projection: the fundamental alone."""
    frames = max(round(0.1 * rate), round(2 * rate / hz))
    frames = round(round(frames * hz / rate) * rate / hz)
    turn = np.exp(-2j * np.pi * hz * np.arange(frames) / rate)
    return 20 * np.log10(abs(y[-frames:] @ turn) / abs(x[-frames:] @ turn))


#: Kind, settings whose curve takes some decibels of a sine at the level, and what the curve makes of it.
CURVES = {
    "compressor": ({"threshold_db": -20.0, "ratio": 4.0, "knee_db": 0.0}, lambda level: -0.75 * max(level + 20.0, 0.0)),
    "feedback": (
        {"threshold_db": -20.0, "ratio": 4.0, "knee_db": 0.0, "topology": "feedback"},
        lambda level: -0.75 * max(level + 20.0, 0.0),
    ),
    "expander": (
        {"threshold_db": -2.0, "ratio": 2.0, "range_db": 40.0, "hysteresis_db": 0.0, "hold_ms": 0.0},
        lambda level: min(level + 2.0, 0.0),
    ),
    "gate": ({"threshold_db": -25.0, "hysteresis_db": 0.0, "hold_ms": 0.0, "range_db": 20.0}, lambda level: 0.0),
    "freecurve": (
        {"points": [[-60.0, -60.0], [-30.0, -30.0], [0.0, -10.0]], "rounding_db": 0.0},
        lambda level: -(level + 30.0) / 3.0,
    ),
    "limiter": ({"ceiling_db": -24.0, "peaks": "sample peak"}, lambda level: -24.0 - level),
}


def logarithmic(low, high):
    return st.floats(np.log(low), np.log(high)).map(lambda e: min(max(float(np.exp(e)), low), high))


high, attacks, releases = logarithmic(30.0, 10000.0), logarithmic(0.05, 100.0), logarithmic(5.01, 2000.0)


@pytest.mark.parametrize("name", CURVES)
@settings(max_examples=20, deadline=None)
@given(high, attacks, releases, st.floats(-22.0, -3.0), st.floats(0.0, 6.28), st.sampled_from((44100, 48000, 96000)))
@example(30.0, 0.05, 5.0, -3.0, 0.0, 48000)
@example(1000.0, 100.0, 50.0, -3.0, 0.0, 48000)
@example(8000.0, 30.0, 60.0, -3.0, 0.5236, 48000)  # no sample within 30 degrees of a crest
def test_a_steady_sine_reaches_the_set_curve(name, hz, attack, release, level, phase, rate):
    chosen, curve = CURVES[name]
    kind = "compressor" if name == "feedback" else name
    times = {"release_ms": release} if kind == "limiter" else {"release_ms": release, "attack_ms": attack}
    x = tone(hz, 0.4 + 8 * attack / 1000.0, level, rate, phase)
    y = run(kind, x, rate=rate, **chosen, **times)
    # A limiter holds samples, and at a high frequency none may lie at the crest.
    wanted = curve(level) if kind != "limiter" else -24.0 - 20 * np.log10(np.abs(x[len(x) // 2 :]).max())
    assert gain_db(y, x, hz, rate) == pytest.approx(wanted, abs=0.2)


@settings(max_examples=20, deadline=None)
@given(high, st.floats(-34.0, -6.0), st.sampled_from((44100, 48000, 96000)))
@example(30.0, -30.0, 48000)
def test_a_steady_key_ducks_as_deep_as_set(hz, level, rate):
    key = tone(hz, 0.5, level, rate)
    y = run("ducker", np.ones(len(key)), key, rate, threshold_db=-36.0, span_db=24.0, depth_db=12.0, hold_ms=0.0, decay_ms=10.0)
    settled = 20 * np.log10(y[-round(0.2 * rate) :])
    assert settled == pytest.approx(-12.0 * min((level + 36.0) / 24.0, 1.0), abs=0.2)


@pytest.mark.parametrize("kind", ["compressor", "freecurve"])
@settings(max_examples=15, deadline=None)
@given(
    st.floats(np.log(1.0), np.log(200.0)), st.floats(np.log(10.0), np.log(1000.0)), st.floats(-14.0, 0.0), st.floats(-60.0, -36.0)
)
def test_attack_and_release_are_those_of_the_gain(kind, attack, release, loud, soft):
    """63 % of the decibels after the set time, within a tick of 64 frames and a crest's wait, or 3 %."""
    attack, release = float(np.exp(attack)), float(np.exp(release))
    hz, before, held = 2000.0, 0.2, 0.1 + 8 * attack / 1000.0
    x = np.concatenate((tone(hz, before, soft), tone(hz, held, loud), tone(hz, 0.1 + 4 * release / 1000.0, soft)))
    chosen = CURVES[kind][0]
    y = run(kind, x, **chosen, attack_ms=attack, release_ms=release)
    change = np.full(len(x), np.nan)
    clear = np.abs(x) > 0.6 * 10 ** (soft / 20)  # a ratio of samples is a gain where they are not near zero
    change[clear] = 20 * np.log10(y[clear] / x[clear])
    rises, falls = round(before * RATE), round(before * RATE) + round(held * RATE)
    deepest, rest = np.nanmedian(change[falls - 960 : falls]), np.nanmedian(change[rises - 960 : rises])
    assert deepest < rest - 4.0
    part = lambda share: rest + (deepest - rest) * share  # noqa: E731
    reached = 1000 * np.argmax(np.nan_to_num(change[rises:], nan=0.0) <= part(1 - np.exp(-1))) / RATE
    left = 1000 * np.argmax(np.nan_to_num(change[falls:], nan=-99.0) >= part(np.exp(-1))) / RATE
    assert reached == pytest.approx(attack, abs=max(1.5, 0.03 * attack))
    assert left == pytest.approx(release, abs=max(1.5, 0.03 * release))


@settings(max_examples=25, deadline=None)
@given(st.floats(8000.0, 12000.0), st.floats(5.0, 100.0), st.floats(5.0, 500.0))
@example(9600.0, 5.0, 5.0)
def test_no_sidebands_from_ripple_at_high_frequencies(hz, attack, release):
    frames = 1 << 15
    hz = round(hz * frames / RATE) * RATE / frames
    x = tone(hz, 1.0 + frames / RATE, -3.0)
    y = run("compressor", x, threshold_db=-20.0, ratio=4.0, attack_ms=attack, release_ms=release)[-frames:]
    lines = np.abs(np.fft.rfft(y))
    at = round(hz * frames / RATE)
    assert 20 * np.log10(np.delete(lines, at).max() / lines[at]) < -60.0


def test_harmonics_of_a_low_note_leave_the_gain_still():
    """A bass of 41 to 110 Hz, whose waves have several crests a period, under times shorter than the period."""
    for hz in (41.2, 55.0, 82.4, 110.0):
        x = sum(tone(n * hz, 1.0, -6.0 * n, phase=n) for n in range(1, 9))
        y = run("compressor", x, threshold_db=-30.0, ratio=8.0, attack_ms=0.5, release_ms=5.0)
        settled = np.abs(x) > 0.05 * np.abs(x).max()
        settled[: RATE // 4] = False
        change = 20 * np.log10(y[settled] / x[settled])
        assert np.ptp(change) < 0.3, hz


def test_a_decaying_bass_is_released_as_it_decays():
    """The gain follows a plucked note down, late by no more than the release and the hold of a crest (1.125 periods), and is back
    after it."""
    x = plucked_bass(55.0, 2.0)
    y = run("compressor", x, threshold_db=-30.0, ratio=4.0, knee_db=0.0, attack_ms=5.0, release_ms=50.0)
    crest = lambda s, at: np.abs(s[round(at * RATE) : round((at + 0.04) * RATE)]).max()  # noqa: E731
    for at in (0.3, 0.6, 1.0):
        level, earlier = 20 * np.log10(crest(x, at)), 20 * np.log10(crest(x, at - 0.05 - 1.125 / 55.0))
        change = 20 * np.log10(crest(y, at) / crest(x, at))
        assert -0.75 * max(earlier + 30.0, 0.0) - 0.1 <= change <= -0.75 * max(level + 30.0, 0.0) + 0.1


@pytest.mark.parametrize("hz", [60.0, 80.0, 120.0])
@pytest.mark.parametrize("decay_s", [0.06, 0.12, 0.25])
def test_three_hits_of_a_tom_open_a_gate_three_times_without_hold(hz, decay_s):
    """Release 5 ms, hold 0: in a decay the level steps from crest to crest and does not fall between them. The first hit teaches
    how far apart crests lie, so one more opening is allowed where the threshold lies within its first periods."""
    t = np.arange(round(0.7 * RATE)) / RATE
    hit = 0.5 * np.sin(2 * np.pi * (hz * t + 0.3 * (1.0 - np.exp(-t / 0.03)))) * np.exp(-t / decay_s)
    x = np.concatenate([np.zeros(4800), hit, hit, hit])
    for threshold_db, most in ((-40.0, 3), (-30.0, 3), (-20.0, 3), (-12.0, 4)):
        y = run("gate", x, threshold_db=threshold_db, attack_ms=0.1, hold_ms=0.0, release_ms=5.0, lookahead_ms=0.0)
        # Open where it leaves the sound alone, read at the sound's crests.
        crest = scipy.signal.argrelmax(np.abs(x))[0]
        open_ = np.abs(y[crest]) > 0.5 * np.abs(x[crest])
        assert 1 <= np.count_nonzero(np.diff(open_.astype(int), prepend=0) == 1) <= most, threshold_db


ENDS = {
    "gate": {"threshold_db": -30.0, "attack_ms": 1.0, "hold_ms": 0.0, "release_ms": 5.0, "range_db": 60.0},
    "expander": {"threshold_db": -10.0, "ratio": 4.0, "attack_ms": 1.0, "hold_ms": 0.0, "release_ms": 5.0},
    "compressor": {"threshold_db": -30.0, "ratio": 8.0, "attack_ms": 1.0, "release_ms": 5.0},
    "freecurve": {"points": [[-60.0, -90.0], [-30.0, -30.0], [0.0, -10.0]], "attack_ms": 1.0, "release_ms": 5.0},
}


@pytest.mark.parametrize("detector", ["peak", "rms"])
@pytest.mark.parametrize("kind", ENDS)
@settings(max_examples=8, deadline=None)
@given(st.floats(0.5, 20.0), st.floats(200.0, 5000.0))
def test_lookahead_brings_the_beginning_forward_and_not_the_end(kind, detector, lookahead, hz):
    x = np.concatenate((np.zeros(4800), tone(hz, 0.3, -6.0), np.zeros(9600)))
    y = run(kind, x, **ENDS[kind], detector=detector, lookahead_ms=lookahead)
    part = lambda s, first, last: s[4800 + ms_to_frames(first, RATE) : 4800 + ms_to_frames(last, RATE)]  # noqa: E731
    level = lambda first, last: 20 * np.log10(np.std(part(y, first, last)) / np.std(part(x, first, last)))  # noqa: E731
    steady = level(200.0, 250.0)
    assert level(290.0, 299.5) == pytest.approx(steady, abs=0.15)
    without = run(kind, x, **ENDS[kind], detector=detector)
    early = np.linalg.norm(part(y, 0.0, 5.0) - part(x, 0.0, 5.0) * 10 ** (steady / 20))
    late = np.linalg.norm(part(without, 0.0, 5.0) - part(x, 0.0, 5.0) * 10 ** (steady / 20))
    assert early < late


def test_a_ducker_that_looks_ahead_holds_from_the_end_of_its_key():
    """By level it is down until the key itself has ended, by hits until the hold counted from the hit."""
    key = np.concatenate((np.zeros(9600), tone(1000.0, 0.2, -6.0), np.zeros(24000)))
    for by in ("level", "hits"):
        chosen = {"by": by, "threshold_db": -30.0, "depth_db": 20.0, "attack_ms": 2.0, "decay_ms": 10.0, "lookahead_ms": 20.0}
        hold = 50.0 if by == "hits" else 0.0
        y = 20 * np.log10(run("ducker", np.ones(len(key)), key, **chosen, hold_ms=hold))
        end = 9600 + (ms_to_frames(50.0, RATE) if by == "hits" else 9600)
        assert y[9600 - ms_to_frames(15.0, RATE)] < -19.9  # down before the key sounds
        assert y[end - 48] < -19.9 and y[end + ms_to_frames(12.0, RATE)] > -0.1


@pytest.mark.parametrize("rms_ms", [10.0, 20.0, 50.0, 100.0])
@pytest.mark.parametrize("rate", [44100, 96000])
def test_an_rms_detector_is_on_its_curve_from_30_hz_on(rms_ms, rate):
    """In steady state against the power of the tone; the mean of its square alone was off by -0.70 to +0.59 dB at 30 Hz."""
    compressor = REGISTRY["compressor"]
    settings = compressor.settings_model(
        threshold_db=-30.0, ratio=4.0, knee_db=0.0, attack_ms=5.0, release_ms=60.0, detector="rms", rms_ms=rms_ms
    )
    for hz in (30.0, 41.2, 60.0, 80.0, 150.0, 400.0, 3000.0):
        x = (0.5 * np.sin(2.0 * np.pi * hz * np.arange(2 * rate) / rate))[None].astype(np.float32)
        step = compressor(settings, 1, Context(rate=rate))
        y = step.process(x)
        level_db, leaves_db = (10.0 * np.log10(np.square(one[0, rate:], dtype=np.float64).mean()) for one in (x, y))
        assert leaves_db == pytest.approx(float(compressor.curve(settings, np.array([level_db]))[0]), abs=0.1)
        # Its own reading stands still: a detector of the plain square swings by 1.1 dB at 30 Hz and 10 ms.
        settled = step.telemetry.detector_db[-rate // 128 :]
        assert np.ptp(settled) < 0.25 and settled.mean() == pytest.approx(level_db, abs=0.1)


def test_an_rms_detector_reads_the_power_of_noise():
    """Against the mean square over the same time: SciPy's first-order filter."""
    x = noise(1, 4 * 48000, 7, 0.3)
    compressor = REGISTRY["compressor"]
    settings = compressor.settings_model(threshold_db=0.0, ratio=1.0, detector="rms", rms_ms=100.0)
    step = compressor(settings, 1, Context())
    step.process(x)
    part = np.exp(-1.0 / (0.1 * 48000))
    mean = scipy.signal.lfilter([1.0 - part], [1.0, -part], np.square(x[0], dtype=np.float64))
    wanted = 10.0 * np.log10(mean[63::64])[2000:2900]
    assert step.telemetry.detector_db[2000:2900] == pytest.approx(wanted, abs=0.4)
