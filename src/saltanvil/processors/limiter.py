"""The limiter."""

from typing import Literal

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp import limit as dsp
from saltanvil.dsp.detector import detector_memory, longest_groups
from saltanvil.dsp.true_peak import TRUE_PEAK_HISTORY, TRUE_PEAK_LATE, TRUE_PEAK_ROOM, true_peak_filters
from saltanvil.dsp.units import ms_to_frames, time_constant
from saltanvil.processors.aims import Aim, gr_max, level_aims, louder_aim, peak_aim
from saltanvil.processors.base import Audio, Context, Processor, Settings, Start, Telemetry, number
from saltanvil.processors.descriptor import choice, rule
from saltanvil.processors.evidence import Evidence, Fact, Hint

MAX_LOOKAHEAD_MS = 10.0
#: Adaptive release: what was held for long gives back by the second, and begins to count by the first.
ADAPTIVE_SETTLE_MS, ADAPTIVE_SLOW_MS = 250.0, 900.0
#: Low-end weighted: the lows are what is below this.
LEAN_HZ = 120.0


class LimiterSettings(Settings):
    ceiling_db: float = rule(
        -1.0, "Ceiling", "dB", -24.0, 0.0, "Level", "No output peak exceeds this level.", ticks=(-18, -12, -6, -1, 0)
    )
    peaks: Literal["sample peak", "true peak"] = choice(
        "true peak",
        "Ceiling measures",
        "Level",
        "Samples only, or also the peaks that a converter makes between them, of all that lies below 0.45 of the sample rate.",
        moves="latency",
    )
    gain_db: float = rule(0.0, "Input gain", "dB", -12.0, 36.0, "Level", "Gain before the limiter.", ticks=(-6, 0, 12, 24))
    lookahead_ms: float = rule(
        3.0, "Lookahead", "ms", 0.5, MAX_LOOKAHEAD_MS, "Timing",
        "Time in which the gain comes down before a peak; adds the same latency, which is compensated.",
        scale="log", ticks=(0.5, 1, 2, 5, 10), moves="latency",
    )  # fmt: skip
    release_mode: Literal["fixed", "adaptive", "low-end weighted"] = choice(
        "adaptive", "Release mode", "Timing",
        "A fixed time; adaptive, quick after short peaks and slow after long passages and under low notes; or low-end weighted, "
        "where loud lows push everything down and it breathes with them.",
    )  # fmt: skip
    release_ms: float = rule(
        80.0, "Release", "ms", 1.0, 2000.0, "Timing", "Time to release 63 %; after short peaks, if adaptive.",
        scale="log", ticks=(1, 10, 100, 1000),
    )  # fmt: skip
    low_end_weight: float = rule(
        0.5, "Low-end weight", "%", 0.0, 1.0, "Timing", "Decibels taken for each decibel of lows over 6 dB below the ceiling.",
        ticks=(0, 0.5, 1), when={"release_mode": ["low-end weighted"]},
    )  # fmt: skip
    stereo_link: float = rule(
        1.0, "Stereo link", "%", 0.0, 1.0, "Output",
        "All: both sides get the same gain, so the image stays. None: each side for itself.", ticks=(0, 0.5, 1),
    )  # fmt: skip
    warn_above_db: float = rule(
        2.0, "Warn above", "dB", 0.0, 24.0, "Output",
        "Marks where the gain reduction exceeds this. It changes the picture, not the sound.", ticks=(0, 2, 6, 12, 24),
    )  # fmt: skip


