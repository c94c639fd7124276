"""The transient shaper."""

import math
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp import transient as dsp
from saltanvil.dsp.biquad import cookbook, response_db
from saltanvil.dsp.detector import detector_memory, longest_groups
from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.dsp.units import time_constant
from saltanvil.processors.aims import KEEP_LOUDNESS, level_aims, louder_aim
from saltanvil.processors.base import Audio, Context, Processor, Settings, Start, Telemetry, mixed_db, mixed_gain_db, signed
from saltanvil.processors.descriptor import choice, rule
from saltanvil.processors.filters import FLANK, Filter, flanks
from saltanvil.processors.limiter import Limiter, LimiterSettings

#: The shaper's times at speed 1 (ours, no source).
FALL_MS, QUICK_MS, SLOW_MS, LINGER_MS = 20.0, 0.3, 12.0, 500.0
DETECTOR_SLOPE_DB = 12
SHELF_Q = 0.7071
SAFE = LimiterSettings(ceiling_db=-0.1, peaks="sample peak", lookahead_ms=1.0, release_mode="fixed", release_ms=40.0)

_HITS = {"mode": ["transients"]}
#: What is taken and added is freed of what lies below.
DC_HZ = 5.0


class ShaperSettings(Settings):
    mode: Literal["transients", "tone"] = choice(
        "transients", "Mode", "Shape",
        "Transients: more or less attack and sustain, whatever the level. Tone: the same two rules as a high and a low shelf.",
    )  # fmt: skip
    attack_db: float = rule(
        0.0, "Attack", "dB", -24.0, 24.0, "Shape", "How much more or less attack; the high shelf's gain as a tone control.",
        ticks=(-12, 0, 12),
    )  # fmt: skip
    sustain_db: float = rule(
        0.0, "Sustain", "dB", -24.0, 24.0, "Shape", "How much more or less sustain; the low shelf's gain as a tone control.",
        ticks=(-12, 0, 12),
    )  # fmt: skip
    full_range: bool = choice(False, "Full range", "Detector", "Both detectors use the full frequency range.", when=_HITS)
    attack_hz: float = rule(
        120.0,
        "Attack from",
        "Hz",
        20.0,
        20000.0,
        "Detector",
        "Corner of the attack detector's high shelf: lows below it do not trigger.",
        scale="log",
        ticks=(20, 100, 1000, 10000),
    )
    sustain_hz: float = rule(
        4000.0,
        "Sustain up to",
        "Hz",
        20.0,
        20000.0,
        "Detector",
        "Corner of the sustain detector's low shelf: highs above it do not trigger.",
        scale="log",
        ticks=(20, 100, 1000, 10000),
    )
    speed: float = rule(
        1.0, "Speed", "x", 0.25, 4.0, "Detector", "Faster: only the first instant is attack, and sustain begins sooner.",
        scale="log", ticks=(0.25, 0.5, 1, 2, 4), when=_HITS,
    )  # fmt: skip
    stereo_link: float = rule(
        1.0, "Stereo link", "%", 0.0, 1.0, "Detector", "All: both sides get the same gain. None: each side for itself.",
        ticks=(0, 0.5, 1), when=_HITS,
    )  # fmt: skip
    level_safe: bool = choice(
        False,
        "Level-safe",
        "Output",
        "Added attack is held under full scale, 1 ms ahead; adds the same latency.",
        moves="latency",
    )
    output_db: float = rule(0.0, "Output", "dB", -24.0, 24.0, "Output", "Gain after the shaping.", ticks=(-12, 0, 12))
    mix: float = rule(1.0, "Mix", "%", 0.0, 1.0, "Output", "Shaped sound against untreated sound.", ticks=(0, 0.5, 1))


STARTS = (
    Start(
        "snare: more crack, less ring",
        "The hit should come forward and the ring fall back; too much attack sounds like a click in front of the drum.",
        {"attack_db": 6.0, "sustain_db": -5.0, "attack_hz": 400.0},
    ),
    Start(
        "kick: shorter and tighter",
        "The note should end before the bass begins; if it loses weight, raise sustain again.",
        {"attack_db": 3.0, "sustain_db": -8.0, "attack_hz": 60.0, "sustain_hz": 2000.0},
    ),
    Start(
        "overheads: soften the sticks",
        "Cymbals should wash rather than tick; the snare in them steps back as well.",
        {"attack_db": -6.0, "sustain_db": 0.0, "attack_hz": 2000.0},
    ),
    Start(
        "room: bring up the space",
        "The space after each hit should grow; watch for bleed that grows with it.",
        {"attack_db": 0.0, "sustain_db": 8.0, "full_range": True},
    ),
    Start(
        "plucked strings: more fingers",
        "Every note should begin more clearly, at the same loudness; compare matched.",
        {"attack_db": 5.0, "sustain_db": 0.0, "attack_hz": 800.0, "level_safe": True},
        KEEP_LOUDNESS,
    ),
    Start(
        "two shelves: tilt it brighter",
        "A plain tone control: both corners can be dragged in the spectrum.",
        {"mode": "tone", "attack_db": 2.0, "sustain_db": -2.0, "attack_hz": 3000.0, "sustain_hz": 250.0},
    ),
)


