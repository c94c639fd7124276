"""The de-esser."""

import math
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp import biquad, compress, deess
from saltanvil.dsp.bells import width_to_q
from saltanvil.dsp.detector import GIVEN, detector_memory
from saltanvil.dsp.units import db_to_gain, time_constant
from saltanvil.measure.reduction import WORKING_DB
from saltanvil.processors.aims import gr_aims
from saltanvil.processors.base import Audio, Context, Processor, Settings, Start, Telemetry, hertz, mixed_db
from saltanvil.processors.compressor import MIN_KNEE_DB
from saltanvil.processors.descriptor import choice, rule
from saltanvil.processors.evidence import Evidence, Hint
from saltanvil.processors.filters import FLANK, Filter, flanks

#: The band's level is its RMS over this; long enough to hold a sibilant's noise together.
LEVEL_MS = 4.0
WIDE_SLOPE_DB = 48

_BANDS = {"shape": ["band narrow", "band wide"]}


class DeesserSettings(Settings):
    shape: Literal["high-pass 12", "high-pass 24", "high-pass 48", "band narrow", "band wide"] = choice(
        "high-pass 24", "Shape", "Band",
        "What counts as sibilant: all above a corner (12, 24 or 48 dB per octave), a band with a peak, or one with a flat top.",
    )  # fmt: skip
    frequency_hz: float = rule(
        5500.0, "Frequency", "Hz", 500.0, 18000.0, "Band", "Corner of a high-pass, middle of a band.",
        scale="log", ticks=(1000, 2000, 5000, 10000),
    )  # fmt: skip
    width_oct: float = rule(
        1.0, "Width", "oct", 0.1, 4.0, "Band", "Width of a band in octaves.", scale="log", ticks=(0.25, 0.5, 1, 2, 4), when=_BANDS
    )
    against: Literal["level", "whole"] = choice(
        "whole", "Threshold relative to", "Curve",
        "Level: the level of the band. Whole: the band relative to the full signal, so that soft and loud words are "
        "treated alike.",
    )  # fmt: skip
    threshold_db: float = rule(
        -8.0, "Threshold", "dB", -60.0, 0.0, "Curve", "Level of the band above which it is reduced.", ticks=(-48, -36, -24, -12)
    )
    ratio: float = rule(
        4.0, "Ratio", ":1", 1.0, 50.0, "Curve", "Decibels in over the threshold for one decibel out.",
        scale="log", ticks=(1, 2, 4, 10, 20, 50),
    )  # fmt: skip
    knee_db: float = rule(
        6.0, "Knee", "dB", 0.0, 30.0, "Curve", "Width around the threshold over which it sets in.", ticks=(0, 6, 12, 24)
    )
    range_db: float = rule(10.0, "Range", "dB", 0.0, 40.0, "Curve", "The largest gain reduction.", ticks=(0, 6, 12, 24, 40))
    attack_ms: float = rule(
        1.0, "Attack", "ms", 0.05, 50.0, "Timing", "Time to cover 63 % of the way down.", scale="log", ticks=(0.1, 1, 10)
    )
    release_ms: float = rule(
        40.0, "Release", "ms", 2.0, 1000.0, "Timing", "Time to release 63 %.", scale="log", ticks=(10, 100, 1000)
    )
    reduce: Literal["band", "everything"] = choice(
        "band", "Reduces", "Output", "Only the band, so that words keep their body; or everything while it hisses."
    )
    stereo_link: float = rule(
        1.0,
        "Stereo link",
        "%",
        0.0,
        1.0,
        "Output",
        "All: both sides get the same gain. None: each side for itself.",
        ticks=(0, 0.5, 1),
    )
    mix: float = rule(1.0, "Mix", "%", 0.0, 1.0, "Output", "Treated sound against untreated sound.", ticks=(0, 0.5, 1))

    def edges_hz(self) -> tuple[float, float]:
        """Lower and upper edge of a band."""
        reach = 2.0 ** (self.width_oct / 2.0)
        return self.frequency_hz / reach, self.frequency_hz * reach

    def detector_sections(self, rate: float) -> NDArray[np.float64]:
        """The detector's filter, (2 FLANK, 5)."""
        if self.shape == "band narrow":
            sections = np.tile(np.array(biquad.IDENTITY), (2 * FLANK, 1))
            sections[0] = biquad.cookbook("band-pass", self.frequency_hz, width_to_q(self.width_oct), 0.0, rate)
            return sections
        if self.shape == "band wide":
            low, high = self.edges_hz()
            return flanks(low, high, WIDE_SLOPE_DB, rate)
        return flanks(self.frequency_hz, None, int(self.shape.split()[1]), rate)

    def cut_sections(self, rate: float) -> NDArray[np.float64]:
        """What is reduced, (SECTIONS, SECTION)."""
        if self.shape == "band narrow":
            tangent = math.tan(math.pi * min(self.frequency_hz, 0.49 * rate) / rate)
            result = [[tangent, 1.0 / width_to_q(self.width_oct), 1.0, 0.0]]
        elif self.shape == "band wide":
            low, high = self.edges_hz()
            result = deess.shelf_sections(low, WIDE_SLOPE_DB, 1.0, rate) + deess.shelf_sections(high, WIDE_SLOPE_DB, -1.0, rate)
        else:
            result = deess.shelf_sections(self.frequency_hz, int(self.shape.split()[1]), 1.0, rate)
        idle = [result[0][0], result[0][1], 0.0, 0.0]
        return np.array(result + [idle] * (deess.SECTIONS - len(result)))