STARTS = (
    Start(
        "bus: the last two decibels",
        "It should sound the same, only safer; the warning shows where GR exceeds 2 dB.",
        {"ceiling_db": -1.0, "release_mode": "adaptive", "release_ms": 80.0, "lookahead_ms": 3.0, "warn_above_db": 2.0},
        (("gr_max_db", 2.0, "gain_db"),),
    ),
    Start(
        "bus: louder, still clean",
        "Compare matched; if the hits lose their edge before it seems louder, take the gain back.",
        {
            "gain_db": 4.0,
            "ceiling_db": -1.0,
            "release_mode": "adaptive",
            "release_ms": 120.0,
            "lookahead_ms": 5.0,
            "warn_above_db": 4.0,
        },
        (("gr_max_db", 4.0, "gain_db"),),
    ),
    Start(
        "kick: weight on the low end",
        "The mix should duck and come back with the kick, in time; move release until it breathes with the beat.",
        {
            "gain_db": 6.0,
            "ceiling_db": -3.0,
            "release_mode": "low-end weighted",
            "low_end_weight": 0.6,
            "release_ms": 150.0,
            "warn_above_db": 6.0,
        },
        (("gr_max_db", 6.0, "gain_db"),),
    ),
    Start(
        "snare: even hits",
        "The loudest hits should fall in line and the others should not change at all.",
        {
            "ceiling_db": -6.0,
            "peaks": "sample peak",
            "release_mode": "fixed",
            "release_ms": 40.0,
            "lookahead_ms": 1.0,
            "warn_above_db": 6.0,
        },
        (("gr_max_db", 4.0, "ceiling_db"),),
    ),
    Start(
        "voice: catch the shouts",
        "Only single loud words should be held; if whole lines sink, raise the ceiling.",
        {"ceiling_db": -8.0, "release_mode": "fixed", "release_ms": 120.0, "lookahead_ms": 5.0, "warn_above_db": 4.0},
        (("gr_max_db", 3.0, "ceiling_db"),),
    ),
    Start(
        "speech: level after make-up",
        "Consonants should stay sharp; the narrator must not seem to lean back on loud words.",
        {
            "gain_db": 8.0,
            "ceiling_db": -3.0,
            "release_mode": "adaptive",
            "release_ms": 200.0,
            "lookahead_ms": 5.0,
            "warn_above_db": 6.0,
        },
        (("gr_max_db", 6.0, "gain_db"),),
    ),
)


