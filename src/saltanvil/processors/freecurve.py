"""A curve drawn freely: compressor, expander and gate in one."""

import csv
import io
import json
from typing import Annotated, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, TypeAdapter, ValidationError, field_validator

from saltanvil.dsp import compress as dsp
from saltanvil.dsp.detector import detector_memory, longest_groups, lookahead_groups
from saltanvil.dsp.units import time_constant
from saltanvil.processors.aims import KEEP_LOUDNESS, level_aims, louder_aim
from saltanvil.processors.base import Audio, Context, Settings, Start, Telemetry, mixed_db, mixed_gain_db
from saltanvil.processors.compressor import MIN_KNEE_DB
from saltanvil.processors.descriptor import choice, described, rule
from saltanvil.processors.detectors import MAX_LOOKAHEAD_MS, KeyedProcessor, KeyedSettings, KeyFilter, averaging, lookahead_ring

MAX_POINTS = 16
#: Points nearer than this on the input axis would make a cliff.
MIN_GAP_DB = 0.5
MAX_CHANGE_DB = 90.0

Point = tuple[Annotated[float, Field(ge=-90.0, le=12.0)], Annotated[float, Field(ge=-120.0, le=12.0)]]
Points = Annotated[tuple[Point, ...], Field(min_length=2, max_length=MAX_POINTS)]
_POINTS: TypeAdapter[tuple[Point, ...]] = TypeAdapter(Points)
_HEAD = ("input_db", "output_db")


class FreeCurveSettings(KeyedSettings):
    points: Points = described(
        ((-70.0, -90.0), (-50.0, -50.0), (-20.0, -20.0), (0.0, -12.0)), "points", "Points", "dB", "Curve",
        "Input and output level of each point, in dB. Beyond the first and the last the gain stays.",
    )  # fmt: skip
    rounding_db: float = rule(
        6.0,
        "Rounding",
        "dB",
        0.0,
        30.0,
        "Curve",
        "Width over which each corner is rounded, as far as its neighbours leave room.",
        ticks=(0, 6, 12, 24),
    )
    detector: Literal["peak", "rms"] = choice("peak", "Detector", "Detector", "Peak follows every wave; RMS the mean power.")
    rms_ms: float = rule(
        10.0, "RMS time", "ms", 1.0, 300.0, "Detector", "Averaging time of the RMS detector.",
        scale="log", ticks=(1, 10, 100), when={"detector": ["rms"]},
    )  # fmt: skip
    stereo_link: float = rule(
        1.0, "Stereo link", "%", 0.0, 1.0, "Detector", "All: both sides get the same gain. None: each side for itself.",
        ticks=(0, 0.5, 1),
    )  # fmt: skip
    attack_ms: float = rule(
        5.0,
        "Attack",
        "ms",
        0.05,
        250.0,
        "Timing",
        "How fast a rising level is followed (63 %).",
        scale="log",
        ticks=(0.1, 1, 10, 100),
    )
    release_ms: float = rule(
        120.0,
        "Release",
        "ms",
        5.0,
        5000.0,
        "Timing",
        "How fast a falling level is followed (63 %).",
        scale="log",
        ticks=(10, 100, 1000),
    )
    lookahead_ms: float = rule(
        0.0,
        "Lookahead",
        "ms",
        0.0,
        MAX_LOOKAHEAD_MS,
        "Timing",
        "The detector reacts this early; adds the same latency.",
        ticks=(0, 5, 10, 20),
        moves="latency",
    )
    output_db: float = rule(0.0, "Output", "dB", -24.0, 24.0, "Output", "Gain after the curve.", ticks=(-12, 0, 12))
    mix: float = rule(1.0, "Mix", "%", 0.0, 1.0, "Output", "Treated sound against untreated sound.", ticks=(0, 0.5, 1))

    @field_validator("points")
    @classmethod
    def rising(cls, points: tuple[Point, ...]) -> tuple[Point, ...]:
        for (before, _), (after, _) in zip(points, points[1:], strict=False):
            if after < before + MIN_GAP_DB:
                raise ValueError(f"each point's input must be at least {MIN_GAP_DB} dB above the one before; {after:g} is not")
        return points


