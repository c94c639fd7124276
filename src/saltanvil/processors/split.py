"""A split's own part: what divides a signal into lanes, and how the lanes lie in the sum.

The lanes' paths belong to the document, and the engine runs them between `divide` and the sum.
"""

import math
from typing import Annotated, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, field_validator

from saltanvil.dsp import crossover as dsp
from saltanvil.processors.aims import Aim, crest_after, louder_aim, named, peak_aim
from saltanvil.processors.base import Audio, Context, Processor, Settings
from saltanvil.processors.descriptor import choice, described, rule
from saltanvil.processors.filters import slope_db
from saltanvil.processors.linearphase import LinearPhase, Response, half_frames

SplitMode = Literal["copies", "bands", "mid/side", "left/right"]

#: Dividers nearer to each other than this leave no band between them.
MIN_RATIO = 1.1
#: Linear-phase bands at 44.1 and 48 kHz: long enough for 24 dB/oct at 80 Hz; late by the sum of the two.
HALF_FRAMES, STRETCH_FRAMES = 4095, 2048
ROOT_HALF = math.sqrt(0.5)

LOWEST_HZ, HIGHEST_HZ = 20.0, 20000.0
Divider = Annotated[float, Field(ge=LOWEST_HZ, le=HIGHEST_HZ)]
Dividers = Annotated[tuple[Divider, ...], Field(min_length=1, max_length=dsp.MAX_BANDS - 1)]

#: Two, three and four bands to begin with (common practice, no source).
BAND_STARTS: dict[int, tuple[float, ...]] = {
    2: (80.0,),
    3: (200.0, 2000.0),
    4: (120.0, 500.0, 5000.0),
    5: (120.0, 500.0, 2000.0, 6000.0),
    6: (80.0, 200.0, 600.0, 2000.0, 6000.0),
}

_BANDS = {"by": ["bands"]}
_BLEND = {"by": ["copies"], "blend": ["True", "true"]}


class SplitSettings(Settings):
    by: SplitMode = choice(
        "copies",
        "By",
        "Split",
        "Copies of the whole; bands of frequency; the middle and the sides; the left and the right.",
        moves="latency",
    )
    dividers_hz: Dividers = described(
        BAND_STARTS[2], "dividers", "Dividers", "Hz", "Split",
        "Where one band ends and the next begins; each side is 6 dB down there.", when=_BANDS, moves="structure",
        low=LOWEST_HZ, high=HIGHEST_HZ,
    )  # fmt: skip
    slope: Literal["12 dB/oct", "24 dB/oct", "48 dB/oct"] = choice(
        "24 dB/oct",
        "Slope",
        "Split",
        "Crossover slope.",
        when=_BANDS,
        moves="structure",
    )
    phase: Literal["minimum", "linear"] = choice(
        "minimum", "Phase", "Split",
        "Minimum: no latency; the sum is an all-pass (phase shift). Linear: the sum is the sound itself, "
        "with about 0.1 s of latency, and a little pre-ringing on hits.",
        when=_BANDS, moves="latency",
    )  # fmt: skip
    blend: bool = choice(
        True, "Blend", "Blend", "With two lanes: one control from the untreated lane to the treated one. Off: a sum.",
        when={"by": ["copies"]},
    )  # fmt: skip
    law: Literal["linear", "equal power", "steady"] = choice(
        "steady", "Law", "Blend",
        "Linear: shares add up to one. Equal power: for two sides that have nothing in common. "
        "Constant loudness: both sides are measured, and the loudness stays that of the untreated side throughout.",
        when=_BLEND, words={"steady": "constant loudness"},
    )  # fmt: skip
    position: float = rule(
        0.0, "Blend", "%", 0.0, 1.0, "Blend", "From untreated (0 %) to treated (100 %).",
        ticks=(0, 0.25, 0.5, 0.75, 1), when=_BLEND,
    )  # fmt: skip
    trim_db: float = rule(
        0.0, "Wet trim", "dB", -24.0, 24.0, "Blend", "Moves the treated side against the match that was found.",
        ticks=(-12, -6, 0, 6, 12), when=_BLEND,
    )  # fmt: skip

    @field_validator("dividers_hz")
    @classmethod
    def rising(cls, dividers: tuple[float, ...]) -> tuple[float, ...]:
        for before, after in zip(dividers, dividers[1:], strict=False):
            if after < MIN_RATIO * before:
                raise ValueError(
                    f"dividers rise, each at least a tenth above the one before; {after:g} Hz is too near {before:g} Hz"
                )
        return dividers

    def lane_count(self) -> int | None:
        """How many lanes there must be; None for copies, whose number is free."""
        return {"copies": None, "bands": len(self.dividers_hz) + 1}.get(self.by, 2)