class Shaper(Processor):
    """More or less attack and sustain, independent of level.

        in --+--------------------------------------------------------------------(x)--> shelves --> level-safe --> out
             |                                                                     ^
             +--> high-pass --> quick against slow envelope -------> attack dB ----+
             +--> low-pass ---> lingering against present envelope > sustain dB ---+

    The gain follows differences of envelopes in dB, so that a softer hit gets the same gain as a loud one.

    >>> step = Shaper(ShaperSettings(attack_db=6.0), 1, Context())
    >>> step.process(np.zeros((1, 64), np.float32)).any()
    np.False_
    """

    kind = "shaper"
    label = "Transient shaper"
    about = (
        "Use it to bring a drum's attack out or to shorten its ring, without a threshold. It acts on soft and on loud hits alike."
    )
    aliases = ("transient", "attack", "sustain", "punch")
    settings_model = ShaperSettings
    main = ("attack_db", "sustain_db", "output_db")
    pictures = ("envelopes", "bite", "spectrum", "wave")
    listens = True
    keyed = True
    starts = STARTS
    aims = (louder_aim("output_db"), *level_aims("output_db"))

    @classmethod
    def linear_gain_db(cls, settings: Settings) -> float:
        assert isinstance(settings, ShaperSettings)
        return mixed_gain_db(settings.output_db, settings.mix)

    @classmethod
    def summary(cls, settings: Settings) -> str:
        assert isinstance(settings, ShaperSettings)
        return f"{signed(settings.attack_db)} / {signed(settings.sustain_db)} dB"

    state = ("_attack", "_sustain", "_shelves", "_state", "_memory", "_safe")
    scratch = ("_work",)

    def __init__(self, settings: Settings, channels: int, context: Context) -> None:
        self._attack = Filter(2 * FLANK, channels)
        self._sustain = Filter(2 * FLANK, channels)
        self._shelves = Filter(2, channels)
        self._state = np.zeros(dsp.STATE)
        self._memory = detector_memory(2 * channels, context.rate)
        self._work = np.empty((dsp.WORK_ROWS, TICK_FRAMES), np.float32)
        self._safe = Limiter(SAFE, channels, context)
        super().__init__(settings, channels, context)

    def configure(self, settings: Settings, context: Context) -> None:
        assert isinstance(settings, ShaperSettings)
        rate = context.rate
        hits = settings.mode == "transients"
        filtered = hits and not settings.full_range
        target = np.zeros(dsp.SETTINGS)
        target[dsp.ATTACK] = settings.attack_db if hits else 0.0
        target[dsp.SUSTAIN] = settings.sustain_db if hits else 0.0
        target[dsp.OUTPUT] = settings.output_db
        target[dsp.MIX] = self._mix = settings.mix
        target[dsp.LINK] = settings.stereo_link
        target[dsp.FALL] = time_constant(FALL_MS / settings.speed, rate)
        target[dsp.QUICK] = time_constant(QUICK_MS / settings.speed, rate)
        target[dsp.SLOW] = time_constant(SLOW_MS / settings.speed, rate)
        target[dsp.LINGER] = time_constant(LINGER_MS / settings.speed, rate)
        target[dsp.LONGEST] = longest_groups(rate)
        target[dsp.DC_PART] = 1.0 - math.exp(-2.0 * math.pi * DC_HZ / rate)
        self._target = target
        self._attack.set(flanks(settings.attack_hz, None, DETECTOR_SLOPE_DB, rate) if filtered else None)
        self._sustain.set(flanks(None, settings.sustain_hz, DETECTOR_SLOPE_DB, rate) if filtered else None)
        self._shelves.set(shelves(settings, rate))
        self._level_safe = settings.level_safe

    @classmethod
    def low_latency_settings(cls, settings: Settings) -> Settings:
        return settings.model_copy(update={"level_safe": False})

    @classmethod
    def latency_of(cls, settings: Settings, rate: int) -> int:
        assert isinstance(settings, ShaperSettings)
        return Limiter.latency_of(SAFE, rate) if settings.level_safe else 0

    def treat(self, x: Audio, key: Audio | None) -> Audio:
        self._target[dsp.GLIDE] = self.glide
        y = np.empty_like(x)
        trace = self.trace(dsp.TRACE_ROWS, x.shape[1])
        source = x if key is None else key
        self.detector_input = self._attack(source, self.glide)
        dsp.shape(
            x, self.detector_input, self._sustain(source, self.glide), y, self._target, self._state, self._memory, trace,
            self._work,
        )  # fmt: skip
        y = self._shelves(y, self.glide)
        if self._level_safe:
            y = self._safe.process(y)
        names = ("quick_db", "slow_db", "now_db", "lingering_db")
        self.telemetry = Telemetry(mixed_db(trace[0], self._mix), trace[1], dict(zip(names, trace[1:], strict=True)))
        return y

    @classmethod
    def response(cls, settings: Settings, frequencies_hz: NDArray[np.float64], rate: int) -> NDArray[np.float64] | None:
        assert isinstance(settings, ShaperSettings)
        return response_db(shelves(settings, rate), frequencies_hz, rate) if settings.mode == "tone" else None

    @classmethod
    def key_response(cls, settings: Settings, frequencies_hz: NDArray[np.float64], rate: int) -> NDArray[np.float64] | None:
        """The attack detector's filter."""
        assert isinstance(settings, ShaperSettings)
        if settings.mode == "tone" or settings.full_range:
            return None
        return response_db(flanks(settings.attack_hz, None, DETECTOR_SLOPE_DB, rate), frequencies_hz, rate)


def shelves(settings: ShaperSettings, rate: float) -> NDArray[np.float64]:
    """The tone control's two sections; idle with transients."""
    tone = settings.mode == "tone"
    return np.array(
        [
            cookbook("high shelf", settings.attack_hz, SHELF_Q, settings.attack_db if tone else 0.0, rate),
            cookbook("low shelf", settings.sustain_hz, SHELF_Q, settings.sustain_db if tone else 0.0, rate),
        ]
    )
