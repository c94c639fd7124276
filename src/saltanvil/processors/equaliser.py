"""A four-band equaliser."""

from typing import Any, Literal, cast

import numpy as np
from numpy.typing import NDArray
from pydantic import create_model

from saltanvil.dsp import biquad
from saltanvil.processors.base import Audio, Context, Processor, Settings, choice, glide_part, rule

BandKind = Literal["bell", "low shelf", "high shelf", "high-pass", "low-pass", "off"]
BANDS = (1, 2, 3, 4)
STARTS: dict[int, tuple[BandKind, float]] = {
    1: ("low shelf", 100.0),
    2: ("bell", 400.0),
    3: ("bell", 2500.0),
    4: ("high shelf", 8000.0),
}


def band_fields(band: int) -> dict[str, Any]:
    kind, frequency = STARTS[band]
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
    found = settings.model_dump()
    return np.array(
        [
            biquad.cookbook(
                found[f"band{b}_kind"],
                found[f"band{b}_frequency_hz"],
                found[f"band{b}_q"],
                found[f"band{b}_gain_db"],
                rate,
            )
            for b in BANDS
        ]
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
    settings_model = EqualiserSettings
    pictures = ("response", "bite")

    def __init__(self, settings: Settings, channels: int, context: Context) -> None:
        self._now = np.zeros((len(BANDS), 5))
        self._memory = np.zeros((len(BANDS), 4, channels))
        self._state = np.array([0.0, glide_part(context.rate), 0.0])
        super().__init__(settings, channels, context)

    def configure(self, settings: Settings, context: Context) -> None:
        self._target = sections_of(settings, context.rate)

    def treat(self, x: Audio, key: Audio | None) -> Audio:
        y = np.empty_like(x)
        biquad.cascade(x, y, self._target, self._now, self._memory, self._state)
        return y

    @classmethod
    def response(cls, settings: Settings, frequencies_hz: NDArray[np.float64], rate: int) -> NDArray[np.float64]:
        return biquad.response_db(sections_of(settings, rate), frequencies_hz, rate)