def bends_of(settings: FreeCurveSettings) -> tuple[float, NDArray[np.float64]]:
    """Reduction before the first point, and a bend at each point: a sum that makes the polyline less its input."""
    input_db = np.array([point[0] for point in settings.points])
    reduction = input_db - np.array([point[1] for point in settings.points])
    slopes = np.concatenate(([0.0], np.diff(reduction) / np.diff(input_db), [0.0]))
    gaps = np.concatenate(([np.inf], np.diff(input_db), [np.inf]))
    knees = np.minimum(settings.rounding_db, np.minimum(gaps[:-1], gaps[1:]))
    knees = np.where(knees < MIN_KNEE_DB, 0.0, knees)
    return float(reduction[0]), np.column_stack((input_db, np.diff(slopes), knees))


def points_to_csv(points: tuple[Point, ...]) -> str:
    """A line `input_db,output_db`, then one for each point."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(_HEAD)
    writer.writerows((f"{a:g}", f"{b:g}") for a, b in points)
    return out.getvalue()


def points_from_text(text: str) -> tuple[Point, ...]:
    """Points from JSON (`[[in, out], ...]`) or CSV with or without its head. Raises ValueError, saying what is wrong."""
    try:
        if text.lstrip().startswith("["):
            rows = json.loads(text)
        else:
            lines = [line for line in csv.reader(io.StringIO(text)) if any(cell.strip() for cell in line)]
            if lines and tuple(cell.strip() for cell in lines[0]) == _HEAD:
                lines = lines[1:]
            rows = [[float(cell) for cell in line] for line in lines]
        return FreeCurveSettings(points=_POINTS.validate_python(rows)).points
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        where = ", ".join(str(part + 1) for part in first["loc"] if isinstance(part, int))
        why = first["msg"].removeprefix("Value error, ")
        raise ValueError(f"the points cannot be used{f' (line {where})' if where else ''}: {why}") from error
    except (ValueError, csv.Error, RecursionError) as error:
        raise ValueError(f"the points cannot be read: {error}; write one `input,output` pair in dB a line") from error


STARTS = (
    Start(
        "gate and compressor in one",
        "Pauses should be silent and loud words held; move the two lower points until no word end is lost.",
        {"points": ((-60.0, -90.0), (-45.0, -45.0), (-14.0, -14.0), (0.0, -8.0)), "rounding_db": 6.0},
        KEEP_LOUDNESS,
    ),
    Start(
        "soft sounds up, loud sounds as they are",
        "Detail should come up without the hits changing; noise comes up too, so listen to the pauses.",
        {"points": ((-60.0, -60.0), (-45.0, -33.0), (-15.0, -12.0), (0.0, 0.0)), "rounding_db": 10.0, "detector": "rms"},
        KEEP_LOUDNESS,
    ),
    Start(
        "two thresholds: gentle, then firm",
        "Only shouts should meet the second corner.",
        {"points": ((-60.0, -60.0), (-18.0, -18.0), (-8.0, -12.0), (0.0, -10.5)), "rounding_db": 8.0},
        KEEP_LOUDNESS,
    ),
    Start(
        "hold everything at one level",
        "A crushed sound for a parallel blend: mix it in low.",
        {"points": ((-70.0, -70.0), (-55.0, -24.0), (0.0, -18.0)), "rounding_db": 12.0, "attack_ms": 8.0, "mix": 0.3},
    ),
    Start(
        "expand the middle, keep the peaks",
        "More contrast between soft and loud strokes, and a roof above.",
        {"points": ((-60.0, -76.0), (-14.0, -18.0), (-4.0, -4.0), (0.0, -1.0)), "rounding_db": 6.0},
    ),
    Start(
        "duck the loud parts under the rest",
        "The louder it is played, the softer it comes out: an effect.",
        {"points": ((-60.0, -60.0), (-24.0, -24.0), (-8.0, -28.0), (0.0, -36.0)), "rounding_db": 4.0},
        KEEP_LOUDNESS,
    ),
)  # fmt: skip


class FreeCurve(KeyedProcessor):
    """Output against input level as a line through points of your own.

        in --+--> lookahead -----------------------------------------------------(x)--> output, mix --> out
             |                                                                    ^
        key--+--> key filter --> peak or RMS --> attack, release --> line through the points

    The level is smoothed and not the gain, as the line may bend both ways (Giannoulis, Massberg and Reiss 2012, eq.
    16, decoupled). Corners are rounded by the same soft knee as the compressor's.

    >>> step = FreeCurve(FreeCurveSettings(points=((-60, -60), (0, 0))), 1, Context())
    >>> step.process(np.full((1, 2), 0.25, np.float32))
    array([[0.25, 0.25]], dtype=float32)
    """

    kind = "freecurve"
    label = "Free curve"
    about = (
        "Use it where no ready-made curve does it: lift the soft parts, leave the middle, hold the top. Each point says "
        "what comes out for what goes in."
    )
    aliases = ("transfer curve", "upward", "dynamics", "multi-stage")
    settings_model = FreeCurveSettings
    main = ("rounding_db", "attack_ms", "release_ms", "output_db")
    pictures = ("bite", "curve", "spectrum")
    starts = STARTS
    aims = (louder_aim("output_db"), *level_aims("output_db"))

    @classmethod
    def linear_gain_db(cls, settings: Settings) -> float:
        assert isinstance(settings, FreeCurveSettings)
        return mixed_gain_db(settings.output_db, settings.mix)

    @classmethod
    def summary(cls, settings: Settings) -> str:
        assert isinstance(settings, FreeCurveSettings)
        return f"{len(settings.points)} points"

    state = ("_key", "_ring", "_state", "_memory", "_bends")
    scratch = ("_work",)

    def __init__(self, settings: Settings, channels: int, context: Context) -> None:
        self._key = KeyFilter(channels)
        self._ring = lookahead_ring(channels, context.rate, dsp.CHUNK_FRAMES)
        self._state = np.zeros(dsp.STATE)
        self._work = np.empty((dsp.WORK_ROWS, dsp.WORK_FRAMES), np.float32)
        self._memory = detector_memory(channels, context.rate)
        self._bends = np.zeros((0, dsp.BEND))
        super().__init__(settings, channels, context)

    def configure(self, settings: Settings, context: Context) -> None:
        assert isinstance(settings, FreeCurveSettings)
        rate = context.rate
        base, self._curve = bends_of(settings)
        if len(self._curve) != len(self._bends):
            self._bends = self._curve.copy()  # a point more or less has nothing to glide from
        target = np.zeros(dsp.SETTINGS)
        target[dsp.BASE] = base
        target[dsp.RANGE] = MAX_CHANGE_DB
        target[dsp.BOOST] = MAX_CHANGE_DB
        target[dsp.MAKEUP] = settings.output_db
        target[dsp.MIX] = self._mix = settings.mix
        target[dsp.LINK] = settings.stereo_link
        target[dsp.FOLLOW] = 1.0
        target[dsp.ATTACK] = time_constant(settings.attack_ms, rate)
        target[dsp.RELEASE] = time_constant(settings.release_ms, rate)
        target[dsp.RMS] = averaging(settings.detector, settings.rms_ms, rate)
        target[dsp.LOOKAHEAD] = self.latency_of(settings, rate)
        target[dsp.LONGEST] = longest_groups(rate)
        target[dsp.GROUPS] = lookahead_groups(int(target[dsp.LOOKAHEAD]))
        self._target = target
        self._key.configure(settings, rate)

    def treat(self, x: Audio, key: Audio | None) -> Audio:
        self._target[dsp.GLIDE] = self.glide
        y = np.empty_like(x)
        trace = self.trace(2, x.shape[1])
        self.detector_input = self._key(x if key is None else key, self.glide)
        dsp.compress(
            x,
            self.detector_input,
            y,
            self._target,
            self._curve,
            self._bends,
            self._state,
            self._memory,
            self._ring,
            trace,
            self._work,
        )
        self.telemetry = Telemetry(mixed_db(trace[0], self._mix), trace[1])
        return y

    @classmethod
    def curve(cls, settings: Settings, levels_db: NDArray[np.float64]) -> NDArray[np.float64]:
        assert isinstance(settings, FreeCurveSettings)
        reduction, bends = bends_of(settings)
        taken = np.full_like(levels_db, reduction)
        for at, slope, knee in bends:
            into = np.clip(levels_db - at + knee / 2, 0.0, knee)
            taken += slope * into**2 / (2 * knee) if knee > 0.0 else 0.0
            taken += slope * np.maximum(levels_db - at - knee / 2, 0.0)
        wet = 10.0 ** ((settings.output_db - np.clip(taken, -MAX_CHANGE_DB, MAX_CHANGE_DB)) / 20.0)
        return levels_db + 20.0 * np.log10(np.maximum(1.0 + settings.mix * (wet - 1.0), 1e-8))
