"""The gain reduction that is told is the gain that changed, of every processor that tells one: against the sound itself."""

import numpy as np
import pytest
import scipy.signal

from saltanvil.dsp import biquad
from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.processors import REGISTRY
from saltanvil.processors.base import Context

RATE = 48000


def treated(kind, x, **chosen):
    """What left, aligned, and the reduction of each of its ticks."""
    processor = REGISTRY[kind]
    settings = processor.settings_model(**chosen)
    late = processor.latency_of(settings, RATE)
    step = processor(settings, len(x), Context(rate=RATE))
    y = step.process(np.pad(x, ((0, 0), (0, late))))[:, late:]
    return y, step.telemetry.reduction_db[late // TICK_FRAMES :]


def uneven_noise(seconds, seed):
    """White noise whose level changes every tenth of a second, from -40 to -6 dB."""
    rng = np.random.default_rng(seed)
    frames = seconds * RATE
    level_db = np.repeat(rng.uniform(-40.0, -6.0, frames // 4800), 4800)
    smooth = np.convolve(level_db, np.full(960, 1 / 960), "same")
    return (0.7 * 10.0 ** (smooth / 20.0) * rng.standard_normal(frames)).astype(np.float32)[None]


def ringing_noise(hz, q, gain_db, seed=3):
    """Pink noise with a resonance."""
    rng = np.random.default_rng(seed)
    spectrum = np.fft.rfft(rng.standard_normal(8 * RATE))
    spectrum[1:] /= np.sqrt(np.arange(1, len(spectrum)))
    pink = np.fft.irfft(spectrum)
    b = biquad.cookbook("bell", hz, q, gain_db, RATE)
    return scipy.signal.lfilter(b[:3], [1.0, b[3], b[4]], 0.1 * pink / pink.std()).astype(np.float32)[None]


def band_changes_db(x, y, per_octave):
    """Change of the power in narrow bands from 50 Hz to 12.8 kHz."""
    hz, before = scipy.signal.welch(x, RATE, nperseg=1 << 15)
    _, after = scipy.signal.welch(y, RATE, nperseg=1 << 15)
    result = []
    for middle in 50.0 * 2.0 ** (np.arange(8 * per_octave) / per_octave):
        inside = (hz > middle * 2.0 ** (-0.5 / per_octave)) & (hz < middle * 2.0 ** (0.5 / per_octave))
        if inside.any():
            result.append(10.0 * np.log10(after[inside].sum() / before[inside].sum()))
    return np.array(result)


@pytest.mark.parametrize(
    ("kind", "chosen"),
    [
        ("compressor", {"threshold_db": -30.0, "ratio": 6.0}),
        ("compressor", {"threshold_db": -30.0, "ratio": 4.0, "detector": "rms", "mix": 0.6}),
        ("gate", {"threshold_db": -20.0}),
        ("expander", {"threshold_db": -15.0, "ratio": 3.0}),
        ("freecurve", {"mix": 0.5}),
        ("leveller", {}),
        ("limiter", {"ceiling_db": -20.0, "peaks": "sample peak"}),
        ("shaper", {"attack_db": 6.0, "sustain_db": -6.0}),
        ("shaper", {"attack_db": -9.0, "sustain_db": 6.0, "mix": 0.7}),
    ],
)
@pytest.mark.parametrize("seed", [5, 6])
def test_what_changes_the_gain_of_all_tells_it_tick_by_tick(kind, chosen, seed):
    x = uneven_noise(8, seed)
    y, told = treated(kind, x, **chosen)
    ticks = x.shape[1] // TICK_FRAMES
    power = lambda sound: np.square(sound[0, : ticks * TICK_FRAMES].reshape(-1, TICK_FRAMES), dtype=np.float64).mean(1)  # noqa: E731
    changed = -10.0 * np.log10(np.maximum(power(y), 1e-20) / np.maximum(power(x), 1e-20))
    settled = slice(RATE // TICK_FRAMES, len(told[:ticks]))
    off = told[:ticks][settled] - changed[settled]
    assert abs(off.mean()) < 0.2 and np.median(np.abs(off)) < 0.2


@pytest.mark.parametrize(
    ("hz", "q", "gain_db"), [(1000.0, 8.0, 12.0), (300.0, 4.0, 10.0), (4000.0, 20.0, 15.0), (2500.0, 2.0, 9.0)]
)
@pytest.mark.parametrize(("sharpness", "mix"), [(2.0, 1.0), (5.0, 1.0), (5.0, 0.5), (16.0, 1.0)])
def test_a_free_tamer_tells_what_the_band_loses(hz, q, gain_db, sharpness, mix):
    """Its bells overlap and add up: one alone told 1.5 dB where the sound lost 4.9."""
    x = ringing_noise(hz, q, gain_db)
    y, told = treated("tamer", x, mode="free", sharpness=sharpness, amount=1.0, output="not held", mix=mix)
    half = x.shape[1] // 2
    lost = -band_changes_db(x[0, half:], y[0, half:], 24 if sharpness < 10.0 else 96).min()
    # A peak's very tip is narrower than any band that holds enough noise to be measured.
    assert told[half // TICK_FRAMES :].mean() == pytest.approx(lost, abs=0.5 if sharpness < 10.0 else 1.6)


@pytest.mark.parametrize("cut", [6.0, 12.0])
def test_a_de_esser_tells_what_its_band_loses(cut):
    rng = np.random.default_rng(1)
    x = (0.1 * rng.standard_normal(6 * RATE)).astype(np.float32)[None]
    y, told = treated("deesser", x, threshold_db=-60.0, range_db=cut, ratio=50.0, against="level", frequency_hz=4000.0)
    settled = slice(2 * RATE, None)
    lost = -band_changes_db(x[0, settled], y[0, settled], 3)[-1]
    assert told[2 * RATE // TICK_FRAMES :].mean() == pytest.approx(lost, abs=0.3) and lost > 0.9 * cut


def test_a_tamer_that_found_nothing_takes_nothing():
    x = ringing_noise(1000.0, 4.0, 6.0)[:, :RATE]
    y, told = treated("tamer", x, mode="found", output="not held")
    assert np.array_equal(y, x) and not told.any()
