"""A plain gain."""

import numpy as np

from saltanvil.dsp import mix
from saltanvil.dsp.units import db_to_gain
from saltanvil.processors.aims import level_aims
from saltanvil.processors.base import Audio, Context, Processor, Settings, signed
from saltanvil.processors.descriptor import choice, rule


class TrimSettings(Settings):
    gain_db: float = rule(0.0, "Gain", "dB", -60.0, 24.0, "Level", "How much louder or softer.", ticks=(-24, -12, 0, 12))
    invert: bool = choice(False, "Invert polarity", "Level", "Turn the waveform upside down.")


class Trim(Processor):
    """A gain, and the polarity.

        in --(x gain)--> out

    >>> Trim(TrimSettings(gain_db=-6.0), 1, Context()).process(np.ones((1, 4), np.float32))[0, 0]
    np.float32(0.5011872)
    """

    kind = "trim"
    aims = level_aims("gain_db")
    label = "Trim"
    about = "Use it to set the level between two steps, or to turn the polarity. It has no tone of its own."
    aliases = ("gain", "volume", "level")
    settings_model = TrimSettings
    main = ("gain_db",)
    grid_ticks = 4

    @classmethod
    def linear_gain_db(cls, settings: Settings) -> float:
        assert isinstance(settings, TrimSettings)
        return settings.gain_db

    @classmethod
    def summary(cls, settings: Settings) -> str:
        assert isinstance(settings, TrimSettings)
        return f"{signed(settings.gain_db)} dB"

    state = ("_glide",)

    def __init__(self, settings: Settings, channels: int, context: Context) -> None:
        self._glide = np.zeros(mix.GLIDE_STATE)
        super().__init__(settings, channels, context)

    def configure(self, settings: Settings, context: Context) -> None:
        assert isinstance(settings, TrimSettings)
        self._gain = db_to_gain(settings.gain_db) * (-1.0 if settings.invert else 1.0)

    def treat(self, x: Audio, key: Audio | None) -> Audio:
        y = np.empty_like(x)
        mix.place(x, y, self._gain, self._gain, self.glide, self._glide)
        return y
