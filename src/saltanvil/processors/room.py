"""The room."""

import math
from typing import Any, ClassVar, Literal

import numpy as np

from saltanvil.dsp import space as dsp
from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.dsp.units import db_to_gain, gain_to_db, ms_to_frames
from saltanvil.processors.aims import KEEP_LOUDNESS, level_aims, louder_aim
from saltanvil.processors.base import Audio, Context, Processor, Settings, Start, number
from saltanvil.processors.descriptor import choice, rule
from saltanvil.processors.echo import FADE_MS, follower

MAX_PREDELAY_MS = 250.0
#: Lengths of the lines in ms, far from whole ratios, and how each size stretches them; those of the all-passes before.
LINES_MS = (11.3, 13.1, 14.9, 16.7, 18.1, 19.9, 22.3, 24.1, 26.3, 28.7, 30.7, 32.9, 35.3, 38.3, 40.9, 43.7)
SPREADS_MS = ((1.73, 3.61, 6.47, 11.29), (1.91, 3.29, 6.89, 10.73))
SCALES = {"chamber": 0.5, "room": 0.8, "church": 1.2, "hall": 1.6}
#: Power of what leaves for a steady noise of power 1: straight from the all-passes, and from the lines.
EARLY_POWER, TAIL_POWER = 0.25, 0.75
#: The most that the all-passes diffuse: they ring on, and that must be over in half of the decay.
MAX_DIFFUSION = 0.62
#: The line whose damping begins at the frequency that is set.
DAMPING_LINE_MS = 40.0
#: The longest line of the largest room, and more.
FIRST_RETURN_MS = 100.0


