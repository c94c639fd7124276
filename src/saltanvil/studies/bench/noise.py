"""Pink noise before and after."""

import numpy as np

from saltanvil.dsp.units import db_to_gain, gain_to_db
from saltanvil.measure.spectrum import average_db, centres_hz
from saltanvil.studies.bench.result import BenchFigure, BenchLine, BenchRequest, Result
from saltanvil.studies.bench.runner import SETTLE_S, Bench
from saltanvil.studies.scope.pictures import rounded


def noise(bench: Bench, question: BenchRequest) -> Result:
    """Pink noise before and after, in 1/6 octaves; level_dbfs is its RMS."""
    frames = 1 << 18
    spectrum = np.fft.rfft(np.random.default_rng(1).standard_normal(frames))
    spectrum[1:] /= np.sqrt(np.arange(1, len(spectrum)))
    spectrum[0] = 0.0
    x = np.fft.irfft(spectrum, frames)
    x *= db_to_gain(question.level_dbfs) / np.sqrt(np.mean(x**2))
    y = bench.run(x)
    settled = slice(round(SETTLE_S * bench.rate), None)
    hz = centres_hz(bench.rate)
    before = average_db(x[settled].astype(np.float32)[None], bench.rate, 6)
    after = average_db(y[settled].astype(np.float32)[None], bench.rate, 6)
    rms = [gain_to_db(float(np.sqrt(np.mean(sound[settled] ** 2)))) for sound in (x, y)]
    rows = [[round(float(a), 1), round(float(b), 1), round(float(c), 1)] for a, b, c in zip(hz, before, after, strict=True)]
    return Result(
        "noise",
        [BenchFigure(f"{side}_dbfs", f"RMS {side}", level, "dBFS") for side, level in zip(("before", "after"), rms, strict=True)],
        [BenchLine("before", rounded(hz, 1), rounded(before, 1)), BenchLine("after", rounded(hz, 1), rounded(after, 1))],
        "Hz", "dB re full-scale sine, 1/6 octave", True, columns=["frequency_hz", "before_db", "after_db"], table=rows,
    )  # fmt: skip
