"""The bench: known signals through a path with its present settings, and what came out of them.

Every test runs the engine itself on signals of its own (`saltanvil.engine.through`), so what it measures is what sounds
and rendered. Detectors whose key lies outside the path get the test signal as their key.
"""

import math
from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.units import db_to_gain, gain_to_db
from saltanvil.engine.path_runner import PathRunner
from saltanvil.engine.render import Cancelled
from saltanvil.measure import distortion
from saltanvil.measure.spectrum import average_db, centres_hz
from saltanvil.processors import processor_named
from saltanvil.session.document import Path, Session, Step
from saltanvil.session.settings import Automation
from saltanvil.studies.scope.pictures import rounded

Test = Literal["harmonics", "intermodulation", "aliasing", "curve", "burst", "impulse", "noise"]
TESTS: tuple[Test, ...] = ("harmonics", "intermodulation", "aliasing", "curve", "burst", "impulse", "noise")

FRAMES = 1 << 16
SHORT_FRAMES = 1 << 14
#: Time for detectors and filters to settle before a tone is measured.
SETTLE_S = 1.0
SHORT_SETTLE_S = 0.4
#: Direct current that is taken out below 5 Hz is gone by 180 dB.
SWEEP_SETTLE_S = 0.66
#: A tone goes on after the part that is measured, or a filter with its middle there would see it end.
TAIL_FRAMES = 4096
LADDER_DB = tuple(range(-60, 1, 6))
CURVE_DB = tuple(range(-72, 1, 3))
SWEEP_STEPS = 56
SWEEP_LOW_HZ, SWEEP_HIGH_HZ = 100.0, 18000.0
SPECTRUM_POINTS = 600
FLOOR_DB = -180.0

Audio = NDArray[np.float32]
Array = NDArray[np.float64]


