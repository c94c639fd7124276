"""Harmonics for the low end."""

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp import biquad, lowend, mix
from saltanvil.dsp.units import db_to_gain
from saltanvil.measure import speaker
from saltanvil.measure.distortion import UNHEARD_DB, coloured_db
from saltanvil.measure.figures import match_db
from saltanvil.processors.aims import Aim
from saltanvil.processors.base import Audio, Context, Processor, Settings, Start
from saltanvil.processors.descriptor import rule
from saltanvil.processors.evidence import Evidence, Fact, Hint
from saltanvil.processors.filters import FLANK, Filter, flanks

SLOPE_DB = 24
OFF_DB = -36.0


class LowEndSettings(Settings):
    low_hz: float = rule(
        30.0, "Pitch from", "Hz", 20.0, 300.0, "Pitch", "Lowest pitch that gets harmonics.", scale="log", ticks=(20, 50, 100, 300)
    )
    high_hz: float = rule(
        130.0, "Pitch up to", "Hz", 20.0, 300.0, "Pitch", "Highest pitch that gets harmonics.", scale="log",
        ticks=(20, 50, 100, 300),
    )  # fmt: skip
    odd_share: float = rule(
        0.6, "Even/odd", "%", 0.0, 1.0, "Harmonics",
        "0 %: 2nd and 4th harmonics, round, an octave up. 100 %: 3rd and 5th, reedy and easier to hear.", ticks=(0, 0.5, 1),
    )  # fmt: skip
    upper_share: float = rule(
        1.0,
        "4th and 5th",
        "%",
        0.0,
        1.0,
        "Harmonics",
        "How strong the 4th and 5th are against the 2nd and 3rd.",
        ticks=(0, 0.5, 1),
    )
    keep_low_hz: float = rule(
        180.0, "Keep from", "Hz", 20.0, 1000.0, "Filter",
        "Harmonics below are left out: about 40 Hz for weight that is felt, 140 to 200 Hz and up for small speakers.",
        scale="log", ticks=(20, 50, 140, 500),
    )  # fmt: skip
    keep_high_hz: float = rule(
        1200.0, "Keep up to", "Hz", 50.0, 4000.0, "Filter", "Harmonics above are left out.", scale="log", ticks=(100, 1000)
    )
    amount_db: float = rule(
        -5.0, "Amount", "dB", OFF_DB, 12.0, "Output",
        "Level of the harmonics against that of the pitch they belong to; they are added, the sound itself stays untouched.",
        ticks=(-24, -12, 0), off_at=OFF_DB,
    )  # fmt: skip

    def weights(self) -> NDArray[np.float64]:
        """Of harmonics 2 to 5."""
        even, odd = 1.0 - self.odd_share, self.odd_share
        amount = 0.0 if self.amount_db <= OFF_DB else db_to_gain(self.amount_db)
        return amount * np.array([even, odd, even * self.upper_share, odd * self.upper_share])


STARTS = (
    Start(
        "bass: small speakers",
        "Press Small speaker and bypass it: the line should stay readable. On the full range it should hardly change.",
        {
            "low_hz": 30.0,
            "high_hz": 130.0,
            "keep_low_hz": 180.0,
            "keep_high_hz": 1200.0,
            "odd_share": 0.6,
            "upper_share": 1.0,
            "amount_db": -5.0,
        },
        (("small_louder_lu", 3.0, "amount_db"),),
    ),
    Start(
        "kick: small speakers",
        "Put it after the gate, so that bleed makes no harmonics. A small speaker should gain pitch, not a separate tone.",
        {"low_hz": 40.0, "high_hz": 120.0, "keep_low_hz": 180.0, "amount_db": -3.0, "odd_share": 0.7, "upper_share": 0.8},
        (("small_louder_lu", 3.0, "amount_db"),),
    ),
    Start(
        "weight about 100 Hz",
        "An octave above the lowest strings, where weight is felt. If it booms, take less; a limiter after it holds the peaks.",
        {"low_hz": 38.0, "high_hz": 75.0, "keep_low_hz": 76.0, "keep_high_hz": 160.0, "odd_share": 0.2, "amount_db": 0.0},
        (("coloured_db", -7.0, "amount_db"),),
    ),
    Start(
        "kick: an octave of body",
        "Second harmonic only, kept low: the drum gets thicker. Put it before the compressor, which then glues both.",
        {"low_hz": 35.0, "high_hz": 70.0, "keep_low_hz": 60.0, "keep_high_hz": 160.0, "odd_share": 0.0, "upper_share": 0.0},
        (("coloured_db", -10.0, "amount_db"),),
    ),
    Start(
        "low synthetic tone: a pitch to follow",
        "Pure tones vanish on small speakers; here the upper harmonics carry the tune. Set Keep from where yours begin to play.",
        {"low_hz": 25.0, "high_hz": 130.0, "keep_low_hz": 200.0, "keep_high_hz": 1200.0, "upper_share": 1.0, "amount_db": -3.0},
        (("small_louder_lu", 4.0, "amount_db"),),
    ),
    Start(
        "bus: the low end a little clearer",
        "On the band's bus, just enough. If chords growl, lower Pitch up to until only the bass is meant.",
        {
            "low_hz": 30.0,
            "high_hz": 120.0,
            "keep_low_hz": 180.0,
            "keep_high_hz": 800.0,
            "upper_share": 1.0,
            "odd_share": 0.6,
            "amount_db": -3.0,
        },
        (("small_louder_lu", 1.0, "amount_db"),),
    ),
)