class RoomSettings(Settings):
    size: Literal["chamber", "room", "church", "hall"] = choice(
        "room",
        "Size",
        "Space",
        "How far the walls are apart: small ones colour, large ones echo.",
        moves="structure",
    )
    decay_s: float = rule(
        1.2, "Decay", "s", 0.1, 12.0, "Space", "Time in which the tail falls by 60 dB.", scale="log", ticks=(0.1, 1, 10)
    )
    predelay_ms: float = rule(
        10.0, "Pre-delay", "ms", 0.0, MAX_PREDELAY_MS, "Space", "Time before the first reflections.", ticks=(0, 50, 100, 200)
    )
    damping_hz: float = rule(
        5000.0, "Damping", "Hz", 500.0, 20000.0, "Tone", "Frequencies above this decay sooner.",
        scale="log", ticks=(1000, 10000),
    )  # fmt: skip
    low_hz: float = rule(
        120.0, "Lows from", "Hz", 5.0, 1000.0, "Tone", "High-pass before the reverb, 6 dB per octave.",
        scale="log", ticks=(10, 100, 1000),
    )  # fmt: skip
    width: float = rule(
        1.0,
        "Width",
        "%",
        0.0,
        1.0,
        "Output",
        "Of the tail; none is mono. A mono strip becomes stereo here if there is any.",
        ticks=(0, 0.5, 1),
    )
    mix: float = rule(
        0.25, "Mix", "%", 0.0, 1.0, "Output", "Untreated at one end, the room alone at the other.", ticks=(0, 0.25, 0.5, 0.75, 1)
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


STARTS = (
    Start(
        "voice: a small room around it",
        "It should sound placed, not like a bathroom; if you notice the room, use a little less.",
        {"size": "chamber", "decay_s": 0.6, "predelay_ms": 5.0, "damping_hz": 4000.0, "mix": 0.15},
        KEEP_LOUDNESS,
    ),
    Start(
        "snare: a second behind it",
        "The tail should end before the next hit; shorten the decay until it does.",
        {"size": "room", "decay_s": 0.9, "predelay_ms": 0.0, "damping_hz": 7000.0, "mix": 0.2},
        KEEP_LOUDNESS,
    ),
    Start(
        "drums: short and bright",
        "The kit should stand in one place; too much and the kick loses its edge.",
        {"size": "room", "decay_s": 0.5, "predelay_ms": 2.0, "damping_hz": 9000.0, "low_hz": 200.0, "mix": 0.15},
        KEEP_LOUDNESS,
    ),
    Start(
        "organ and strings: a church",
        "Chords may run into each other; the pre-delay keeps each new one clear.",
        {"size": "church", "decay_s": 3.2, "predelay_ms": 35.0, "damping_hz": 4000.0, "mix": 0.3},
        KEEP_LOUDNESS,
    ),
    Start(
        "narrator: a room nobody notices",
        "Bypass it: only then it should be missed.",
        {"size": "chamber", "decay_s": 0.35, "predelay_ms": 3.0, "damping_hz": 3500.0, "low_hz": 200.0, "mix": 0.1},
        KEEP_LOUDNESS,
    ),
    Start(
        "wet lane: the hall alone",
        "For the wet lane of a blend, followed by a ducker keyed by the dry sound.",
        {"size": "hall", "decay_s": 2.4, "predelay_ms": 30.0, "mix": 1.0},
    ),
)


class Room(Processor):
    """A reverberant room: sixteen delay lines that feed each other.

        in --> pre-delay --> lows cut --> all-passes --+-------------------- early ------------(+)--> width --> mix --> out
                                                       +--> (+) --> lines --> damping, decay --+                 ^
                                                             ^------------- Householder -------+                 |
        in ------------------------------------------------------------------------- untreated ------------------+

    Its first sound comes with the pre-delay and not later; a steady noise leaves as loud as it came, whatever size and decay.

    >>> step = Room(RoomSettings(mix=0.0), 1, Context())
    >>> step.process(np.ones((1, 4), np.float32))
    array([[1., 1., 1., 1.]], dtype=float32)
    """

    kind = "room"
    label = "Room"
    about = (
        "Use it on a send, or in a parallel lane, to put sounds into one place. Size and decay say how large, the "
        "pre-delay how near."
    )
    aliases = ("reverb", "ambience", "space")
    settings_model: ClassVar[Any] = RoomSettings
    main = ("decay_s", "mix")
    starts = STARTS
    aims = (louder_aim("output_db"), *level_aims("output_db"))

    @classmethod
    def summary(cls, settings: Settings) -> str:
        assert isinstance(settings, RoomSettings)
        return f"{settings.size}, {number(settings.decay_s)} s"

    @classmethod
    def linear_gain_db(cls, settings: Settings) -> float:
        assert isinstance(settings, RoomSettings)
        return settings.output_db + (gain_to_db(1.0 - settings.mix) if settings.mix < 1.0 else 0.0)

    @classmethod
    def returns_after(cls, settings: Settings, context: Context) -> int:
        assert isinstance(settings, RoomSettings)
        return ms_to_frames(settings.predelay_ms + FIRST_RETURN_MS, context.rate)

    state = ("_pre", "_diffusers", "_lines", "_state")
    scratch = ("_work",)

    def __init__(self, settings: Settings, channels: int, context: Context) -> None:
        assert isinstance(settings, RoomSettings)
        rate, scale = context.rate, SCALES[settings.size]
        self._delays = np.maximum([ms_to_frames(ms * scale, rate) for ms in LINES_MS], dsp.MIN_DELAY_FRAMES)
        self._spreads = np.maximum([[ms_to_frames(ms, rate) for ms in side] for side in SPREADS_MS], dsp.MIN_DELAY_FRAMES)
        self._pre = np.zeros((2, power_above(ms_to_frames(MAX_PREDELAY_MS, rate))), np.float32)
        self._diffusers = np.zeros((2, dsp.DIFFUSERS, power_above(int(self._spreads.max()))), np.float32)
        self._lines = np.zeros((dsp.LINES, power_above(int(self._delays.max()))), np.float32)
        self._state = np.zeros(dsp.ROOM_STATE)
        self._work = np.empty((dsp.ROOM_WORK_ROWS, TICK_FRAMES), np.float32)
        super().__init__(settings, channels, context)

    @classmethod
    def widens(cls, settings: Settings) -> bool:
        assert isinstance(settings, RoomSettings)
        return settings.width > 0.0

    @classmethod
    def structural_key(cls, settings: Settings) -> tuple[object, ...]:
        assert isinstance(settings, RoomSettings)
        return (settings.size,)

    def configure(self, settings: Settings, context: Context) -> None:
        assert isinstance(settings, RoomSettings)
        rate = context.rate
        target = np.zeros(dsp.ROOM_SETTINGS)
        target[dsp.ROOM_DRY] = (1.0 - settings.mix) * db_to_gain(settings.output_db)
        target[dsp.ROOM_WET] = settings.mix * db_to_gain(settings.output_db)
        target[dsp.ROOM_LOW] = follower(settings.low_hz, rate)
        target[dsp.WIDTH] = settings.width
        # Each line loses in its own length what 60 dB in the decay time make of it.
        gains = 10.0 ** (-3.0 * self._delays / (settings.decay_s * rate))
        target[dsp.GAINS : dsp.GAINS + dsp.LINES] = gains
        # A short line is passed more often: its damping begins higher, so that lines of all lengths lose the same in a second.
        for n, frames in enumerate(self._delays):
            corner = settings.damping_hz * DAMPING_LINE_MS * rate / (1000.0 * frames)
            target[dsp.ABSORB + n] = follower(corner, rate) if corner < 0.45 * rate else 1.0
        # Noise in all lines is k / (1 - k) as strong as it enters them, k the power that a round keeps, and half of the lines
        # are heard on a side: so the level depends on neither size nor decay nor damping.
        absorb = target[dsp.ABSORB : dsp.ABSORB + dsp.LINES, None]
        passed = absorb**2 / (1.0 - 2.0 * (1.0 - absorb) * np.cos(np.linspace(0.0, np.pi, 129)) + (1.0 - absorb) ** 2)
        kept = np.mean(gains[:, None] ** 2 * passed, axis=0)
        target[dsp.EARLY] = math.sqrt(EARLY_POWER)
        target[dsp.TAIL] = math.sqrt(TAIL_POWER / (0.5 * dsp.LINES * float(np.mean(kept / (1.0 - kept)))))
        longest = float(self._spreads.max()) / rate
        target[dsp.DIFFUSION] = min(MAX_DIFFUSION, 10.0 ** (-3.0 * longest / (0.5 * settings.decay_s)))
        target[dsp.PREDELAY] = ms_to_frames(settings.predelay_ms, rate)
        target[dsp.ROOM_FADE_STEP] = TICK_FRAMES * 1000.0 / (FADE_MS * rate)
        self._target = target

    def treat(self, x: Audio, key: Audio | None) -> Audio:
        self._target[dsp.ROOM_GLIDE] = self.glide
        y = np.empty_like(x)
        dsp.room(
            x, y, self._target, self._state, self._delays, self._spreads, self._pre, self._diffusers, self._lines, self._work
        )  # fmt: skip
        return y


def power_above(frames: int) -> int:
    """A ring's size that reaches back that far within a tick."""
    return 1 << (frames + TICK_FRAMES).bit_length()
