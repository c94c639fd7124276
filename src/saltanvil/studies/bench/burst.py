"""How the gain follows a burst: attack, hold and release as measured."""

import math

import numpy as np

from saltanvil.dsp.units import db_to_gain
from saltanvil.studies.bench.result import BenchFigure, BenchLine, BenchRequest, Mark, Result
from saltanvil.studies.bench.runner import Array, Bench
from saltanvil.studies.scope.pictures import rounded


def gain_trace(x: Array, y: Array, period: int) -> Array:
    """Gain in dB of a tone, over one period around each frame: what of y is like x, whatever was added to it."""
    window = np.ones(period)
    like = np.convolve(x * y, window, "same")
    own = np.convolve(x * x, window, "same")
    return np.asarray(20.0 * np.log10(np.maximum(np.abs(like) / np.maximum(own, 1e-20), 1e-9)))


def burst(bench: Bench, question: BenchRequest) -> Result:
    """A square tone that steps from low to high and back: how the gain follows, and the times it takes. Its magnitude is
    constant, so that the times are the detector's own and not those of a wave that passes through nought.

    Attack: from the step up until 63 % of the change of gain (in dB) is done. Release: the time in which 63 % of the way back
    are done, by where it has done 5 and 63 %; hold: from the step down until it begins. (Giannoulis, Massberg and Reiss 2012
    count 1 - 1/e; that it is counted in dB is ours.)
    """
    rate = bench.rate
    hz = min(max(question.frequency_hz, 200.0), 0.1 * rate)
    rest, high = round(1.0 * rate), round(question.burst_ms * rate / 1000.0)
    after = round(2.0 * rate)
    period = 2 * round(0.5 * rate / hz)  # whole frames either half, so that a window holds exactly one period
    levels = np.repeat(
        [db_to_gain(question.low_dbfs), db_to_gain(question.level_dbfs), db_to_gain(question.low_dbfs)], (rest, high, after)
    )
    x = levels * np.where(np.arange(len(levels)) % period < period // 2, 1.0, -1.0)
    y = bench.run(x)
    gain = gain_trace(x, y, period)
    before = float(np.median(gain[rest // 2 : rest - period]))
    end = float(np.median(gain[rest + high - max(period, high // 10) : rest + high - period]))
    moved = end - before
    figures = [
        BenchFigure("before_db", "Gain before", before, "dB"),
        BenchFigure("during_db", "Gain at the burst's end", end, "dB"),
    ]
    attack = hold = release = overshoot = None
    if abs(moved) > 0.1:
        up = (gain[rest : rest + high - period] - before) / moved
        attack = first_at(up, 1.0 - math.exp(-1.0), rate)
        overshoot = max(0.0, float((up.max() - 1.0) * abs(moved)))
        # The window straddles the step for half a period on either side.
        down = (gain[rest + high + period // 2 : -period] - end) / (before - end)
        begun, done = first_at(down, 0.05, rate), first_at(down, 1.0 - math.exp(-1.0), rate)
        if done is not None and begun is not None:  # two places on the way back tell its time and when it began
            release = (done - begun) / (1.0 + math.log(0.95))
            hold = max(0.0, done - release)
    figures += [
        BenchFigure("attack_ms", "Attack, 63 %", attack, "ms"),
        BenchFigure("hold_ms", "Hold", hold, "ms"),
        BenchFigure("release_ms", "Release, 63 %", release, "ms"),
        BenchFigure("overshoot_db", "Overshoot", overshoot, "dB"),
        BenchFigure("resolution_ms", "Resolution", 1000.0 * period / rate, "ms"),
    ]
    shown = slice(rest - round(0.05 * rate), len(gain) - period)
    step = max(1, len(gain[shown]) // 1200)
    t = (np.arange(len(gain))[shown][::step] - rest) * 1000.0 / rate
    trace = gain[shown][::step]
    rows = [[round(float(a), 2), round(float(b), 3)] for a, b in zip(t, trace, strict=True)]
    return Result(
        "burst", figures, [BenchLine("gain", rounded(t, 2), rounded(trace, 3))], "ms from the burst", "gain, dB",
        marks=[Mark(0.0, before, "up"), Mark(question.burst_ms, end, "down")], columns=["time_ms", "gain_db"], table=rows,
    )  # fmt: skip


def first_at(share: Array, level: float, rate: int) -> float | None:
    """When a course that goes from 0 to 1 first gets there, in ms."""
    reached = np.flatnonzero(share >= level)
    return None if not len(reached) else float(reached[0]) * 1000.0 / rate