#: How far below the whole an s is sought: a threshold that lies lower finds no s but everything.
RELATIVE_REACH_DB = 6.0

STARTS = (
    Start(
        "voice: soften s and sh",
        "Sibilants should be audible but not stick out; if the singer starts to lisp, reduce the range.",
        {"shape": "high-pass 24", "frequency_hz": 5500.0, "threshold_db": -6.0, "ratio": 4.0, "range_db": 8.0},
        (("gr_max_db", 6.0, "threshold_db"),),
        reach=RELATIVE_REACH_DB,
    ),
    Start(
        "voice: one whistling pitch",
        "Drag the band over the spectrum while listening to the difference, until only the whistle is left in it.",
        {"shape": "band narrow", "frequency_hz": 7000.0, "width_oct": 0.5, "threshold_db": -15.0, "ratio": 8.0},
        (("gr_max_db", 6.0, "threshold_db"),),
        reach=RELATIVE_REACH_DB,
    ),
    Start(
        "overheads: keep the shine, lose the grain",
        "Cymbals should stay bright between the hits; only the harsh instant of a hit goes.",
        {
            "shape": "band wide",
            "frequency_hz": 6000.0,
            "width_oct": 1.5,
            "against": "level",
            "threshold_db": -24.0,
            "ratio": 2.5,
            "range_db": 6.0,
        },
        (("gr_max_db", 4.0, "threshold_db"),),
        reach=24.0,
    ),
    Start(
        "harsh upper middle",
        "Loud notes should stop biting; soft ones must stay as they are.",
        {
            "shape": "band wide",
            "frequency_hz": 3200.0,
            "width_oct": 1.0,
            "against": "level",
            "threshold_db": -28.0,
            "ratio": 3.0,
            "attack_ms": 3.0,
        },
        (("gr_max_db", 4.0, "threshold_db"),),
        reach=24.0,
    ),
    Start(
        "speech: close microphone",
        "The narrator should sound near without spitting; plosives are not its business.",
        {"shape": "high-pass 12", "frequency_hz": 4500.0, "threshold_db": -7.0, "ratio": 3.0, "range_db": 9.0},
        (("gr_max_db", 6.0, "threshold_db"),),
        reach=RELATIVE_REACH_DB,
    ),
    Start(
        "hard and fast, everything down",
        "For a track buried in a mix: the whole voice ducks at each s, at no change of colour.",
        {
            "reduce": "everything",
            "frequency_hz": 6000.0,
            "threshold_db": -6.0,
            "ratio": 6.0,
            "attack_ms": 0.5,
            "release_ms": 25.0,
        },
        (("gr_max_db", 6.0, "threshold_db"),),
        reach=RELATIVE_REACH_DB,
    ),
)


