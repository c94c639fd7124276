"""The echo."""

import math
from typing import Any, ClassVar, Literal

import numpy as np

from saltanvil.dsp import space as dsp
from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.dsp.units import db_to_gain, gain_to_db, ms_to_frames, note_to_ms
from saltanvil.processors.aims import KEEP_LOUDNESS, level_aims, louder_aim
from saltanvil.processors.base import Audio, Context, Processor, Settings, Start, number
from saltanvil.processors.descriptor import Note, choice, rule

MAX_TIME_MS = 4000.0
#: A whole note at 20 bpm, the slowest tempo there is.
MAX_NOTE_MS = 12000.0
#: A moved time fades over this long.
FADE_MS = 40.0
_NOTE = {"time_mode": ["note"]}


class EchoSettings(Settings):
    time_mode: Literal["note", "ms"] = choice("note", "Time mode", "Repeats", "A note value of the session's tempo, or a time.")
    note: Note = choice("1/8d", "Note", "Repeats", "Distance of the repeats as a note value; d dotted, t triplet.", when=_NOTE)
    time_ms: float = rule(
        300.0, "Time", "ms", 1.0, MAX_TIME_MS, "Repeats", "Distance of the repeats.",
        scale="log", ticks=(10, 100, 1000), when={"time_mode": ["ms"]},
    )  # fmt: skip
    feedback: float = rule(
        0.4, "Feedback", "%", 0.0, 0.95, "Repeats", "How much of each repeat is repeated again.", ticks=(0, 0.25, 0.5, 0.75)
    )
    cross: float = rule(
        0.0, "Cross", "%", 0.0, 1.0, "Repeats", "How much of each repeat goes to the other side.", ticks=(0, 0.5, 1)
    )
    width: float = rule(
        0.0, "Width", "%", 0.0, 1.0, "Repeats",
        "How far the repeats go from side to side. A mono strip becomes stereo here if there is any.", ticks=(0, 0.5, 1),
    )  # fmt: skip
    low_hz: float = rule(
        150.0, "Lows from", "Hz", 5.0, 2000.0, "Tone", "High-pass on every repeat, 6 dB per octave.",
        scale="log", ticks=(10, 100, 1000),
    )  # fmt: skip
    high_hz: float = rule(
        5000.0, "Highs up to", "Hz", 200.0, 20000.0, "Tone", "Low-pass on every repeat, 6 dB per octave.",
        scale="log", ticks=(200, 1000, 10000),
    )  # fmt: skip
    mix: float = rule(
        0.3, "Mix", "%", 0.0, 1.0, "Output", "Untreated at one end, repeats alone at the other.", ticks=(0, 0.25, 0.5, 0.75, 1)
    )
    output_db: float = rule(
        0.0,
        "Output",
        "dB",
        -24.0,
        24.0,
        "Output",
        "Gain after the mix, which takes from what is untreated.",
        ticks=(-12, 0, 12),
    )

    def delay_frames(self, context: Context) -> int:
        ms = note_to_ms(self.note, context.tempo_bpm) if self.time_mode == "note" else self.time_ms
        return max(1, ms_to_frames(min(ms, MAX_NOTE_MS), context.rate))


STARTS = (
    Start(
        "voice: dotted eighths",
        "The repeats should answer in the gaps; if they blur the words, duck them by the dry voice.",
        {"note": "1/8d", "feedback": 0.35, "low_hz": 250.0, "high_hz": 3500.0, "mix": 0.25},
        KEEP_LOUDNESS,
    ),
    Start(
        "one short repeat for width",
        "It should sound bigger, not repeated; from about 30 ms on the two come apart.",
        {"time_mode": "ms", "time_ms": 24.0, "feedback": 0.0, "mix": 0.2},
        KEEP_LOUDNESS,
    ),
    Start(
        "guitar: eighths from side to side",
        "The repeats should walk across the picture; with a cross of half they come from both sides at once.",
        {"note": "1/8", "feedback": 0.5, "cross": 1.0, "low_hz": 200.0, "high_hz": 4500.0, "mix": 0.3},
        KEEP_LOUDNESS,
    ),
    Start(
        "snare: a sixteenth behind it",
        "It should drive the groove without being counted; lower the highs until the repeat hides.",
        {"note": "1/16", "feedback": 0.15, "low_hz": 300.0, "high_hz": 2500.0, "mix": 0.18},
        KEEP_LOUDNESS,
    ),
    Start(
        "long tail of quarters",
        "It should fade behind the song for bars; watch the low end, it gathers first.",
        {"note": "1/4", "feedback": 0.75, "low_hz": 350.0, "high_hz": 3000.0, "mix": 0.3},
        KEEP_LOUDNESS,
    ),
    Start(
        "wet lane: repeats alone",
        "For the wet lane of a blend, followed by a ducker keyed by the dry sound.",
        {"note": "1/4", "feedback": 0.45, "cross": 1.0, "mix": 1.0},
    ),
)