class Split(Processor):
    """Splits the signal into lanes, each with its own path, and sums them again.

        in --+--> lane 1: steps --> level, polarity --+--> sum --> out
             +--> lane 2: steps --> level, polarity --+
             +--> ...                                 |
                  (lanes are delayed to the latest) --+

    By copies every lane gets the whole; by bands a crossover cuts it (see `saltanvil.dsp.crossover`), in linear phase
    by differences of low-passes; mid and side, left and right are scaled so that an idle split leaves its input as it is.

    >>> Split(SplitSettings(by="mid/side"), 2, Context()).divide(np.ones((2, 4), np.float32))[0][0, 0].round(4)
    np.float32(1.4142)
    """

    kind = "split"
    aims = (
        peak_aim("position", target=3.0),
        Aim("crest_db", *named("crest_db"), crest_after, ("position",), 14.0, 1.0, 60.0),
        louder_aim("position"),
    )
    matched = True
    label = "Split"
    about = (
        "Use it to treat bands, the middle and the sides, or an untreated copy apart. A blend goes from the untreated to "
        "the treated lane at constant loudness."
    )
    aliases = ("parallel", "multiband", "crossover", "bands", "mid/side", "M/S", "dry/wet", "sidechain")
    settings_model = SplitSettings
    pictures = ("bands", "bite", "spectrum")

    @classmethod
    def summary(cls, settings: Settings) -> str:
        assert isinstance(settings, SplitSettings)
        if settings.by == "bands":
            return f"{settings.slope}{', linear' if settings.phase == 'linear' else ''}"
        law = "constant" if settings.law == "steady" else f"{settings.law} law"
        return law if settings.by == "copies" and settings.blend else "sum"

    state = ("_linear", "_now", "_before", "_memory", "_state")
    scratch = ("_work",)

    def __init__(self, settings: Settings, channels: int, context: Context) -> None:
        assert isinstance(settings, SplitSettings)
        half = half_frames(context.rate, HALF_FRAMES)
        self._linear = LinearPhase(channels, half, STRETCH_FRAMES) if settings.phase == "linear" else None
        count = len(settings.dividers_hz)
        self._now, self._before = np.ones(count), np.ones(count)
        self._program = dsp.program(count)
        self._memory = np.zeros((len(self._program), dsp.SECTIONS, 4))
        self._state = np.zeros(3)
        self._work = np.zeros((dsp.WORK_ROWS, 2, dsp.WORK_FRAMES))
        self._dividers: tuple[object, ...] = ()
        super().__init__(settings, channels, context)

    @classmethod
    def structural_key(cls, settings: Settings) -> tuple[object, ...]:
        assert isinstance(settings, SplitSettings)
        if settings.by != "bands":
            return (settings.by,)
        return (settings.by, settings.slope, settings.phase, len(settings.dividers_hz))

    def configure(self, settings: Settings, context: Context) -> None:
        assert isinstance(settings, SplitSettings)
        self.settings = settings
        self._wanted = dsp.tangents(settings.dividers_hz, context.rate)
        slope = slope_db(settings.slope)
        if self._linear is not None and (settings.dividers_hz, slope) != self._dividers:
            self._dividers = (settings.dividers_hz, slope)
            self._linear.set([low_response(hz, slope) for hz in settings.dividers_hz], context.rate)

    @classmethod
    def low_latency_settings(cls, settings: Settings) -> Settings:
        return settings.model_copy(update={"phase": "minimum"})

    @classmethod
    def latency_of(cls, settings: Settings, rate: int) -> int:
        """Of dividing alone; what the lanes' paths take comes on top."""
        assert isinstance(settings, SplitSettings)
        linear = settings.by == "bands" and settings.phase == "linear"
        return half_frames(rate, HALF_FRAMES) + STRETCH_FRAMES if linear else 0

    def divide(self, x: Audio) -> Audio:
        """What enters the lanes, (lanes, channels of a lane, frames); of copies one, for all.

        Mid/side and left/right lanes are mono. A mono signal is all middle and all left.
        """
        self.started = True
        if self.settings.by == "copies":
            return x[None]
        if self.settings.by == "bands":
            return self._bands(x)
        nothing = np.zeros((1, x.shape[1]), np.float32)
        if self.settings.by == "left/right":
            return np.stack([x[:1], x[1:] if len(x) == 2 else nothing])
        if len(x) == 1:
            return np.stack([x * np.float32(2.0 * ROOT_HALF), nothing])
        scale = np.float32(ROOT_HALF)
        return np.stack([(x[:1] + x[1:]) * scale, (x[:1] - x[1:]) * scale])

    def _bands(self, x: Audio) -> Audio:
        if self._linear is not None:
            lows = self._linear(x)  # the last is the whole
            bands: Audio = np.stack([lows[0], *(high - low for low, high in zip(lows, lows[1:], strict=False))])
            return bands
        slope = slope_db(self.settings.slope)
        bands = np.empty((len(self._wanted) + 1, *x.shape), np.float32)
        self._state[dsp.PART] = self.glide
        operations, glide = self._program, (self._wanted, self._now, self._before)
        dsp.divide(x, bands, operations, *glide, slope, *dsp.DAMPINGS[slope], self._memory, self._state, self._work)
        return bands

    @staticmethod
    def places(by: SplitMode, channels: int, lanes: int) -> list[tuple[float, float]]:
        """Gains of each lane to the left and the right of the sum (a mono sum takes the left)."""
        if by == "mid/side":
            return [(ROOT_HALF, ROOT_HALF), (ROOT_HALF, -ROOT_HALF)]
        if by == "left/right":
            return [(1.0, 0.0), (0.0, 1.0)]
        return [(1.0, 1.0)] * lanes

    def treat(self, x: Audio, key: Audio | None) -> Audio:
        """The idle sum, every lane at full level."""
        lanes = self.divide(x)
        if self.settings.by in ("copies", "bands"):
            y: Audio = lanes[0].copy()
            for lane in lanes[1:]:
                y += lane
            return y
        places = self.places(self.settings.by, self.channels, len(lanes))
        sides = [
            sum(np.float32(gains[c]) * lane for gains, lane in zip(places, lanes, strict=True)) for c in range(self.channels)
        ]
        return np.concatenate(sides)


def low_response(divider_hz: float, slope: int) -> Response:
    """The low side of a divider, for a filter without phase."""
    return lambda hz: dsp.low_gain(hz, divider_hz, slope)


def band_gains_db(settings: SplitSettings, frequencies_hz: NDArray[np.float64], rate: int) -> NDArray[np.float64]:
    """Magnitude of each band at the frequencies, (bands, frequencies)."""
    slope = slope_db(settings.slope)
    axis = np.asarray([*settings.dividers_hz, *frequencies_hz], dtype=np.float64)
    if settings.phase == "minimum":  # the trapezoidal rule of these filters bends the frequency axis
        axis = np.tan(np.pi * np.minimum(axis, 0.49 * rate) / rate)
    dividers, gains = axis[: len(settings.dividers_hz)], axis[len(settings.dividers_hz) :]
    result = np.zeros((len(settings.dividers_hz) + 1, len(frequencies_hz)))
    for index, divider in enumerate(dividers):
        along = gains / divider
        low = dsp.low_gain(along, 1.0, slope)
        result[index] += 20.0 * np.log10(np.maximum(low, 1e-8))
        result[index + 1 :] += 20.0 * np.log10(np.maximum(low * along ** (slope // 6), 1e-8))
    return result
