"""Frequency and phase response, and latency, from one sample."""

import numpy as np

from saltanvil.dsp.units import db_to_gain
from saltanvil.measure import distortion
from saltanvil.measure.spectrum import centres_hz
from saltanvil.studies.bench.result import BenchFigure, BenchLine, BenchRequest, Result
from saltanvil.studies.bench.runner import FRAMES, Bench
from saltanvil.studies.scope.pictures import rounded


def impulse(bench: Bench, question: BenchRequest) -> Result:
    """One sample: frequency and phase response, latency measured against that declared, what comes before the peak."""
    frames, at = FRAMES, FRAMES // 4
    x = np.zeros(frames)
    x[at] = db_to_gain(question.level_dbfs)
    y = bench.run(x) / x[at]
    peak = int(np.abs(y).argmax())
    total = float(np.sum(y**2))
    early = float(np.sum(y[: peak - 1] ** 2))
    edge = np.flatnonzero(np.cumsum(y**2) >= 1e-6 * total)[0] if total > 0.0 else peak
    hz = centres_hz(bench.rate)
    response = np.fft.rfft(np.roll(y, -at))
    place = hz * frames / bench.rate
    whole = np.minimum(place.astype(int), len(response) - 2)
    part = place - whole
    value = response[whole] * (1.0 - part) + response[whole + 1] * part
    level = 20.0 * np.log10(np.maximum(np.abs(value), 1e-9))
    phase = np.degrees(np.angle(value))
    ms = 1000.0 / bench.rate
    figures = [
        BenchFigure("declared_ms", "Latency declared", bench.latency_frames * ms, "ms"),
        BenchFigure("measured_ms", "Latency measured", (bench.latency_frames + peak - at) * ms, "ms"),
        BenchFigure("early_db", "Energy before the peak", distortion.db_of(early, total), "dB re all"),
        BenchFigure("early_ms", "begins earlier by", max(0, peak - int(edge)) * ms, "ms"),
        BenchFigure("gain_1k_db", "Gain at 1 kHz", float(np.interp(1000.0, hz, level)), "dB"),
    ]
    rows = [[round(float(a), 1), round(float(b), 3), round(float(c), 1)] for a, b, c in zip(hz, level, phase, strict=True)]
    return Result(
        "impulse", figures, [BenchLine("level", rounded(hz, 1), rounded(level, 3))], "Hz", "dB", True,
        columns=["frequency_hz", "level_db", "phase_deg"], table=rows,
    )  # fmt: skip
