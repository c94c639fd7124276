"""Harmonic distortion, and how it grows with level."""

import numpy as np

from saltanvil.dsp.units import db_to_gain
from saltanvil.measure import distortion
from saltanvil.studies.bench.lines import spectrum_line
from saltanvil.studies.bench.result import BenchFigure, BenchRequest, Mark, Result
from saltanvil.studies.bench.runner import FRAMES, SETTLE_S, SHORT_FRAMES, SHORT_SETTLE_S, Bench
from saltanvil.studies.scope.pictures import rounded

LADDER_DB = tuple(range(-60, 1, 6))


def harmonics(bench: Bench, question: BenchRequest) -> Result:
    """Spectrum with its harmonics, and THD against level. IEC 60268-3 (THD), AES17 (THD+N)."""
    y, hz = bench.tone(question.frequency_hz, question.level_dbfs, FRAMES, SETTLE_S)
    fitted = distortion.harmonics_of(y, bench.rate, hz)
    ladder = []
    for number, level in enumerate(LADDER_DB):
        bench.progress(0.3 + 0.7 * number / len(LADDER_DB))
        step, at = bench.tone(question.frequency_hz, level, SHORT_FRAMES, SHORT_SETTLE_S)
        stated = distortion.harmonics_of(step, bench.rate, at)
        ladder.append([float(level), stated.fundamental_dbfs, stated.thd_db, stated.thdn_db])
    marks = [
        Mark(hz * (n + 2), fitted.fundamental_dbfs + level, f"H{n + 2}")
        for n, level in enumerate(fitted.harmonics_db)
        if fitted.fundamental_dbfs + level > -150.0
    ]
    orders = [BenchFigure(f"h{n + 2}_db", f"H{n + 2}", level, "dB re H1") for n, level in enumerate(fitted.harmonics_db)]
    figures = [
        BenchFigure("frequency_hz", "Tone", hz, "Hz"),
        BenchFigure("fundamental_dbfs", "Output level", fitted.fundamental_dbfs, "dBFS"),
        BenchFigure("thd_db", "THD", fitted.thd_db, "dB"),
        BenchFigure("thd_percent", "THD", 100.0 * db_to_gain(fitted.thd_db), "%"),
        BenchFigure("thdn_db", "THD+N", fitted.thdn_db, "dB"),
        BenchFigure("even_share", "Even share", 100.0 * fitted.even_share, "%"),
        *orders,
    ]
    return Result(
        "harmonics", figures, [spectrum_line("spectrum", y, bench.rate)], "Hz", "dBFS", True,
        [Mark(hz, fitted.fundamental_dbfs, "H1"), *marks],
        ["level_dbfs", "out_dbfs", "thd_db", "thdn_db"], [rounded(np.array(row), 2) for row in ladder],
    )  # fmt: skip
