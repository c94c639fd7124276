"""Detectors that may listen to a key: the key filter, lookahead, and the settings they share."""

from typing import Literal

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp import biquad
from saltanvil.dsp.units import ms_to_frames, time_constant
from saltanvil.processors.base import Audio, Processor, Settings
from saltanvil.processors.descriptor import choice, rule
from saltanvil.processors.filters import FLANK, Filter, Slope, flanks, slope_db

MAX_LOOKAHEAD_MS = 20.0


def lookahead_ring(channels: int, rate: int, chunk_frames: int) -> Audio:
    """Memory for the longest lookahead and a kernel's chunk, (channels, a power of two)."""
    size = 1 << (ms_to_frames(MAX_LOOKAHEAD_MS, rate) + chunk_frames).bit_length()
    return np.zeros((channels, size), np.float32)


def averaging(detector: Literal["peak", "rms"], rms_ms: float, rate: int) -> float:
    """The kernel's averaging coefficient: 0 for a peak detector."""
    return time_constant(rms_ms, rate) if detector == "rms" else 0.0


class KeyedSettings(Settings):
    """Settings of a processor whose detector listens through a key filter."""

    key_filter: Literal["off", "high-pass", "low-pass", "band"] = choice(
        "off", "Key filter", "Detector", "Filters the key only; the audio itself is not filtered."
    )
    key_low_hz: float = rule(
        120.0, "Key from", "Hz", 20.0, 20000.0, "Detector", "High-pass of the key: the detector ignores what is below.",
        scale="log", ticks=(20, 100, 1000, 10000), when={"key_filter": ["high-pass", "band"]},
    )  # fmt: skip
    key_high_hz: float = rule(
        6000.0, "Key up to", "Hz", 20.0, 20000.0, "Detector", "Low-pass of the key: the detector ignores what is above.",
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


class KeyFilter(Filter):
    """The key filter of one processor."""

    def __init__(self, channels: int) -> None:
        super().__init__(2 * FLANK, channels)

    def configure(self, settings: KeyedSettings, rate: float) -> None:
        self.set(None if settings.key_filter == "off" else settings.key_sections(rate))
