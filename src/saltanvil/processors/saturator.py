"""The saturator."""

from functools import lru_cache
from statistics import NormalDist
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp import saturate as dsp
from saltanvil.dsp.units import db_to_gain, gain_to_db
from saltanvil.measure.distortion import UNHEARD_DB, coloured_db
from saltanvil.measure.figures import match_db
from saltanvil.processors.aims import Aim, peak_aim
from saltanvil.processors.base import Audio, Context, Processor, Settings, Start, Telemetry, number
from saltanvil.processors.colour import CHARACTERS_HELP, SINE, CharacterName, Colour, Finish, Oversampling, Stage, peaks_db
from saltanvil.processors.descriptor import choice, rule
from saltanvil.processors.evidence import Evidence, Fact, Hint

#: Held without having been measured: for noise of this level.
USUAL_DBFS = -18.0

_SIDES = {"stereo": ["left/right", "mid/side"]}


class SaturatorSettings(Settings):
    character: CharacterName = choice("plain", "Colour", "Drive", CHARACTERS_HELP)
    drive_db: float = rule(
        6.0, "Drive", "dB", -12.0, 36.0, "Drive", "Gain into the curve, which clips at 0 dBFS.", ticks=(0, 12, 24, 36)
    )
    balance: float = rule(
        0.5, "Even/odd", "%", 0.0, 1.0, "Drive",
        "None: even harmonics, the plain character's 2nd alone while it is not driven hard. All: odd ones, the 3rd alone.",
        ticks=(0, 0.25, 0.5, 0.75, 1),
    )  # fmt: skip
    lift_attacks: float = rule(
        0.0, "Lift attacks", "%", 0.0, 1.0, "Drive",
        "Lifts attacks as they pass, by up to 6 dB, and their highs by as much again; what sustains stays.", ticks=(0, 0.5, 1),
    )  # fmt: skip
    low_emphasis_db: float = rule(
        0.0, "Low emphasis", "dB", -12.0, 12.0, "Emphasis",
        "Lows raised or lowered before the drive and undone after it: how much of the colour they make.", ticks=(-6, 0, 6),
    )  # fmt: skip
    low_emphasis_hz: float = rule(
        120.0,
        "Low corner",
        "Hz",
        20.0,
        1000.0,
        "Emphasis",
        "Corner below which lows are emphasised.",
        scale="log",
        ticks=(20, 100, 1000),
    )
    high_emphasis_db: float = rule(
        0.0, "High emphasis", "dB", -12.0, 12.0, "Emphasis",
        "Highs raised or lowered before the drive and undone after it: how much of the colour they make.", ticks=(-6, 0, 6),
    )  # fmt: skip
    high_emphasis_hz: float = rule(
        4000.0,
        "High corner",
        "Hz",
        500.0,
        16000.0,
        "Emphasis",
        "Corner above which highs are emphasised.",
        scale="log",
        ticks=(1000, 10000),
    )
    output: Literal["held", "not held", "manual gain"] = choice(
        "held", "Compensation", "Output",
        "Of loudness. On: output gain keeps the loudness of the input, measured over the song. Off: drive makes it louder. "
        "Manual gain: set it yourself.", words={"held": "on", "not held": "off"},
    )  # fmt: skip
    output_db: float = rule(
        0.0,
        "Output",
        "dB",
        -24.0,
        24.0,
        "Output",
        "Output gain.",
        ticks=(-12, 0, 12),
        when={"output": ["manual gain"]},
    )
    compensate_drive: bool = choice(
        False, "Compensate drive", "Output", "Takes the drive off again after the curve, so that only peaks change.",
        when={"output": ["not held", "manual gain"]},
    )  # fmt: skip
    mix: float = rule(1.0, "Mix", "%", 0.0, 1.0, "Output", "Coloured sound against untreated sound.", ticks=(0, 0.5, 1))
    stereo: Literal["linked", "unlinked", "left/right", "mid/side"] = choice(
        "linked", "Stereo", "Stereo",
        "Linked: what follows the level follows that of both sides. Unlinked: each side its own. "
        "Or with a drive for each: left and right, or middle and sides.", moves="structure",
    )  # fmt: skip
    second_drive_db: float = rule(
        0.0, "Right/side drive offset", "dB", -24.0, 24.0, "Stereo", "How much harder the right side, or the sides, are driven.",
        ticks=(-12, 0, 12), when=_SIDES,
    )  # fmt: skip
    oversampling: Oversampling = choice(
        "8x",
        "Oversampling",
        "Quality",
        "Higher factors reduce aliasing and use more CPU. The plain character at 0 dBFS: 87 dB below the tone at 8x and 12 "
        "dB of drive, 61 at 24 dB; 110 and 83 at 16x.",
        moves="latency",
    )

    def colour(self) -> Colour:
        second = self.second_drive_db if self.stereo in _SIDES["stereo"] else 0.0
        return Colour(
            self.character, (self.drive_db, self.drive_db + second), self.balance, self.low_emphasis_db, self.low_emphasis_hz,
            self.high_emphasis_db, self.high_emphasis_hz, self.stereo == "linked", self.oversampling,
        )  # fmt: skip

    def back_db(self) -> float:
        """Gain of the coloured sound before the mix."""
        return -self.drive_db if self.compensate_drive and self.output != "held" else 0.0

    def out_db(self) -> float:
        """Gain after the mix; where the loudness is held, `output_db` is the gain that was found."""
        return self.output_db if self.output != "not held" else 0.0

    def usual_gain_db(self) -> float:
        """What holds the level of noise at -18 dBFS: what *held* begins with, until it is measured.

        For settings to a tenth of a decibel and a per cent, so that it need not be worked out for every step of a movement.
        """
        moved = {"drive_db": 1, "second_drive_db": 1, "balance": 2, "mix": 2}
        coarse = {name: round(getattr(self, name), digits) for name, digits in moved.items()}
        return usual_gain_db(
            self.model_copy(update={"output": "not held", "compensate_drive": False, "output_db": 0.0, **coarse})
        )

    def steady(self, wave: NDArray[np.float64]) -> NDArray[np.float64]:
        """What leaves for a wave that has stood for long, along the last axis; lows and highs aside."""
        shaped = self.colour().steady(wave) * db_to_gain(self.back_db())
        return np.asarray(db_to_gain(self.out_db()) * (wave + self.mix * (shaped - wave)))


