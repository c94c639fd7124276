"""The key filter: what a detector hears of its key."""

from typing import Literal

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp import biquad
from saltanvil.dsp.units import ms_to_frames
from saltanvil.processors.base import Audio, Processor, Settings, Stateful, choice, glide_part, rule

Slope = Literal["12 dB/oct", "24 dB/oct", "48 dB/oct"]
#: Sections of one flank at the steepest slope.
FLANK = 4


def slope_db(slope: str) -> int:
    return int(slope.split()[0])


class KeyedSettings(Settings):
    """Settings of a processor whose detector listens through a key filter."""

    key_filter: Literal["off", "high-pass", "low-pass", "band"] = choice(
        "off", "Key filter", "Detector", "What the detector hears of its key. The sound itself is not filtered."
    )
    key_low_hz: float = rule(
        120.0, "Key from", "Hz", 20.0, 20000.0, "Detector", "The detector hears what lies above this.",
        scale="log", ticks=(20, 100, 1000, 10000), when={"key_filter": ["high-pass", "band"]},
    )  # fmt: skip
    key_high_hz: float = rule(
        6000.0, "Key up to", "Hz", 20.0, 20000.0, "Detector", "The detector hears what lies below this.",
        scale="log", ticks=(20, 100, 1000, 10000), when={"key_filter": ["low-pass", "band"]},
    )  # fmt: skip
    key_slope: Slope = choice(
        "24 dB/oct", "Key slope", "Detector", "Steepness of the key filter's flanks.",
        when={"key_filter": ["high-pass", "low-pass", "band"]},
    )  # fmt: skip

    def key_sections(self, rate: float) -> NDArray[np.float64]:
        """(2 FLANK, 5); idle sections pass the sound."""
        low = self.key_filter in ("high-pass", "band")
        high = self.key_filter in ("low-pass", "band")
        return flanks(self.key_low_hz if low else None, self.key_high_hz if high else None, slope_db(self.key_slope), rate)

    def key_response_db(self, frequencies_hz: NDArray[np.float64], rate: float) -> NDArray[np.float64] | None:
        if self.key_filter == "off":
            return None
        return biquad.response_db(self.key_sections(rate), frequencies_hz, rate)


class KeyedProcessor(Processor):
    """Base of processors whose detector may listen to a key, through a filter, and (by `lookahead_ms`) ahead of the sound."""

    listens = True
    keyed = True

    @classmethod
    def low_latency_settings(cls, settings: Settings) -> Settings:
        return (
            settings.model_copy(update={"lookahead_ms": 0.0}) if "lookahead_ms" in cls.settings_model.model_fields else settings
        )

    @classmethod
    def latency_of(cls, settings: Settings, rate: int) -> int:
        return ms_to_frames(getattr(settings, "lookahead_ms", 0.0), rate)

    @classmethod
    def key_response(cls, settings: Settings, frequencies_hz: NDArray[np.float64], rate: int) -> NDArray[np.float64] | None:
        assert isinstance(settings, KeyedSettings)
        return settings.key_response_db(frequencies_hz, rate)


def flanks(low_hz: float | None, high_hz: float | None, slope: int, rate: float) -> NDArray[np.float64]:
    """A Butterworth high-pass and low-pass, each where wanted, (2 FLANK, 5)."""
    sections = [biquad.IDENTITY] * (2 * FLANK)
    if low_hz is not None:
        sections[: slope // 12] = biquad.butterworth("high-pass", low_hz, slope, rate)
    if high_hz is not None:
        sections[FLANK : FLANK + slope // 12] = biquad.butterworth("low-pass", high_hz, slope, rate)
    return np.array(sections)


class Filter(Stateful):
    """A cascade with its state, that may be switched off and then costs nothing."""

    def __init__(self, sections: int, channels: int, rate: int) -> None:
        self.target = np.tile(np.array(biquad.IDENTITY), (sections, 1))
        self.on = False
        self._now = np.zeros((sections, 5))
        self._memory = np.zeros((sections, 4, channels))
        self._state = np.array([0.0, glide_part(rate), 0.0])

    def set(self, sections: NDArray[np.float64] | None) -> None:
        """None is off. Switched on again it starts from rest."""
        on = sections is not None
        if on and not self.on:
            self._memory = np.zeros_like(self._memory)
            self._state = np.array([0.0, self._state[1], 0.0])
        if sections is not None:
            self.target = sections
        self.on = on

    def __call__(self, x: Audio) -> Audio:
        if not self.on:
            return x
        y = np.empty_like(x)
        biquad.cascade(x, y, self.target, self._now, self._memory, self._state)
        return y


class KeyFilter(Filter):
    """The key filter of one processor."""

    def __init__(self, channels: int, rate: int) -> None:
        super().__init__(2 * FLANK, channels, rate)

    def configure(self, settings: KeyedSettings, rate: float) -> None:
        self.set(None if settings.key_filter == "off" else settings.key_sections(rate))
