"""What two tones make of each other."""

import numpy as np

from saltanvil.dsp.units import db_to_gain
from saltanvil.measure import distortion
from saltanvil.studies.bench.lines import spectrum_line
from saltanvil.studies.bench.result import BenchFigure, BenchRequest, Result
from saltanvil.studies.bench.runner import FRAMES, TAIL_FRAMES, Array, Bench
from saltanvil.studies.scope.pictures import rounded


def two_tones(bench: Bench, low_hz: float, high_hz: float, ratio: float, level_db: float) -> tuple[Array, float, float]:
    """Two tones that fit, the low one `ratio` times as strong, their sum peaking at the level."""
    low, high = (round(hz * FRAMES / bench.rate) * bench.rate / FRAMES for hz in (low_hz, high_hz))
    t = np.arange(2 * FRAMES + TAIL_FRAMES) / bench.rate
    both = (ratio * np.sin(2 * np.pi * low * t) + np.sin(2 * np.pi * high * t)) / (1.0 + ratio)
    return bench.run(db_to_gain(level_db) * both)[FRAMES : 2 * FRAMES], low, high


def intermodulation(bench: Bench, question: BenchRequest) -> Result:
    """SMPTE (60 Hz and 7 kHz, 4:1) and difference frequency (19 and 20 kHz), IEC 60268-3."""
    y, low, high = two_tones(bench, *distortion.SMPTE_HZ, distortion.SMPTE_RATIO, question.level_dbfs)
    smpte = distortion.smpte_of(y, bench.rate, low, high)
    bench.progress(0.5)
    z, low, high = two_tones(bench, *distortion.DIFFERENCE_HZ, 1.0, question.level_dbfs)
    difference = distortion.difference_of(z, bench.rate, low, high)
    rows = [
        [hz, level]
        for measured in (smpte, difference)
        for hz, level in zip(measured.products_hz, measured.products_db, strict=True)
    ]
    return Result(
        "intermodulation",
        [
            BenchFigure("smpte_db", "SMPTE", smpte.total_db, "dB re 7 kHz"),
            BenchFigure("smpte_percent", "SMPTE", 100.0 * db_to_gain(smpte.total_db), "%"),
            BenchFigure("difference_db", "Difference", difference.total_db, "dB re the pair"),
            BenchFigure("difference_percent", "Difference", 100.0 * db_to_gain(difference.total_db), "%"),
        ],
        [spectrum_line("60 Hz and 7 kHz", y, bench.rate), spectrum_line("19 and 20 kHz", z, bench.rate)],
        "Hz", "dBFS", True, [], ["product_hz", "product_db"], [rounded(np.array(row), 2) for row in rows],
    )  # fmt: skip