class Deesser(Processor):
    """Takes a band down while it sticks out.

        in --+----------------------------------------------------(cut of the band, or of everything)--> mix --> out
             |                                                      ^
             +--> band --> RMS --> level, or share of the whole --> curve with knee --> attack, release

    Detector filters: Butterworth, or the cookbook's band-pass. The cut has the same shape and is exactly nothing
    while nothing is taken, so that *taken* holds only what was reduced.

    >>> step = Deesser(DeesserSettings(), 1, Context())
    >>> step.process(np.full((1, 4), 0.25, np.float32))
    array([[0.25, 0.25, 0.25, 0.25]], dtype=float32)
    """

    kind = "deesser"
    label = "De-esser"
    about = (
        "Use it on a voice whose s and sh are sharp, or wherever one band sticks out at times. It should act on those "
        "sounds only; if it works most of the time, the tone gets dull."
    )
    aliases = ("deess", "de-ess", "sibilance", "dynamic EQ")
    settings_model = DeesserSettings
    main = ("threshold_db", "ratio", "range_db")
    pictures = ("bite", "spectrum", "curve")
    level_line = "threshold_db"
    listens = True
    keyed = True
    starts = STARTS
    aims = gr_aims("threshold_db", "ratio", target=6.0)

    @classmethod
    def summary(cls, settings: Settings) -> str:
        assert isinstance(settings, DeesserSettings)
        return f"from {hertz(settings.frequency_hz)}"

    @classmethod
    def detector_name(cls, settings: Settings) -> str | None:
        assert isinstance(settings, DeesserSettings)
        return "band" if settings.against == "level" else "band, dB re whole"

    @classmethod
    def hints(cls, settings: Settings, seen: Evidence) -> list[Hint]:
        """It never works, or always does."""
        assert isinstance(settings, DeesserSettings) and seen.reduction is not None
        if seen.reduction.largest_db < WORKING_DB:
            what = "stands at" if settings.against == "level" else "comes up to"
            text = (
                f"The band {what} {seen.loudest_db:.1f} dB at most, and the threshold is at {settings.threshold_db:.1f} dB: "
                "nothing is taken."
            )
            return [Hint("idle", text, "threshold_db")]
        if seen.reduction.share > 0.5:
            text = (
                f"It works for {100 * seen.reduction.share:.0f} % of the time: that is a duller tone and no longer sibilants. "
                "A higher threshold or a higher frequency spares the vowels."
            )
            return [Hint("always", text, "threshold_db")]
        return []

    state = ("_band", "_means", "_bends", "_state", "_ring", "_detector", "_moving", "_now", "_memory", "_cut_state")
    scratch = ("_work", "_cut_work")

    def __init__(self, settings: Settings, channels: int, context: Context) -> None:
        self._band = Filter(2 * FLANK, channels)
        self._means = np.zeros((2, channels))
        self._curve, self._bends = np.zeros((1, compress.BEND)), np.zeros((1, compress.BEND))
        self._state = np.zeros(compress.STATE)
        self._ring = np.zeros((channels, 2 * compress.CHUNK_FRAMES), np.float32)
        self._work = np.empty((compress.WORK_ROWS, compress.WORK_FRAMES), np.float32)
        self._detector = detector_memory(channels, context.rate)
        self._moving = np.zeros((deess.SECTIONS, deess.SECTION))
        self._now = np.zeros(deess.GLIDING)
        self._memory = np.zeros((channels, deess.SECTIONS, 2))
        self._cut_state = np.zeros(deess.STATE)
        self._cut_work = np.empty((6, 64), np.float32)
        super().__init__(settings, channels, context)

    def configure(self, settings: Settings, context: Context) -> None:
        assert isinstance(settings, DeesserSettings)
        rate = context.rate
        self._band.set(settings.detector_sections(rate))
        knee = settings.knee_db if settings.knee_db >= MIN_KNEE_DB else 0.0
        self._curve = np.array([[settings.threshold_db, 1.0 - 1.0 / settings.ratio, knee]])
        target = np.zeros(compress.SETTINGS)
        target[compress.RANGE] = settings.range_db
        target[compress.MIX] = 1.0
        target[compress.LINK] = settings.stereo_link
        target[compress.RMS] = GIVEN
        target[compress.ATTACK] = time_constant(settings.attack_ms, rate)
        target[compress.RELEASE] = time_constant(settings.release_ms, rate)
        self._target = target
        self._sections = settings.cut_sections(rate)
        self._mix = settings.mix
        self._cut = np.array([1.0 if settings.reduce == "band" else 0.0, settings.mix])
        self._relative = settings.against == "whole"
        self._averaging = time_constant(LEVEL_MS, rate)

    def treat(self, x: Audio, key: Audio | None) -> Audio:
        self._target[compress.GLIDE] = self._cut_state[deess.GLIDE] = self.glide
        source = x if key is None else key
        self.detector_input = self._band(source, self.glide)
        level, gain, y = np.empty_like(x), np.empty_like(x), np.empty_like(x)
        trace = self.trace(2, x.shape[1])
        deess.band_level(self.detector_input, source, level, self._means, self._averaging, self._relative)
        compress.compress(
            np.ones_like(x), level, gain, self._target, self._curve, self._bends, self._state, self._detector, self._ring, trace,
            self._work,
        )  # fmt: skip
        deess.cut(
            x, gain, y, self._sections, self._moving, self._cut, self._now, self._memory, self._cut_state, self._cut_work
        )  # fmt: skip
        self.telemetry = Telemetry(mixed_db(trace[0], self._mix), trace[1])
        return y

    @classmethod
    def curve(cls, settings: Settings, levels_db: NDArray[np.float64]) -> NDArray[np.float64]:
        """Level of the band out for in, both as the threshold counts them."""
        assert isinstance(settings, DeesserSettings)
        over, knee = levels_db - settings.threshold_db, max(settings.knee_db, MIN_KNEE_DB)
        slope = 1.0 - 1.0 / settings.ratio
        into = np.clip(over + knee / 2, 0.0, knee)
        taken = np.minimum(slope * into**2 / (2 * knee) + slope * np.maximum(over - knee / 2, 0.0), settings.range_db)
        return levels_db + 20.0 * np.log10(1.0 + settings.mix * (10.0 ** (-taken / 20.0) - 1.0))

    @classmethod
    def response(cls, settings: Settings, frequencies_hz: NDArray[np.float64], rate: int) -> NDArray[np.float64] | None:
        """At the most that is ever taken."""
        assert isinstance(settings, DeesserSettings)
        if settings.reduce == "everything":
            return np.full_like(frequencies_hz, -settings.range_db)
        return deess.cut_response_db(settings.cut_sections(rate), db_to_gain(-settings.range_db), frequencies_hz, rate)

    @classmethod
    def key_response(cls, settings: Settings, frequencies_hz: NDArray[np.float64], rate: int) -> NDArray[np.float64] | None:
        assert isinstance(settings, DeesserSettings)
        return biquad.response_db(settings.detector_sections(rate), frequencies_hz, rate)
