"""The gate."""

from dataclasses import replace
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp import gate as dsp
from saltanvil.dsp.detector import detector_memory, longest_groups, lookahead_groups
from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.dsp.units import ms_to_frames, time_constant
from saltanvil.measure.hits import hits_begun_late
from saltanvil.measure.reduction import WORKING_DB
from saltanvil.processors.aims import Aim
from saltanvil.processors.base import Audio, Context, Settings, Start, Telemetry, number
from saltanvil.processors.descriptor import choice, rule
from saltanvil.processors.detectors import MAX_LOOKAHEAD_MS, KeyedProcessor, KeyedSettings, KeyFilter, averaging, lookahead_ring
from saltanvil.processors.evidence import Evidence, Fact, Hint

RANGE_SILENT_DB = -dsp.SILENT_FLOOR_DB


class GatingSettings(KeyedSettings):
    """What gate and expander share."""

    detector: Literal["peak", "rms"] = choice(
        "peak", "Detector", "Detector", "Peak opens at the first wave; RMS waits for the mean power to rise."
    )
    rms_ms: float = rule(
        5.0, "RMS time", "ms", 1.0, 100.0, "Detector", "Averaging time of the RMS detector.",
        scale="log", ticks=(1, 10, 100), when={"detector": ["rms"]},
    )  # fmt: skip
    stereo_link: float = rule(
        1.0, "Stereo link", "%", 0.0, 1.0, "Detector",
        "All: both sides open together. None: each side by itself.", ticks=(0, 0.5, 1),
    )  # fmt: skip
    threshold_db: float = rule(
        -30.0, "Threshold", "dB", -90.0, 0.0, "Curve", "Level at the detector that opens.", ticks=(-72, -48, -24)
    )
    hysteresis_db: float = rule(
        3.0, "Hysteresis", "dB", 0.0, 24.0, "Curve", "It closes this far below the threshold, so that it does not chatter.",
        ticks=(0, 6, 12, 24),
    )  # fmt: skip
    range_db: float = rule(
        RANGE_SILENT_DB, "Range", "dB", 0.0, RANGE_SILENT_DB, "Curve",
        "The largest gain reduction; at 90 dB a closed gate is silent.", ticks=(0, 20, 40, 60, 80),
    )  # fmt: skip
    attack_ms: float = rule(
        0.5, "Attack", "ms", 0.02, 100.0, "Timing", "Time to cover 63 % of the way open. Too long swallows the start of a hit.",
        scale="log", ticks=(0.1, 1, 10, 100),
    )  # fmt: skip
    hold_ms: float = rule(
        10.0, "Hold", "ms", 0.0, 2000.0, "Timing", "Time it stays open once the level is down. 1 to 2 ms take ticks off.",
        ticks=(0, 500, 1000, 2000),
    )  # fmt: skip
    release_ms: float = rule(
        100.0, "Release", "ms", 1.0, 4000.0, "Timing", "Time to cover 63 % of the way shut: 8.7 dB each time over.",
        scale="log", ticks=(1, 10, 100, 1000),
    )  # fmt: skip
    lookahead_ms: float = rule(
        0.0, "Lookahead", "ms", 0.0, MAX_LOOKAHEAD_MS, "Timing",
        "It opens this much before the sound; adds the same latency, which is compensated.", ticks=(0, 5, 10, 20),
        moves="latency",
    )  # fmt: skip

    def slope(self) -> float:
        """Ratio less one; 0 for a gate."""
        return 0.0

    def floor_db(self) -> float:
        """The gain of a gate that is closed."""
        return -self.range_db


class GateSettings(GatingSettings):
    pass


def openings(seen: Evidence) -> float:
    """How often it opens, a second."""
    return float(seen.rows["openings"].sum()) * seen.rate / float(seen.before.shape[1])


def open_share(seen: Evidence) -> float:
    """Share of the time it is open or holds, in per cent."""
    return 100.0 * float((seen.rows["gate_state"] >= dsp.HOLDING).mean())


GATING_AIMS = (
    Aim("openings", "Openings", "a second", openings, ("threshold_db", "hold_ms"), 2.0, 0.05, 20.0, counted=True),
    Aim("closed_share", "Closed", "%", lambda seen: 100.0 - open_share(seen), ("threshold_db",), 60.0, 1.0, 99.0, tolerance=0.5),
)