class Echo(Processor):
    """Repeats the sound in time with the song, each repeat duller and softer.

        in --+--> (+) --> delay --> highs, lows cut --+--> mix --> out
             |     ^------------ feedback, cross -----+     ^
             +-- untreated ---------------------------------+

    >>> step = Echo(EchoSettings(time_mode="ms", time_ms=1.0, mix=1.0), 1, Context(rate=48000))
    >>> x = np.zeros((1, 64), np.float32); x[0, 0] = 1.0
    >>> int(np.abs(step.process(x)[0]).argmax())
    48
    """

    kind = "echo"
    label = "Echo"
    about = (
        "Use it on a send or in a parallel lane to give a sound depth without washing it out. Its times are note values "
        "of the session's tempo, or milliseconds."
    )
    aliases = ("delay", "repeat", "slapback")
    settings_model: ClassVar[Any] = EchoSettings
    main = ("note", "feedback", "mix")
    starts = STARTS
    aims = (louder_aim("output_db"), *level_aims("output_db"))

    @classmethod
    def summary(cls, settings: Settings) -> str:
        assert isinstance(settings, EchoSettings)
        return settings.note if settings.time_mode == "note" else f"{number(settings.time_ms)} ms"

    @classmethod
    def linear_gain_db(cls, settings: Settings) -> float:
        assert isinstance(settings, EchoSettings)
        return settings.output_db + (gain_to_db(1.0 - settings.mix) if settings.mix < 1.0 else 0.0)

    @classmethod
    def returns_after(cls, settings: Settings, context: Context) -> int:
        assert isinstance(settings, EchoSettings)
        return settings.delay_frames(context)

    @classmethod
    def widens(cls, settings: Settings) -> bool:
        assert isinstance(settings, EchoSettings)
        return settings.width > 0.0

    state = ("_state",)
    rings = ("_ring",)

    def __init__(self, settings: Settings, channels: int, context: Context) -> None:
        size = 1 << (ms_to_frames(MAX_NOTE_MS, context.rate) + TICK_FRAMES).bit_length()
        self._ring = np.zeros((channels, size), np.float32)
        self._state = np.zeros(dsp.ECHO_STATE)
        super().__init__(settings, channels, context)

    def configure(self, settings: Settings, context: Context) -> None:
        assert isinstance(settings, EchoSettings)
        rate = context.rate
        target = np.zeros(dsp.ECHO_SETTINGS)
        target[dsp.FEEDBACK] = settings.feedback
        target[dsp.CROSS] = settings.cross
        target[dsp.SPREAD] = settings.width
        target[dsp.DRY] = (1.0 - settings.mix) * db_to_gain(settings.output_db)
        target[dsp.WET] = settings.mix * db_to_gain(settings.output_db)
        target[dsp.LOW] = follower(settings.low_hz, rate)
        target[dsp.HIGH] = follower(settings.high_hz, rate)
        target[dsp.DELAY] = settings.delay_frames(context)
        target[dsp.FADE_STEP] = TICK_FRAMES * 1000.0 / (FADE_MS * rate)
        self._target = target

    def treat(self, x: Audio, key: Audio | None) -> Audio:
        self._target[dsp.ECHO_GLIDE] = self.glide
        y = np.empty_like(x)
        dsp.echo(x, y, self._target, self._state, self._ring)
        return y


def follower(hz: float, rate: float) -> float:
    """Share of the way a one-pole filter of that corner goes each frame."""
    return 1.0 - math.exp(-2.0 * math.pi * min(hz, 0.49 * rate) / rate)