class Bench:
    """A path on the bench. progress: told the share that is done; cancelled: asked between runs.

    Raises Cancelled, and ValueError for a question that makes no sense at this rate.
    """

    def __init__(
        self,
        path: Path,
        rate: int = 48000,
        channels: int = 1,
        tempo_bpm: float = 120.0,
        progress: Callable[[float], None] = lambda share: None,
        cancelled: Callable[[], bool] = lambda: False,
    ) -> None:
        self.path, self.rate, self.channels, self.tempo_bpm = path, rate, channels, tempo_bpm
        self.progress, self.cancelled = progress, cancelled
        self.latency_frames = 0

    def run(self, x: Array) -> Array:
        """A signal, (frames,), on all channels through the path; what leaves on the first, aligned as it is declared."""
        if self.cancelled():
            raise Cancelled
        sound = np.ascontiguousarray(np.tile(x.astype(np.float32), (self.channels, 1)))
        through = PathRunner(self.path, sound, self.rate, self.tempo_bpm)
        self.latency_frames = through.late
        return np.asarray(through.run()[0], dtype=np.float64)

    def tone(self, hz: float, level_db: float, frames: int, settle_s: float) -> tuple[Array, float]:
        """The settled part of a sine that fits the frames, as it leaves; and its frequency."""
        fits = distortion.fitting_hz(hz, frames, self.rate)
        lead = -(-round(settle_s * self.rate) // frames) * frames if settle_s * self.rate > frames else frames
        t = np.arange(lead + frames + TAIL_FRAMES) / self.rate
        return self.run(db_to_gain(level_db) * np.sin(2.0 * np.pi * fits * t))[lead : lead + frames], fits


@dataclass(frozen=True)
class Line:
    """A picture's line, with the unit of each axis in its name."""

    name: str
    x: list[float]
    y: list[float]


@dataclass(frozen=True)
class BenchFigure:
    name: str
    label: str
    value: float | None
    unit: str


@dataclass(frozen=True)
class Mark:
    """A place in the picture with a word."""

    x: float
    y: float
    text: str


@dataclass(frozen=True)
class Result:
    """What a test gave. x_label, y_label: the axes, with units; log_x: whether frequencies are drawn in octaves. grid: rows of
    levels in dB by place, for a picture in two dimensions, with its rows' y; `lines` otherwise. table: rows of figures."""

    test: Test
    figures: list[BenchFigure]
    lines: list[Line]
    x_label: str
    y_label: str
    log_x: bool = False
    marks: list[Mark] = field(default_factory=list)
    columns: list[str] = field(default_factory=list)
    table: list[list[float]] = field(default_factory=list)
    grid: list[list[int]] = field(default_factory=list)
    grid_x: list[float] = field(default_factory=list)
    grid_y: list[float] = field(default_factory=list)

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


@dataclass(frozen=True)
class Question:
    """What is asked of the bench. level_dbfs: peak of the test signal; low_dbfs: the burst's rest."""

    test: Test
    frequency_hz: float = 1000.0
    level_dbfs: float = -12.0
    low_dbfs: float = -40.0
    burst_ms: float = 400.0
    compare: bool = False


def measured(bench: Bench, question: Question) -> Result:
    if question.frequency_hz >= 0.45 * bench.rate:
        raise ValueError(f"a tone of {question.frequency_hz:g} Hz is too high for a rate of {bench.rate} Hz")
    run: dict[Test, Callable[[Bench, Question], Result]] = {
        "harmonics": harmonics,
        "intermodulation": intermodulation,
        "aliasing": aliasing,
        "curve": curve,
        "burst": burst,
        "impulse": impulse,
        "noise": noise,
    }
    result = run[question.test](bench, question)
    bench.progress(1.0)
    return result


# ---- tones -----------------------------------------------------------------------------------------------------------


def spectrum_line(name: str, x: Array, rate: int) -> Line:
    """The highest line of each of SPECTRUM_POINTS stretches of the frequency axis, even in octaves, so that none is lost."""
    power = distortion.lines(x)
    hz = np.arange(len(power)) * rate / len(x)
    edges = np.unique(np.searchsorted(hz, np.geomspace(20.0, rate / 2, SPECTRUM_POINTS)))
    edges = edges[edges < len(power)]
    highest = [int(a + power[a:b].argmax()) for a, b in zip(edges, [*edges[1:], len(power)], strict=True) if b > a]
    level = 10.0 * np.log10(np.maximum(power[highest], 10.0 ** (FLOOR_DB / 10.0)))
    return Line(name, rounded(hz[highest], 1), rounded(level, 1))


def harmonics(bench: Bench, question: Question) -> Result:
    """Spectrum with its harmonics, and THD against level. IEC 60268-3 (THD), AES17 (THD+N)."""
    y, hz = bench.tone(question.frequency_hz, question.level_dbfs, FRAMES, SETTLE_S)
    found = distortion.harmonics_of(y, bench.rate, hz)
    ladder = []
    for number, level in enumerate(LADDER_DB):
        bench.progress(0.3 + 0.7 * number / len(LADDER_DB))
        step, at = bench.tone(question.frequency_hz, level, SHORT_FRAMES, SHORT_SETTLE_S)
        stated = distortion.harmonics_of(step, bench.rate, at)
        ladder.append([float(level), stated.fundamental_dbfs, stated.thd_db, stated.thdn_db])
    marks = [
        Mark(hz * (n + 2), found.fundamental_dbfs + level, f"H{n + 2}")
        for n, level in enumerate(found.harmonics_db)
        if found.fundamental_dbfs + level > -150.0
    ]
    orders = [BenchFigure(f"h{n + 2}_db", f"H{n + 2}", level, "dB re H1") for n, level in enumerate(found.harmonics_db)]
    figures = [
        BenchFigure("frequency_hz", "Tone", hz, "Hz"),
        BenchFigure("fundamental_dbfs", "Output level", found.fundamental_dbfs, "dBFS"),
        BenchFigure("thd_db", "THD", found.thd_db, "dB"),
        BenchFigure("thd_percent", "THD", 100.0 * db_to_gain(found.thd_db), "%"),
        BenchFigure("thdn_db", "THD+N", found.thdn_db, "dB"),
        BenchFigure("even_share", "Even share", 100.0 * found.even_share, "%"),
        *orders,
    ]
    return Result(
        "harmonics", figures, [spectrum_line("spectrum", y, bench.rate)], "Hz", "dBFS", True,
        [Mark(hz, found.fundamental_dbfs, "H1"), *marks],
        ["level_dbfs", "out_dbfs", "thd_db", "thdn_db"], [rounded(np.array(row), 2) for row in ladder],
    )  # fmt: skip


def two_tones(bench: Bench, low_hz: float, high_hz: float, ratio: float, level_db: float) -> tuple[Array, float, float]:
    """Two tones that fit, the low one `ratio` times as strong, their sum peaking at the level."""
    low, high = (round(hz * FRAMES / bench.rate) * bench.rate / FRAMES for hz in (low_hz, high_hz))
    t = np.arange(2 * FRAMES + TAIL_FRAMES) / bench.rate
    both = (ratio * np.sin(2 * np.pi * low * t) + np.sin(2 * np.pi * high * t)) / (1.0 + ratio)
    return bench.run(db_to_gain(level_db) * both)[FRAMES : 2 * FRAMES], low, high


def intermodulation(bench: Bench, question: Question) -> Result:
    """SMPTE (60 Hz and 7 kHz, 4:1) and difference frequency (19 and 20 kHz), IEC 60268-3."""
    y, low, high = two_tones(bench, *distortion.SMPTE_HZ, distortion.SMPTE_RATIO, question.level_dbfs)
    smpte = distortion.smpte_of(y, bench.rate, low, high)
    bench.progress(0.5)
    z, low, high = two_tones(bench, *distortion.DIFFERENCE_HZ, 1.0, question.level_dbfs)
    difference = distortion.difference_of(z, bench.rate, low, high)
    rows = [[hz, level] for found in (smpte, difference) for hz, level in zip(found.products_hz, found.products_db, strict=True)]
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


@dataclass(frozen=True)
class Sweep:
    """Stepped: each tone fits its stretch, so what is no harmonic is known exactly. levels_db: (tones, bands)."""

    tones_hz: list[float]
    strongest_db: list[float]
    strongest_hz: list[float]
    levels_db: Array
    bands_hz: Array

    @property
    def worst(self) -> int:
        return int(np.argmax(self.strongest_db))


def swept(bench: Bench, level_db: float, done: float, share: float) -> Sweep:
    top = min(SWEEP_HIGH_HZ, 0.42 * bench.rate)
    question = np.geomspace(SWEEP_LOW_HZ, top, SWEEP_STEPS)
    edges = np.geomspace(20.0, bench.rate / 2, 97)
    tones, strongest, where, grid = [], [], [], []
    for number, hz in enumerate(question):
        bench.progress(done + share * number / len(question))
        y, fits = bench.tone(float(hz), level_db, SHORT_FRAMES, SWEEP_SETTLE_S)
        found = distortion.harmonics_of(y, bench.rate, fits)
        tones.append(fits)
        strongest.append(found.strongest_db)
        where.append(found.strongest_hz)
        power = distortion.lines(y)
        at = np.searchsorted(edges, np.arange(len(power)) * bench.rate / len(y)) - 1
        column = np.full(len(edges) - 1, 10.0 ** (FLOOR_DB / 10.0))
        inside = (at >= 0) & (at < len(column))
        np.maximum.at(column, at[inside], power[inside])
        grid.append(10.0 * np.log10(column))
    return Sweep(tones, strongest, where, np.array(grid), np.sqrt(edges[1:] * edges[:-1]))


def aliasing(bench: Bench, question: Question) -> Result:
    """A sweep in steps as a spectrogram, with the strongest product that is no harmonic; and, to compare, the same figure
    at every oversampling that the path's steps offer."""
    ways = oversamplings(bench.path) if question.compare else []
    share = 1.0 / (1 + len(ways))
    sweep = swept(bench, question.level_dbfs, 0.0, share)
    worst = sweep.worst
    figures = [
        BenchFigure("alias_db", "Worst alias", sweep.strongest_db[worst], "dB re the tone"),
        BenchFigure("alias_hz", "at", sweep.strongest_hz[worst], "Hz"),
        BenchFigure("alias_of_hz", "of a tone of", sweep.tones_hz[worst], "Hz"),
        *(BenchFigure("oversampling", "Oversampling", float(way[:-1]), "x") for way in least_oversampling(bench.path)),
    ]
    for number, way in enumerate(ways):
        other = Bench(
            with_oversampling(bench.path, way), bench.rate, bench.channels, bench.tempo_bpm, bench.progress, bench.cancelled
        )
        found = swept(other, question.level_dbfs, (1 + number) * share, share)
        figures.append(BenchFigure(f"alias_{way}_db", f"at {way}", found.strongest_db[found.worst], "dB re the tone"))
    rows = zip(sweep.tones_hz, sweep.strongest_hz, sweep.strongest_db, strict=True)
    return Result(
        "aliasing", figures,
        [Line("strongest fold", rounded(np.array(sweep.tones_hz), 1), rounded(np.array(sweep.strongest_db), 1))],
        "tone, Hz", "Hz", True, [Mark(sweep.tones_hz[worst], sweep.strongest_hz[worst], f"{sweep.strongest_db[worst]:.0f} dB")],
        ["tone_hz", "fold_hz", "fold_db"], [rounded(np.array(row), 1) for row in rows],
        np.rint(sweep.levels_db).astype(int).tolist(), rounded(np.array(sweep.tones_hz), 1), rounded(sweep.bands_hz, 1),
    )  # fmt: skip


def least_oversampling(path: Path) -> list[str]:
    """What the figures were measured at: the lowest oversampling of the path's steps, if they have any."""
    found = [getattr(step.settings, "oversampling", None) for step in path.walk() if not step.bypass]
    return sorted((way for way in found if way is not None), key=lambda way: int(way[:-1]))[:1]


def oversamplings(path: Path) -> list[str]:
    """The oversampling settings that steps of the path offer."""
    for step in path.walk():
        found = type(step.settings).model_json_schema()["properties"].get("oversampling")
        if found is not None:
            return list(found["enum"])
    return []


def with_oversampling(path: Path, way: str) -> Path:
    copy = path.model_copy(deep=True)
    for step in copy.walk():
        if "oversampling" in type(step.settings).model_fields:
            step.settings = step.settings.model_copy(update={"oversampling": way})
    return copy


# ---- levels and times ------------------------------------------------------------------------------------------------


def curve(bench: Bench, question: Question) -> Result:
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
    lines = [Line("measured", [float(level) for level in CURVE_DB], rounded(np.array(out)))]
    steps = [step for step in bench.path.steps if not step.bypass]
    largest = None
    if len(steps) == 1:
        levels = np.array(CURVE_DB, dtype=np.float64)
        stated = processor_named(steps[0].kind).curve(steps[0].settings, levels)
        if stated is not None:
            lines.append(Line("set", [float(level) for level in CURVE_DB], rounded(np.maximum(stated, -120.0))))
            heard = stated > -100.0
            largest = float(np.abs(np.array(out) - stated)[heard].max()) if heard.any() else 0.0
    figures = [BenchFigure("largest_apart_db", "Measured and set differ by at most", largest, "dB")]
    rows = [[float(level), round(value, 2)] for level, value in zip(CURVE_DB, out, strict=True)]
    return Result("curve", figures, lines, "in, dBFS", "out, dBFS", columns=["in_dbfs", "out_dbfs"], table=rows)


def gain_trace(x: Array, y: Array, period: int) -> Array:
    """Gain in dB of a tone, over one period around each frame: what of y is like x, whatever was added to it."""
    window = np.ones(period)
    like = np.convolve(x * y, window, "same")
    own = np.convolve(x * x, window, "same")
    return np.asarray(20.0 * np.log10(np.maximum(np.abs(like) / np.maximum(own, 1e-20), 1e-9)))


def burst(bench: Bench, question: Question) -> Result:
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
        "burst", figures, [Line("gain", rounded(t, 2), rounded(trace, 3))], "ms from the burst", "gain, dB",
        marks=[Mark(0.0, before, "up"), Mark(question.burst_ms, end, "down")], columns=["time_ms", "gain_db"], table=rows,
    )  # fmt: skip