class GatingProcessor(KeyedProcessor):
    """The runtime of gate and expander."""

    level_line = "threshold_db"
    pictures = ("bite", "curve", "spectrum")
    shows_gate = True

    @classmethod
    def summary(cls, settings: Settings) -> str:
        assert isinstance(settings, GatingSettings)
        return f"opens at {number(settings.threshold_db)} dB"

    @classmethod
    def facts(cls, settings: Settings, seen: Evidence) -> list[Fact]:
        return [
            Fact("openings", "Openings", openings(seen), "a second"),
            Fact("open_share", "Time open, hold counted", open_share(seen), "%"),
        ]

    @classmethod
    def hints(cls, settings: Settings, seen: Evidence) -> list[Hint]:
        """It never opens, never shuts, opens too late, or chatters."""
        assert isinstance(settings, GatingSettings) and seen.reduction is not None
        if seen.loudest_db < settings.threshold_db:
            return [replace(seen.below_threshold(settings.threshold_db, "it never opens"), name="shut")]
        if float((seen.rows["gate_state"] == dsp.CLOSED).mean()) == 0.0 and seen.reduction.largest_db < WORKING_DB:
            text = "It stays open all through the passage: nothing is taken. A higher threshold or a shorter hold lets it shut."
            return [Hint("open", text, "threshold_db")]
        hints = []
        lost = hits_begun_late(seen.before, seen.after, seen.rate)
        if lost is not None:
            late, total, down = lost
            text = (
                f"It opens too late: {late} of {total} hits lose {down:.1f} dB of the peak in their first 10 ms. "
                "A shorter attack, or lookahead, keeps the start of the hit."
            )
            hints.append(Hint("late", text, "attack_ms"))
        openings = float(seen.rows["openings"].sum()) * seen.rate / seen.before.shape[1]
        quick = quick_reopenings(seen.rows["openings"], seen.rate)
        if quick > 0.3:
            text = (
                f"It chatters: {openings:.0f} openings a second, {100 * quick:.0f} % of them within 30 ms of the last. "
                "One or two milliseconds of hold, or more hysteresis, takes the ticks off."
            )
            hints.append(Hint("chatter", text, "hold_ms"))
        return hints

    state = ("_key", "_ring", "_state", "_memory")
    scratch = ("_work",)

    def __init__(self, settings: Settings, channels: int, context: Context) -> None:
        self._key = KeyFilter(channels)
        self._ring = lookahead_ring(channels, context.rate, dsp.CHUNK_FRAMES)
        self._state = np.zeros(dsp.STATE)
        self._memory = detector_memory(channels, context.rate)
        self._work = np.empty((dsp.WORK_ROWS, dsp.WORK_FRAMES), np.float32)
        super().__init__(settings, channels, context)

    def configure(self, settings: Settings, context: Context) -> None:
        assert isinstance(settings, GatingSettings)
        rate = context.rate
        target = np.zeros(dsp.SETTINGS)
        target[dsp.OPENS] = settings.threshold_db
        target[dsp.CLOSES] = settings.threshold_db - settings.hysteresis_db
        target[dsp.FLOOR] = settings.floor_db()
        target[dsp.SLOPE] = settings.slope()
        target[dsp.LINK] = settings.stereo_link
        target[dsp.ATTACK] = time_constant(settings.attack_ms, rate)
        target[dsp.RELEASE] = time_constant(settings.release_ms, rate)
        target[dsp.HOLD] = ms_to_frames(settings.hold_ms, rate)
        target[dsp.RMS] = averaging(settings.detector, settings.rms_ms, rate)
        target[dsp.LOOKAHEAD] = self.latency_of(settings, rate)
        target[dsp.LONGEST] = longest_groups(rate)
        target[dsp.GROUPS] = lookahead_groups(int(target[dsp.LOOKAHEAD]))
        self._target = target
        self._key.configure(settings, rate)

    def treat(self, x: Audio, key: Audio | None) -> Audio:
        self._target[dsp.GLIDE] = self.glide
        y = np.empty_like(x)
        trace = self.trace(dsp.TRACE_ROWS, x.shape[1])
        self.detector_input = self._key(x if key is None else key, self.glide)
        dsp.gate(x, self.detector_input, y, self._target, self._state, self._memory, self._ring, trace, self._work)
        self.telemetry = Telemetry(trace[0], trace[1], {"gate_state": trace[2], "openings": trace[3]})
        return y

    @classmethod
    def curve(cls, settings: Settings, levels_db: NDArray[np.float64]) -> NDArray[np.float64]:
        """The curve for falling levels above it, for rising ones below: the gate's side of the hysteresis is closed."""
        assert isinstance(settings, GatingSettings)
        under = np.minimum(levels_db - settings.threshold_db, 0.0)
        shut = under * settings.slope() if settings.slope() > 0.0 else np.where(under < 0.0, -1000.0, 0.0)
        least = -200.0 if settings.floor_db() <= dsp.SILENT_FLOOR_DB else settings.floor_db()
        return levels_db + np.maximum(shut, least)