class Limiter(Processor):
    """Holds every peak under a ceiling.

        in --> input gain --+--> delay ------------------------------------------------------------(x)--> out
                            |                                                                       ^
                            +--> samples or true peak --> link --> lowest of the lookahead --> release --> mean

    True peak after ITU-R BS.1770-5, Annex 2, at 4x with a parabola through each crest: nothing comes over the ceiling of what
    lies below 0.45 of the rate (21.6 kHz at 48 kHz), and tones come within 0.05 dB of it; what reaches up to half the rate,
    such as white noise, may come over by up to 0.7 dB. Idle, it is a pure delay.

    >>> step = Limiter(LimiterSettings(ceiling_db=-6.0, peaks="sample peak"), 1, Context())
    >>> bool(np.abs(step.process(np.ones((1, 999), np.float32))).max() <= 10 ** (-6 / 20))
    True
    """

    kind = "limiter"
    label = "Limiter"
    about = (
        "Use it last, so that no peak goes over a ceiling. It says how much was taken off, and warns beyond the limit "
        "that you set yourself."
    )
    aliases = ("brickwall", "ceiling", "peak", "maximizer", "loudness")
    settings_model = LimiterSettings
    main = ("ceiling_db", "gain_db", "release_ms")
    pictures = ("bite", "wave", "curve", "spectrum")
    starts = STARTS
    aims = (
        Aim("gr_max_db", "GR, max", "dB", gr_max, ("gain_db", "ceiling_db"), 2.0, 0.1, 36.0),
        peak_aim("ceiling_db", target=3.0),
        louder_aim("gain_db", target=3.0),
        *level_aims("gain_db", loudness=-14.0, peak=-1.0),
    )

    @classmethod
    def summary(cls, settings: Settings) -> str:
        assert isinstance(settings, LimiterSettings)
        return f"ceiling {number(settings.ceiling_db)} dB"

    @classmethod
    def facts(cls, settings: Settings, seen: Evidence) -> list[Fact]:
        assert isinstance(settings, LimiterSettings)
        share = float((seen.reduction_db > settings.warn_above_db).mean()) if len(seen.reduction_db) else 0.0
        return [Fact("beyond_mark", f"Beyond {settings.warn_above_db:g} dB", 100.0 * share, "% of the time")]

    @classmethod
    def hints(cls, settings: Settings, seen: Evidence) -> list[Hint]:
        assert isinstance(settings, LimiterSettings) and seen.reduction is not None
        beyond = float((seen.reduction_db > settings.warn_above_db).mean())
        if beyond == 0.0:
            return []
        text = (
            f"It takes up to {seen.reduction.largest_db:.1f} dB, beyond your mark of {settings.warn_above_db:g} dB "
            f"for {100 * beyond:.1f} % of the time. Less input gain, or a clipper before it, would spare it."
        )
        return [Hint("beyond", text, "gain_db")]

    state = ("_ring", "_history", "_lanes", "_state", "_memory")
    scratch = ("_work",)

    def __init__(self, settings: Settings, channels: int, context: Context) -> None:
        most = ms_to_frames(MAX_LOOKAHEAD_MS, context.rate)
        size = 1 << (most + TRUE_PEAK_LATE + dsp.CHUNK_FRAMES).bit_length()
        self._ring = np.zeros((channels, size), np.float32)
        self._history = np.zeros((channels, TRUE_PEAK_HISTORY + dsp.CHUNK_FRAMES), np.float32)
        self._lanes = np.zeros((2, 3, most + 2))
        self._state = np.zeros(dsp.STATE)
        self._work = np.empty((dsp.WORK_ROWS, dsp.CHUNK_FRAMES + TRUE_PEAK_ROOM), np.float32)
        self._memory = detector_memory(channels, context.rate)
        self._filters = true_peak_filters()
        self._target = np.zeros(dsp.SETTINGS)
        super().__init__(settings, channels, context)

    def configure(self, settings: Settings, context: Context) -> None:
        assert isinstance(settings, LimiterSettings)
        rate = context.rate
        target = np.zeros(dsp.SETTINGS)
        target[dsp.CEILING] = settings.ceiling_db
        target[dsp.DRIVE] = settings.gain_db
        target[dsp.LINK] = settings.stereo_link
        target[dsp.LEAN] = settings.low_end_weight if settings.release_mode == "low-end weighted" else 0.0
        target[dsp.RELEASE] = time_constant(settings.release_ms, rate)
        target[dsp.ADAPTIVE] = settings.release_mode == "adaptive"
        target[dsp.SLOW_ATTACK] = time_constant(ADAPTIVE_SETTLE_MS, rate)
        target[dsp.SLOW_RELEASE] = time_constant(max(ADAPTIVE_SLOW_MS, settings.release_ms), rate)
        target[dsp.TRUE_PEAK] = settings.peaks == "true peak"
        target[dsp.WINDOW] = ms_to_frames(settings.lookahead_ms, rate)
        target[dsp.LONGEST] = longest_groups(rate)
        target[dsp.LEAN_PASS] = 1.0 - time_constant(1000.0 / (2 * np.pi * LEAN_HZ), rate)
        target[dsp.LEAN_RELEASE] = time_constant(settings.release_ms, rate)
        if target[dsp.WINDOW] != self._target[dsp.WINDOW]:
            # Another lookahead is another delay: the plan fades over from a copy, and the window starts at rest.
            self._state[dsp.PRIMED] = 0.0
        self._target = target

    @classmethod
    def low_latency_settings(cls, settings: Settings) -> Settings:
        return settings.model_copy(update={"lookahead_ms": 0.5, "peaks": "sample peak"})

    @classmethod
    def latency_of(cls, settings: Settings, rate: int) -> int:
        assert isinstance(settings, LimiterSettings)
        between = TRUE_PEAK_LATE if settings.peaks == "true peak" else 0
        return ms_to_frames(settings.lookahead_ms, rate) + between

    def treat(self, x: Audio, key: Audio | None) -> Audio:
        self._target[dsp.GLIDE] = self.glide
        y = np.empty_like(x)
        trace = self.trace(2, x.shape[1])
        dsp.limit(
            x, y, self._target, self._state, self._memory, self._ring, self._history, self._lanes, self._filters, trace,
            self._work,
        )  # fmt: skip
        # The level as it comes in, which is what the curve's axis shows.
        self.telemetry = Telemetry(trace[0], trace[1] - np.float32(self._target[dsp.DRIVE]))
        return y

    @classmethod
    def linear_gain_db(cls, settings: Settings) -> float:
        assert isinstance(settings, LimiterSettings)
        return settings.gain_db

    @classmethod
    def output_ceiling_db(cls, settings: Settings) -> float:
        assert isinstance(settings, LimiterSettings)
        return settings.ceiling_db

    @classmethod
    def curve(cls, settings: Settings, levels_db: NDArray[np.float64]) -> NDArray[np.float64]:
        """For single peaks; leaning lows add to it."""
        assert isinstance(settings, LimiterSettings)
        return np.minimum(levels_db + settings.gain_db, settings.ceiling_db)