def first_at(share: Array, level: float, rate: int) -> float | None:
    """When a course that goes from 0 to 1 first gets there, in ms."""
    reached = np.flatnonzero(share >= level)
    return None if not len(reached) else float(reached[0]) * 1000.0 / rate


def impulse(bench: Bench, question: Question) -> Result:
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
        "impulse", figures, [Line("level", rounded(hz, 1), rounded(level, 3))], "Hz", "dB", True,
        columns=["frequency_hz", "level_db", "phase_deg"], table=rows,
    )  # fmt: skip


def noise(bench: Bench, question: Question) -> Result:
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
        [BenchFigure(f"{side}_dbfs", f"RMS {side}", held, "dBFS") for side, held in zip(("before", "after"), rms, strict=True)],
        [Line("before", rounded(hz, 1), rounded(before, 1)), Line("after", rounded(hz, 1), rounded(after, 1))],
        "Hz", "dB re full-scale sine, 1/6 octave", True, columns=["frequency_hz", "before_db", "after_db"], table=rows,
    )  # fmt: skip


# ---- scopes ----------------------------------------------------------------------------------------------------------


def path_on_bench(session: Session, strip_id: str, step_id: str | None, lane_id: str | None, whole: bool) -> Path:
    """What of a session is put on the bench: a step, a lane's path, a strip's path, or (whole) with its trim and level.

    Keys from outside are left out; levers are counted in, and nothing moves over time: a test signal has no place in the song.
    Raises NotFound.
    """
    automation = Automation(session)
    strip = automation.now("strip", strip_id, session.strip(strip_id))
    if step_id is not None:
        path = Path(steps=[session.step(step_id).step.model_copy(deep=True)])
        path.steps[0].bypass = False
    else:
        path = session.path(strip_id, lane_id).model_copy(deep=True)
    path.levers = []
    inside = {*path.ids()}
    for step in path.walk():
        step.settings = automation.now("step", step.id, step).settings
        step.envelopes = {}
        for lane in step.lanes:
            lane.level_db, lane.envelopes = automation.now("lane", lane.id, lane).level_db, {}
        if step.key is not None:
            step.key = automation.now("key", step.id, step.key).model_copy(update={"envelopes": {}})
        if step.key is not None and not (step.key.own or inside & {step.key.step_id, step.key.lane_id}):
            step.key = None
        for lane in step.lanes:
            lane.output = None
    if whole and step_id is None and lane_id is None:
        path.steps = [
            trim_step("bench-trim", strip.trim_db),
            *path.steps,
            trim_step("bench-level", max(strip.level_db, -60.0)),
        ]
    return path


def trim_step(name: str, gain_db: float) -> Step:
    return Step.model_validate({"id": name, "kind": "trim", "settings": {"gain_db": gain_db}})


def csv_of(result: Result) -> str:
    """The table of a result with a head of its columns, after the figures as comments."""
    head = [
        f"# {figure.label},{'' if figure.value is None else f'{figure.value:.6g}'},{figure.unit}" for figure in result.figures
    ]
    rows = [",".join(f"{value:.6g}" for value in row) for row in result.table]
    return "\n".join([*head, ",".join(result.columns), *rows, ""])
