"""The colours: four characters of one stage, used by the saturator and by the compressor's output.

in --> emphasis --> drive --> highs lost, squeezed, biased --> up --> curve --> down --> emphasis undone --> out
"""

from dataclasses import dataclass
from functools import cache, lru_cache
from typing import ClassVar, Literal, get_args

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp import biquad
from saltanvil.dsp import saturate as dsp
from saltanvil.dsp.curve_table import CELLS, table
from saltanvil.dsp.oversample import MAX_TAPS, STAGES, TAPS, both_ways, whole
from saltanvil.dsp.state import Stateful
from saltanvil.dsp.units import db_to_gain, time_constant
from saltanvil.processors.base import Audio
from saltanvil.processors.filters import Filter

Array = NDArray[np.float64]
CharacterName = Literal["plain", "tape", "tube", "transformer"]
Oversampling = Literal["1x", "2x", "4x", "8x", "16x"]
#: In words, once for all that offer them.
CHARACTERS_HELP = (
    "Plain: a symmetrical curve. Tape: softens loud highs and compresses slightly, with memory. "
    "Tube: asymmetrical, more so when louder. Transformer: saturates lows first."
)

RING_FRAMES = 2048
FINISH_S = 0.04  # the longest lookahead, and more
FAST_MS, SLOW_MS, LIVELY_HZ = 3.0, 60.0, 3000.0
POWER_MS, LOSS_HZ, DC_HZ = 8.0, 4000.0, 5.0
SHELF_Q, SHELVES = 0.7071, 3
CORE_HZ = 100.0
EVEN, ODD = 0.5, 1.0 / 3.0  # the most that leaves the curve rising everywhere


@dataclass(frozen=True)
class Character:
    """knee: order of the squash u / (1 + |u|^knee)^(1 / knee), gentle to firm; core_db: lows raised before the curve;
    loss: share of the highs lost at most; squeeze: of level; bias: of the curve at rest; move: how far level moves it.
    All of them ours, no source."""

    knee: int
    core_db: float = 0.0
    loss: float = 0.0
    squeeze: float = 0.0
    bias: float = 0.0
    move: float = 0.0


CHARACTERS: dict[CharacterName, Character] = {
    "plain": Character(knee=6),
    "tape": Character(knee=2, loss=0.75, squeeze=1.0),
    "tube": Character(knee=2, bias=-0.1, move=-0.3),
    "transformer": Character(knee=4, core_db=12.0),
}


@dataclass(frozen=True)
class Colour:
    """What a stage does. drives_db: of both sides; balance: 0 all even to 1 all odd harmonics."""

    character: CharacterName = "plain"
    drives_db: tuple[float, float] = (0.0, 0.0)
    balance: float = 1.0
    low_db: float = 0.0
    low_hz: float = 120.0
    high_db: float = 0.0
    high_hz: float = 4000.0
    linked: bool = True
    oversampling: Oversampling = "8x"

    def factor(self) -> int:
        return int(self.oversampling[:-1])

    def curve(self, u: Array) -> tuple[Array, Array]:
        """Value and slope, 1 at the character's bias: of g + e g^2 - o g^3, g the squash, e and o from the balance.

        Where g is still u, g^2 = (T_2 + 1) / 2 makes a sine's second harmonic and no other, g^3 = (T_3 + 3 g) / 4 its third
        (Chebyshev: T_n(cos x) = cos nx).
        """
        value, slope = self._unscaled(u)
        at_rest = float(self._unscaled(np.array(CHARACTERS[self.character].bias))[1])
        return value / at_rest, slope / at_rest

    def _unscaled(self, u: Array) -> tuple[Array, Array]:
        n = CHARACTERS[self.character].knee
        under = 1.0 + np.abs(u) ** n
        g, slope = u / under ** (1.0 / n), under ** (-1.0 / n - 1.0)
        even, odd = EVEN * (1.0 - self.balance), ODD * self.balance
        return g + even * g**2 - odd * g**3, slope * (1.0 + 2.0 * even * g - 3.0 * odd * g**2)

    def steady(self, wave: Array, given_back: bool = False) -> Array:
        """What leaves for a wave that has stood for long, along the last axis; lows and highs aside, without the offset."""
        character, drive = CHARACTERS[self.character], db_to_gain(self.drives_db[0])
        u = drive * wave
        power = np.mean(u**2, axis=-1, keepdims=True)
        level = np.sqrt(power)
        bias = character.bias + character.move * level / (1.0 + level)
        squeezed = u / np.sqrt(1.0 + character.squeeze * power)
        shaped = self.curve(squeezed + bias)[0]
        return np.asarray((shaped - shaped.mean(axis=-1, keepdims=True)) / (drive if given_back else 1.0))

    def sections(self, rate: int) -> tuple[Array, Array]:
        """The emphasis and its exact inverse, (3, 5) each: a cookbook shelf with its gain turned round is its inverse."""
        return emphasis(self.character, self.low_hz, self.low_db, self.high_hz, self.high_db, rate)