#: A normal distribution by its quantiles.
NORMAL = np.array([NormalDist().inv_cdf((place + 0.5) / 128) for place in range(128)])


@lru_cache(4096)
def usual_gain_db(settings: SaturatorSettings) -> float:
    x = db_to_gain(USUAL_DBFS) * NORMAL
    return -gain_to_db(float(np.sqrt(np.mean(settings.steady(x) ** 2) / np.mean(x**2))))


STARTS = (
    Start(
        "bass: cut through the guitars",
        "Before the compressor, which then evens out what the colour makes of loud notes. Notes should get a growl, not a rasp.",
        {"character": "tube", "drive_db": 9.0, "balance": 0.4, "low_emphasis_db": -6.0, "low_emphasis_hz": 90.0, "mix": 0.7},
        (("coloured_db", -8.0, "drive_db"),),
    ),
    Start(
        "drums bus: round the hits",
        "After the compressor: it has let the attacks through, and the tape rounds them. Cymbals should not get dull.",
        {"character": "tape", "drive_db": 6.0, "balance": 0.8, "high_emphasis_db": -3.0},
        (("peaks_down_db", 3.0, "drive_db"),),
    ),
    Start(
        "voice: nearer",
        "After the compressor, so that soft and loud words get the same colour. Consonants should come forward and not spit.",
        {"character": "tube", "drive_db": 8.0, "balance": 0.3, "high_emphasis_db": 3.0, "mix": 0.6, "lift_attacks": 0.2},
        (("coloured_db", -24.0, "drive_db"),),
    ),
    Start(
        "kick: weight from the core",
        "Put it first in the path. The low note should get thicker and the click stay unchanged.",
        {"character": "transformer", "drive_db": 9.0, "balance": 0.7},
        (("coloured_db", -12.0, "drive_db"),),
    ),
    Start(
        "just before the limiter: peaks rounded",
        "Last before the limiter, which then has less to do. Only peaks change; if the mix loses its edge, take some drive back.",
        {"character": "plain", "drive_db": 4.0, "balance": 1.0, "output": "not held", "compensate_drive": True},
        (("peaks_down_db", 2.0, "drive_db"),),
    ),
    Start(
        "organ and keys: even warmth",
        "Before an equaliser, which can then shape what was added. Chords should get fuller; if they growl, less drive.",
        {"character": "plain", "drive_db": 3.0, "balance": 0.0},
        (("coloured_db", -30.0, "drive_db"),),
    ),
    Start(
        "guitars: attacks and edge back",
        "After a compressor that took too much. Listen to the first moment of each stroke.",
        {"character": "tape", "drive_db": 4.0, "lift_attacks": 0.6, "high_emphasis_db": 4.0},
    ),
    Start(
        "parallel dirt",
        "Far too much alone; blend it in until you miss it when bypassed. Try it before and after the compressor: press R.",
        {
            "character": "transformer",
            "drive_db": 24.0,
            "balance": 0.6,
            "low_emphasis_db": -9.0,
            "mix": 0.25,
            "oversampling": "16x",
        },
        (("coloured_db", -14.0, "drive_db"),),
    ),
)  # fmt: skip


def harmonics(seen: Evidence) -> float:
    """Level of what was added, against the signal, in dB."""
    return coloured_db(seen.before, seen.after)