def quick_reopenings(openings: NDArray[np.float32], rate: int) -> float:
    """Share of the openings that come within 30 ms of the one before; 0 for fewer than eight. openings: of each tick."""
    opened = np.repeat(np.arange(len(openings)), openings.astype(int))
    if len(opened) < 8:
        return 0.0
    return float((np.diff(opened) * TICK_FRAMES < 0.03 * rate).mean())


STARTS = (
    Start(
        "snare: only the hits",
        "Between hits there should be nothing; each hit must still begin with its crack.",
        {"threshold_db": -22.0, "hysteresis_db": 6.0, "attack_ms": 0.1, "hold_ms": 40.0, "release_ms": 60.0, "lookahead_ms": 1.0},
    ),
    Start(
        "kick: keep the hats out",
        "The hats should be gone between the hits; if the low ring is cut short, lengthen hold before release.",
        {
            "threshold_db": -14.0, "attack_ms": 0.2, "hold_ms": 60.0, "release_ms": 60.0, "lookahead_ms": 2.0,
            "key_filter": "low-pass", "key_high_hz": 150.0,
        },
    ),
    Start(
        "drum: open on the click",
        "It should open for this drum only; the threshold is far lower, because the key is filtered down to the click.",
        {
            "threshold_db": -44.0, "attack_ms": 0.1, "hold_ms": 80.0, "release_ms": 90.0, "lookahead_ms": 1.0,
            "key_filter": "band", "key_low_hz": 1000.0, "key_high_hz": 5000.0,
        },
    ),
    Start(
        "voice: room out between phrases",
        "Pauses should be silent; listen to the first consonant and the last breath of every phrase.",
        {
            "threshold_db": -38.0, "hysteresis_db": 6.0, "attack_ms": 3.0, "hold_ms": 150.0, "release_ms": 120.0,
            "lookahead_ms": 10.0, "detector": "rms",
        },
    ),
    Start(
        "guitar: hum in the rests",
        "The hum should go only in the rests; a chord must fade out on its own before the gate shuts.",
        {"threshold_db": -46.0, "hysteresis_db": 8.0, "attack_ms": 1.0, "hold_ms": 200.0, "release_ms": 400.0, "range_db": 30.0},
    ),
    Start(
        "room mic: short burst",
        "The room should stop dead after the hit; move hold until it ends with the beat.",
        {"threshold_db": -20.0, "attack_ms": 0.5, "hold_ms": 160.0, "release_ms": 15.0},
    ),
)  # fmt: skip


class Gate(GatingProcessor):
    """Passes sound above a threshold and closes below it.

        in --+--> lookahead ----------------------------------------------(x)--> out
             |                                                             ^
        key--+--> key filter --> peak or RMS --> link --> gate state --> attack, release
                                                  ^ threshold, hysteresis, hold

    >>> step = Gate(GateSettings(threshold_db=-40.0), 1, Context())
    >>> step.process(np.zeros((1, 64), np.float32)).any()
    np.False_
    """

    kind = "gate"
    label = "Gate"
    about = (
        "Use it to silence bleed and noise between the notes. Hold and release decide whether the end of a note is cut; "
        "the filter of its key keeps other drums from opening it."
    )
    aliases = ("noise gate", "bleed", "silence")
    settings_model: ClassVar[Any] = GateSettings
    main = ("threshold_db", "range_db", "attack_ms", "hold_ms", "release_ms")
    starts = STARTS
    aims = GATING_AIMS