@lru_cache(256)
def emphasis(
    character: CharacterName, low_hz: float, low_db: float, high_hz: float, high_db: float, rate: int
) -> tuple[Array, Array]:
    """`Colour.sections`: they are the same however the drive moves."""
    shelves = (
        ("low shelf", low_hz, low_db),
        ("high shelf", high_hz, high_db),
        ("low shelf", CORE_HZ, CHARACTERS[character].core_db),
    )
    way = [[biquad.cookbook(kind if db else "off", hz, SHELF_Q, sign * db, rate) for kind, hz, db in shelves] for sign in (1, -1)]
    return np.array(way[0]), np.array(way[1])


#: A sine, to see what a curve makes of it.
SINE = np.sin(np.arange(256) * 2.0 * np.pi / 256.0)


def peaks_db(waves: Array) -> Array:
    """Peak levels of waves along the last axis."""
    return np.asarray(20.0 * np.log10(np.maximum(np.abs(waves).max(axis=-1), 1e-8)))


@cache
def table_of(character: CharacterName, balance: float) -> tuple[Array, int]:
    """The curve's table, and a number of its own."""
    colour = Colour(character, balance=balance)
    number = list(get_args(CharacterName)).index(character)
    return table(colour.curve), number * 10000 + round(balance * 1000)