class Saturator(Processor):
    """Adds harmonics: even or odd, with the manners of tape, a tube, a transformer, or none.

        in --+--> delay ----------------------------------------------------------------------(+)--> output --> out
             |                                                                                 ^
             +--> emphasis --> drive --> character, curve --> emphasis undone --> lift attacks --> mix +

    Only what the curve adds goes through the oversampling. What it adds of direct current is taken out (below 5 Hz).

    >>> step = Saturator(SaturatorSettings(oversampling="1x", drive_db=0.0, output="not held"), 1, Context())
    >>> float(np.abs(step.process(np.full((1, 64), 1e-4, np.float32)) - 1e-4).max()) < 1e-7
    True
    """

    kind = "saturator"
    label = "Saturator"
    about = (
        "Use it to make a part denser and to bring it forward without more peaks. With loudness compensation on you hear "
        "the colour and not the level."
    )
    aliases = ("saturation", "distortion", "tape", "tube", "warmth", "exciter", "overdrive")
    settings_model = SaturatorSettings
    main = ("drive_db", "balance", "mix")
    pictures = ("curve", "spectrum", "bite")
    starts = STARTS
    aims = (
        Aim("coloured_db", "Harmonics re signal", "dB", harmonics, ("drive_db", "mix"), -30.0, -100.0, 6.0),
        peak_aim("drive_db", target=2.0),
    )
    matched = True

    @classmethod
    def summary(cls, settings: Settings) -> str:
        assert isinstance(settings, SaturatorSettings)
        return f"{settings.character} {number(settings.drive_db)} dB"

    @classmethod
    def facts(cls, settings: Settings, seen: Evidence) -> list[Fact]:
        return [Fact("coloured_db", "Harmonics re signal", harmonics(seen), "dB")]

    @classmethod
    def hints(cls, settings: Settings, seen: Evidence) -> list[Hint]:
        """A colour that is not there, and one that may please for being louder."""
        added = coloured_db(seen.before, seen.after)
        if added < UNHEARD_DB:
            text = f"Harmonics are {-added:.0f} dB below the sound: inaudible. More drive makes more of them."
            return [Hint("idle", text, "drive_db")]
        louder = match_db(seen.before, seen.after, seen.rate)
        if louder > 1.0:
            text = f"Output {louder:.1f} LU louder, and louder is not better: hold the loudness, or listen matched (E)."
            return [Hint("louder", text, "output")]
        return []

    state = ("_stage", "_finish")

    def __init__(self, settings: Settings, channels: int, context: Context) -> None:
        self._stage = Stage(channels, context.rate)
        self._finish = Finish(channels, context.rate)
        super().__init__(settings, channels, context)

    def configure(self, settings: Settings, context: Context) -> None:
        assert isinstance(settings, SaturatorSettings)
        self.settings = settings
        colour = settings.colour()
        self._stage.configure(colour)
        self._finish.configure(
            Stage.latency_of(colour), settings.mix, settings.back_db(), settings.out_db(), settings.lift_attacks
        )

    @classmethod
    def loudness_gain_db(cls, settings: Settings) -> float | None:
        assert isinstance(settings, SaturatorSettings)
        return settings.usual_gain_db() if settings.output == "held" else None

    @classmethod
    def with_loudness_gain(cls, settings: Settings, gain_db: float) -> Settings:
        return settings.model_copy(update={"output_db": gain_db})

    @classmethod
    def structural_key(cls, settings: Settings) -> tuple[object, ...]:
        assert isinstance(settings, SaturatorSettings)
        return settings.oversampling, settings.stereo == "mid/side"

    @classmethod
    def low_latency_settings(cls, settings: Settings) -> Settings:
        return settings.model_copy(update={"oversampling": "1x"})

    @classmethod
    def latency_of(cls, settings: Settings, rate: int) -> int:
        assert isinstance(settings, SaturatorSettings)
        return Stage.latency_of(settings.colour())

    def treat(self, x: Audio, key: Audio | None) -> Audio:
        trace = self.trace(dsp.TRACE_ROWS, x.shape[1])
        apart = self.channels == 2 and self.settings.stereo == "mid/side"
        half = np.float32(0.5)
        wet = self._stage(np.stack((half * (x[0] + x[1]), half * (x[0] - x[1]))) if apart else x, trace, self.glide)
        if apart:
            wet = np.stack((wet[0] + wet[1], wet[0] - wet[1]))
        y = self._finish(wet, x, self.glide)
        self.telemetry = Telemetry(trace[0], trace[1] - np.float32(self.settings.drive_db))
        return y

    @classmethod
    def linear_gain_db(cls, settings: Settings) -> float:
        assert isinstance(settings, SaturatorSettings)
        wet = db_to_gain(settings.drive_db + settings.back_db())
        return settings.out_db() + gain_to_db(1.0 + settings.mix * (wet - 1.0))

    @classmethod
    def curve(cls, settings: Settings, levels_db: NDArray[np.float64]) -> NDArray[np.float64]:
        """Peak out for the peak of a sine between the emphasised lows and highs."""
        assert isinstance(settings, SaturatorSettings)
        return peaks_db(settings.steady(SINE * (10.0 ** (levels_db / 20.0))[:, None]))
