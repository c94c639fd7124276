"""A four-band equaliser."""

from typing import Any, Literal, cast

import numpy as np
from numpy.typing import NDArray
from pydantic import create_model

from saltanvil.dsp import biquad
from saltanvil.processors.base import Audio, Context, Processor, Settings, Start
from saltanvil.processors.descriptor import choice, rule

BandKind = Literal["bell", "low shelf", "high shelf", "high-pass", "low-pass", "off"]
BANDS = (1, 2, 3, 4)
BAND_STARTS: dict[int, tuple[BandKind, float]] = {
    1: ("low shelf", 100.0),
    2: ("bell", 400.0),
    3: ("bell", 2500.0),
    4: ("high shelf", 8000.0),
}


def band_fields(band: int) -> dict[str, Any]:
    kind, frequency = BAND_STARTS[band]
    group, own = f"Band {band}", f"band{band}_kind"
    live = ["bell", "low shelf", "high shelf", "high-pass", "low-pass"]
    return {
        own: (BandKind, choice(kind, "Shape", group, "Which filter this band is.")),
        f"band{band}_frequency_hz": (
            float,
            rule(
                frequency, "Frequency", "Hz", 10.0, 22000.0, group, "Centre of a bell, corner of the others.",
                scale="log", ticks=(20, 100, 1000, 10000), when={own: live},
            ),
        ),
        f"band{band}_gain_db": (
            float,
            rule(
                0.0, "Gain", "dB", -24.0, 24.0, group, "Gain of a bell or shelf.",
                ticks=(-12, -6, 0, 6, 12), when={own: ["bell", "low shelf", "high shelf"]},
            ),
        ),
        f"band{band}_q": (
            float,
            rule(
                0.71, "Q", "", 0.1, 20.0, group, "Narrowness; 0.71 has no bump at a corner.",
                scale="log", ticks=(0.1, 0.71, 2, 10), when={own: live},
            ),
        ),
    }  # fmt: skip


EqualiserSettings = cast(
    type[Settings],
    create_model(
        "EqualiserSettings",
        __base__=Settings,
        __module__=__name__,
        **{name: field for band in BANDS for name, field in band_fields(band).items()},
    ),
)


def sections_of(settings: Settings, rate: int) -> NDArray[np.float64]:
    """The bands' coefficients, (4, 5)."""
    result = settings.model_dump()
    return np.array(
        [
            biquad.cookbook(
                result[f"band{b}_kind"],
                result[f"band{b}_frequency_hz"],
                result[f"band{b}_q"],
                result[f"band{b}_gain_db"],
                rate,
            )
            for b in BANDS
        ]
    )


STARTS = (
    Start(
        "voice: clear and near",
        "Words should be easier to follow at low volume; stop before s sounds get sharp.",
        {
            "band1_kind": "high-pass",
            "band1_frequency_hz": 80.0,
            "band2_frequency_hz": 250.0,
            "band2_gain_db": -2.5,
            "band3_frequency_hz": 3500.0,
            "band3_gain_db": 2.5,
        },
    ),
    Start(
        "anything: rumble out",
        "A high-pass at 22 Hz costs no tone and wins headroom; nothing should seem to change.",
        {"band1_kind": "high-pass", "band1_frequency_hz": 22.0},
    ),
    Start(
        "kick: out of the bass's way",
        "The click should come forward and the middle clear up, so that both low sounds have room.",
        {"band2_frequency_hz": 320.0, "band2_gain_db": -4.0, "band2_q": 1.0, "band3_frequency_hz": 3500.0, "band3_gain_db": 3.0},
    ),
    Start(
        "guitars: less mud",
        "Chords should become lighter without becoming thin; mud lives between 180 and 390 Hz.",
        {
            "band1_kind": "high-pass",
            "band1_frequency_hz": 90.0,
            "band2_frequency_hz": 270.0,
            "band2_gain_db": -3.5,
            "band2_q": 0.9,
        },
    ),
    Start(
        "overheads: find a ring",
        "Turn the bell up, sweep it until the ring jumps out, then turn it down as far as it bothers.",
        {"band3_frequency_hz": 4200.0, "band3_gain_db": -8.0, "band3_q": 12.0},
    ),
    Start(
        "bus: a little air",
        "The top should open and cymbals not hiss; half a decibel is often enough.",
        {"band4_kind": "high shelf", "band4_frequency_hz": 8000.0, "band4_gain_db": 2.0},
    ),
)


class Equaliser(Processor):
    """Four bands, each a bell, a shelf, a high-pass or a low-pass.

        in --> band 1 --> band 2 --> band 3 --> band 4 --> out

    Filters by R. Bristow-Johnson, "Audio EQ Cookbook". Idle bands leave the sound as it is, bit for bit.

    >>> step = Equaliser(EqualiserSettings(band2_frequency_hz=250.0, band2_gain_db=-4.0), 2, Context())
    >>> step.process(np.zeros((2, 64), np.float32)).shape
    (2, 64)
    """

    kind = "equaliser"
    label = "Equaliser"
    about = (
        "Use it for the tone as a whole: take away what is too much, lift what is missing. Its response is drawn, and the "
        "spectrum shows before and after."
    )
    aliases = (
        "EQ",
        "high-pass",
        "HPF",
        "low cut",
        "low-pass",
        "LPF",
        "high cut",
        "tilt",
        "filter",
        "shelf",
        "bell",
        "notch",
        "tone",
    )
    settings_model = EqualiserSettings
    pictures = ("response", "spectrum", "bite")
    starts = STARTS

    @classmethod
    def summary(cls, settings: Settings) -> str:
        kinds = [(getattr(settings, f"band{band}_kind"), getattr(settings, f"band{band}_gain_db")) for band in range(1, 5)]
        busy = sum(kind in ("high-pass", "low-pass") or (kind != "off" and gain_db != 0.0) for kind, gain_db in kinds)
        return "1 band" if busy == 1 else f"{busy} bands"

    state = ("_now", "_memory", "_state")

    def __init__(self, settings: Settings, channels: int, context: Context) -> None:
        self._now = np.zeros((len(BANDS), 5))
        self._memory = np.zeros((len(BANDS), 4, channels))
        self._state = np.zeros(3)
        super().__init__(settings, channels, context)

    def configure(self, settings: Settings, context: Context) -> None:
        self._target = sections_of(settings, context.rate)

    def treat(self, x: Audio, key: Audio | None) -> Audio:
        y = np.empty_like(x)
        self._state[1] = self.glide
        biquad.cascade(x, y, self._target, self._now, self._memory, self._state)
        return y

    @classmethod
    def response(cls, settings: Settings, frequencies_hz: NDArray[np.float64], rate: int) -> NDArray[np.float64]:
        return biquad.response_db(sections_of(settings, rate), frequencies_hz, rate)
