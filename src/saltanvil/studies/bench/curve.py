"""The static curve as measured, against the one that is set."""

import numpy as np

from saltanvil.dsp.units import db_to_gain, gain_to_db
from saltanvil.measure import distortion
from saltanvil.processors import processor_named
from saltanvil.studies.bench.result import BenchFigure, BenchLine, BenchRequest, Result
from saltanvil.studies.bench.runner import SHORT_FRAMES, Bench
from saltanvil.studies.scope.pictures import rounded

CURVE_DB = tuple(range(-72, 1, 3))


def curve(bench: Bench, question: BenchRequest) -> Result:
    """The static curve by peaks, measured with a tone that climbs in steps, over the set one where the path is one step."""
    hold = round(0.5 * bench.rate)
    hz = distortion.fitting_hz(question.frequency_hz, SHORT_FRAMES, bench.rate)
    t = np.arange(hold * len(CURVE_DB)) / bench.rate
    gains = np.repeat([db_to_gain(float(level)) for level in CURVE_DB], hold)
    y = bench.run(gains * np.sin(2 * np.pi * hz * t))
    period = max(1, round(bench.rate / hz))
    tail = max(1, hold // 4 // period) * period
    out = []
    for number in range(len(CURVE_DB)):
        settled = y[(number + 1) * hold - tail : (number + 1) * hold]
        out.append(gain_to_db(float(np.abs(settled).max())))
    lines = [BenchLine("measured", [float(level) for level in CURVE_DB], rounded(np.array(out)))]
    steps = [step for step in bench.path.steps if not step.bypass]
    largest = None
    if len(steps) == 1:
        levels = np.array(CURVE_DB, dtype=np.float64)
        stated = processor_named(steps[0].kind).curve(steps[0].settings, levels)
        if stated is not None:
            lines.append(BenchLine("set", [float(level) for level in CURVE_DB], rounded(np.maximum(stated, -120.0))))
            audible = stated > -100.0
            largest = float(np.abs(np.array(out) - stated)[audible].max()) if audible.any() else 0.0
    figures = [BenchFigure("largest_apart_db", "Measured and set differ by at most", largest, "dB")]
    rows = [[float(level), round(value, 2)] for level, value in zip(CURVE_DB, out, strict=True)]
    return Result("curve", figures, lines, "in, dBFS", "out, dBFS", columns=["in_dbfs", "out_dbfs"], table=rows)