def harmonics(seen: Evidence) -> float:
    """Level of what was added, against the signal, in dB."""
    return coloured_db(seen.before, seen.after)


def small_louder(seen: Evidence) -> float:
    """How much louder it is on a small speaker, in LU."""
    return speaker.louder_lu(seen.before, seen.after, seen.rate)


class LowEnd(Processor):
    """Generates harmonics of low pitches and adds them to the dry sound.

        in --+--------------------------------------------------------------------(+)--> out
             |                                                                     ^
             +--> pitch band --> wave and envelope --> harmonics 2 to 5 --> kept --+

    The harmonics are as loud against their pitch in a soft note as in a loud one, and no others come with them: up to
    1500 Hz at most, far below half the rate, so nothing folds back. Two pitches at once make differences of theirs, too.

    >>> step = LowEnd(LowEndSettings(amount_db=-36.0), 1, Context())
    >>> step.process(np.ones((1, 3), np.float32))
    array([[1., 1., 1.]], dtype=float32)
    """

    kind = "lowend"
    label = "Low-end harmonics"
    about = (
        "Use it where a bass vanishes on a small speaker: its harmonics say which note it was. Listen with Small speaker, "
        "and see that little changes on the full range."
    )
    aliases = ("bass enhancer", "sub", "exciter", "harmonics")
    settings_model = LowEndSettings
    main = ("low_hz", "high_hz", "amount_db")
    pictures = ("spectrum", "bite")
    listens = True
    reduces = False
    starts = STARTS
    aims = (
        Aim("coloured_db", "Harmonics re signal", "dB", harmonics, ("amount_db",), -20.0, -100.0, 6.0),
        Aim("small_louder_lu", "On a small speaker", "LU", small_louder, ("amount_db",), 3.0, 0.1, 24.0),
    )

    @classmethod
    def summary(cls, settings: Settings) -> str:
        assert isinstance(settings, LowEndSettings)
        return f"{settings.low_hz:.0f} to {settings.high_hz:.0f} Hz"

    @classmethod
    def facts(cls, settings: Settings, seen: Evidence) -> list[Fact]:
        return [
            Fact("coloured_db", "Harmonics re signal", harmonics(seen), "dB"),
            Fact("small_louder_lu", "On a small speaker", small_louder(seen), "LU"),
            Fact("full_louder_lu", "On the full range", match_db(seen.before, seen.after, seen.rate), "LU"),
        ]

    @classmethod
    def hints(cls, settings: Settings, seen: Evidence) -> list[Hint]:
        """Harmonics of nothing, or of what a small speaker plays anyhow."""
        assert isinstance(settings, LowEndSettings)
        if coloured_db(seen.before, seen.after) >= UNHEARD_DB:
            return []
        band = f"{settings.low_hz:.0f} to {settings.high_hz:.0f} Hz"
        text = f"Hardly anything sounds within {band}, or the filter keeps nothing of its harmonics: nothing is added."
        return [Hint("idle", text, "high_hz")]

    state = ("_held", "_state", "_band", "_kept")

    def __init__(self, settings: Settings, channels: int, context: Context) -> None:
        self._chain = lowend.chain_coefficients(context.rate)
        self._held = np.zeros((channels, lowend.POLES))
        self._state = np.zeros(lowend.STATE)
        self._band, self._kept = (Filter(2 * FLANK, channels) for _ in range(2))
        super().__init__(settings, channels, context)

    def configure(self, settings: Settings, context: Context) -> None:
        assert isinstance(settings, LowEndSettings)
        self._weights = settings.weights()
        self._band.set(flanks(settings.low_hz, settings.high_hz, SLOPE_DB, context.rate))
        self._kept.set(flanks(settings.keep_low_hz, settings.keep_high_hz, SLOPE_DB, context.rate))

    def treat(self, x: Audio, key: Audio | None) -> Audio:
        band, harmonics, y = self._band(x, self.glide), np.empty_like(x), x.copy()
        lowend.harmonics(band, harmonics, self._weights, self.glide, self._chain, self._held, self._state)
        mix.accumulate(self._kept(harmonics, self.glide), y)
        self.detector_input = band
        return y

    @classmethod
    def key_response(cls, settings: Settings, frequencies_hz: NDArray[np.float64], rate: int) -> NDArray[np.float64]:
        """What harmonics are made of."""
        assert isinstance(settings, LowEndSettings)
        return biquad.response_db(flanks(settings.low_hz, settings.high_hz, SLOPE_DB, rate), frequencies_hz, rate)
