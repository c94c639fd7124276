"""Width, balance and what else concerns the two sides."""

import math
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp import crossover
from saltanvil.dsp import stereo as dsp
from saltanvil.processors.base import Audio, Context, Processor, Settings, Start
from saltanvil.processors.descriptor import choice, rule

MONO_OFF_HZ = 20.0
MONO_SLOPE_DB = 24
DC_HZ = 5.0


class StereoSettings(Settings):
    width: float = rule(
        1.0, "Width", "%", 0.0, 2.0, "Sides", "How loud the sides are against the middle: 0 % is mono, 100 % as it came.",
        ticks=(0, 0.5, 1, 1.5, 2),
    )  # fmt: skip
    balance: float = rule(
        0.0, "Balance", "", -1.0, 1.0, "Sides", "Takes one side down; neither is ever raised.", ticks=(-1, 0, 1)
    )
    mono_below_hz: float = rule(
        MONO_OFF_HZ, "Mono below", "Hz", MONO_OFF_HZ, 1000.0, "Sides",
        "Mono below this frequency. The mid runs through the same all-pass, so the phase of mid and side agrees.",
        scale="log", ticks=(50, 100, 200, 500), off_at=MONO_OFF_HZ, moves="structure",
    )  # fmt: skip
    swap: bool = choice(False, "Swap sides", "Sides", "Left to the right and right to the left.")
    invert: Literal["none", "left", "right", "both"] = choice(
        "none", "Invert polarity", "Polarity", "Inverts the waveform of these sides."
    )
    dc_removal: bool = choice(
        False, "Remove DC", "Polarity", f"A high-pass at {DC_HZ:g} Hz: takes away a constant offset.", moves="structure"
    )

    def matrix(self) -> NDArray[np.float64]:
        """(4,): left from left and right, right from left and right."""
        angle = (self.balance + 1.0) * math.pi / 4.0
        sides = np.minimum(1.0, math.sqrt(2.0) * np.array([math.cos(angle), math.sin(angle)]))
        if self.balance == 0.0:
            sides[:] = 1.0
        own, other = 0.5 * (1.0 + self.width), 0.5 * (1.0 - self.width)
        result = np.array([[own, other], [other, own]]) * sides[:, None]
        if self.swap:
            result = result[:, ::-1]
        turned = [-1.0 if self.invert in (side, "both") else 1.0 for side in ("left", "right")]
        return np.ascontiguousarray(result * np.array(turned)[:, None]).ravel()


STARTS = (
    Start("bus: mono lows", "The bass should stand still in the middle on headphones.", {"mono_below_hz": 120.0}),
    Start("overheads: a little wider", "Widen until a cymbal loses its position, then back off; check in mono.", {"width": 1.3}),
    Start("pad: narrow, out of the way", "It should leave the outer edges to the guitars.", {"width": 0.6}),
    Start("voice recorded off the middle", "The voice should sit in the middle when you close your eyes.", {"balance": -0.2}),
    Start("check for cancellation", "If the low end comes back, one side was upside down.", {"invert": "right"}),
    Start(
        "clean a track with an offset", "You should hear no change; the waveform is centred on the line.", {"dc_removal": True}
    ),
)


class Stereo(Processor):
    """Width, balance, mono lows, polarity, swapped sides, offset removed.

        in --> offset --> swap, width, balance, polarity (a matrix) --> middle: all-pass ----+--> out
                                                                    --> sides: high-pass ---+

    A mono signal has no sides: only polarity and offset concern it.

    >>> Stereo(StereoSettings(width=0.0), 2, Context()).process(np.array([[1.0], [0.0]], np.float32)).ravel()
    array([0.5, 0.5], dtype=float32)
    """

    kind = "stereo"
    label = "Stereo"
    about = (
        "Use it to widen or narrow a bus, or to bring its lows to the middle. Press Mono to hear what is left for those "
        "who listen so."
    )
    aliases = ("width", "mono", "polarity", "phase", "DC", "balance", "M/S")
    settings_model = StereoSettings
    main = ("width", "balance")
    starts = STARTS

    @classmethod
    def summary(cls, settings: Settings) -> str:
        assert isinstance(settings, StereoSettings)
        return f"width {100 * settings.width:.0f} %"

    state = ("_matrix", "_dc", "_dc_position", "_now", "_before", "_memory", "_state")
    scratch = ("_work",)

    def __init__(self, settings: Settings, channels: int, context: Context) -> None:
        self._matrix = np.zeros(dsp.STATE)
        self._dc = np.zeros((channels, 2))
        self._dc_position = np.zeros(1, np.int64)
        self._program = crossover.program(1)
        self._now, self._before = np.ones(1), np.ones(1)
        self._memory = np.zeros((1, crossover.SECTIONS, 4))
        self._state = np.zeros(3)
        self._work = np.zeros((crossover.WORK_ROWS, 2, crossover.WORK_FRAMES))
        super().__init__(settings, channels, context)

    @classmethod
    def structural_key(cls, settings: Settings) -> tuple[object, ...]:
        assert isinstance(settings, StereoSettings)
        return settings.mono_below_hz > MONO_OFF_HZ, settings.dc_removal

    def configure(self, settings: Settings, context: Context) -> None:
        assert isinstance(settings, StereoSettings)
        self.settings = settings
        self._wanted = settings.matrix()
        self._pole = 1.0 - 2.0 * math.pi * DC_HZ / context.rate
        self._tangent = crossover.tangents((settings.mono_below_hz,), context.rate)

    def treat(self, x: Audio, key: Audio | None) -> Audio:
        if self.settings.dc_removal:
            y = np.empty_like(x)
            dsp.block_dc(x, y, self._pole, self._dc, self._dc_position)
            x = y
        if self.channels == 1:
            return -x if self.settings.invert in ("left", "both") else x.copy()
        y = np.empty_like(x)
        dsp.matrix(x, y, self._wanted, self.glide, self._matrix)
        if self.settings.mono_below_hz <= MONO_OFF_HZ:
            return y
        self._state[crossover.PART] = self.glide
        middle_and_side = np.stack((0.5 * (y[0] + y[1]), 0.5 * (y[0] - y[1])))
        bands = np.empty((2, *x.shape), np.float32)
        slope, glide = MONO_SLOPE_DB, (self._tangent, self._now, self._before)
        dampings = crossover.DAMPINGS[slope]
        crossover.divide(middle_and_side, bands, self._program, *glide, slope, *dampings, self._memory, self._state, self._work)
        middle, side = bands[0, 0] + bands[1, 0], bands[1, 1]
        return np.stack((middle + side, middle - side))