class Stage(Stateful):
    """A colour at work; `latency_of` it late.

    >>> stage = Stage(1, 48000)
    >>> stage.configure(Colour(oversampling="1x", drives_db=(20.0, 20.0)))
    >>> bool(np.abs(stage(np.ones((1, 64), np.float32), np.zeros((2, 1), np.float32))).max() < 1.0)
    True
    """

    state = ("_state", "_ups", "_downs", "_pads", "_ring", "_emphasis", "_undoing")
    heads: ClassVar[dict[str, int]] = {"_ups": MAX_TAPS, "_downs": MAX_TAPS, "_pads": dsp.MAX_PAD}
    scratch = ("_work",)
    replaced = ("_curves",)

    def __init__(self, channels: int, rate: int) -> None:
        self.rate = rate
        self._state = np.zeros(dsp.STATE)
        self._curves = np.zeros((2, CELLS, 5))
        self._ups = np.zeros((channels, STAGES, dsp.ROOM + MAX_TAPS), np.float32)
        self._downs = np.zeros((channels, STAGES, 2, dsp.ROOM + MAX_TAPS), np.float32)
        self._pads = np.zeros((channels, dsp.ROOM + dsp.MAX_PAD), np.float32)
        self._ring = np.zeros((2 * channels, RING_FRAMES), np.float32)
        self._work = np.zeros((dsp.WORK_ROWS, dsp.ROOM + MAX_TAPS), np.float32)
        self._emphasis, self._undoing = Filter(SHELVES, channels), Filter(SHELVES, channels)

    @staticmethod
    def latency_of(colour: Colour) -> int:
        return whole(colour.factor())[1]

    def configure(self, colour: Colour) -> None:
        _, latency, pad = whole(colour.factor())
        character = CHARACTERS[colour.character]
        self._table, number = table_of(colour.character, round(colour.balance, 3))
        target = np.zeros(dsp.SETTINGS)
        target[dsp.DRIVE], target[dsp.SECOND_DRIVE] = (db_to_gain(db) for db in colour.drives_db)
        target[dsp.LOSS], target[dsp.SQUEEZE] = character.loss, character.squeeze
        target[dsp.BIAS], target[dsp.MOVE] = character.bias, character.move
        target[dsp.STEPS] = colour.factor().bit_length() - 1
        target[dsp.LATENCY], target[dsp.PAD] = latency, pad
        target[dsp.LINKED] = colour.linked
        target[dsp.CURVE] = number
        target[dsp.POWER_POLE] = time_constant(POWER_MS, self.rate)
        target[dsp.LOSS_POLE] = np.exp(-2.0 * np.pi * LOSS_HZ / self.rate)
        target[dsp.DC_POLE] = 1.0 - 2.0 * np.pi * DC_HZ / self.rate
        self._target = target
        self._ladder = both_ways(colour.factor())
        for shelves, sections in zip((self._emphasis, self._undoing), colour.sections(self.rate), strict=True):
            shelves.set(sections)

    def __call__(self, x: Audio, trace: Audio, glide: float) -> Audio:
        """x: (channels, frames); trace: (TRACE_ROWS, ticks touched), filled with the peak taken and the level, in dB;
        glide: of the processor."""
        self._target[dsp.GLIDE] = glide
        driven = self._emphasis(x, glide)
        y = np.empty_like(x)
        if dsp.bends(self._state, self._target):
            # Large and seldom changed: replaced then, so that saved states share it.
            self._curves = self._curves.copy()
        dsp.saturate(
            driven, y, self._target, self._state, self._table, self._curves, self._ladder, TAPS, self._ups, self._downs,
            self._pads, self._ring, trace, self._work,
        )  # fmt: skip
        return self._undoing(y, glide)


class Finish(Stateful):
    """What was coloured, made lively, beside the sound it was made of; see `dsp.saturate.finish`."""

    state = ("_ring", "_state")
    scratch = ("_work",)

    def __init__(self, channels: int, rate: int) -> None:
        self.rate = rate
        self._ring = np.zeros((channels + 1, 1 << round(FINISH_S * rate).bit_length()), np.float32)
        self._state = np.zeros(dsp.MIX_STATE)
        self._work = np.zeros((dsp.MIX_ROWS, dsp.CHUNK_FRAMES), np.float32)

    def configure(self, late: int, mix: float, back_db: float, output_db: float = 0.0, liven: float = 0.0) -> None:
        """late: frames by which the coloured sound is later than the other, as they are given."""
        self._target = np.zeros(dsp.MIX_SETTINGS)
        self._target[dsp.BACK], self._target[dsp.OUTPUT] = db_to_gain(back_db), db_to_gain(output_db)
        self._target[dsp.MIX], self._target[dsp.LIVEN], self._target[dsp.LATE] = mix, liven, late
        self._target[dsp.FAST_POLE] = time_constant(FAST_MS, self.rate)
        self._target[dsp.SLOW_POLE] = time_constant(SLOW_MS, self.rate)
        self._target[dsp.HIGH_POLE] = np.exp(-2.0 * np.pi * LIVELY_HZ / self.rate)

    def __call__(self, wet: Audio, dry: Audio, glide: float) -> Audio:
        y = np.empty_like(wet)
        self._target[dsp.MIX_GLIDE] = glide
        dsp.finish(wet, dry, y, self._target, self._state, self._ring, self._work)
        return y
