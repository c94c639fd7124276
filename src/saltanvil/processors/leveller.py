"""The leveller."""

import math
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp import gate as gates
from saltanvil.dsp import level as dsp
from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.dsp.loudness import k_weighting
from saltanvil.dsp.units import time_constant
from saltanvil.processors.aims import Aim, level_aims, named, range_after
from saltanvil.processors.base import Audio, Context, Settings, Start, Telemetry, number
from saltanvil.processors.descriptor import choice, rule
from saltanvil.processors.detectors import KeyedProcessor, KeyedSettings, KeyFilter
from saltanvil.processors.filters import Filter

#: The gate's ear and the level's (the second is BS.1770's momentary window as a time constant; ours, no source).
QUICK_MS, SLOW_S = 30.0, 0.4
#: What leaves is measured over the first, and over so many times the speed if that is longer.
LONG_S, LONG_SPEEDS = 3.0, 2.0
#: Of that, how long the loudness that leaves is averaged, and how long a correction takes.
LONG_SHARE, CORRECTION_SHARE = 0.6, 0.2
#: The hop of the loudness blocks (BS.1770-5).
HOP_S = 0.1
#: ITU-R BS.1770-5, Annex 1, eq. 2.
LOUDNESS_OFFSET_DB = -0.691


class LevellerSettings(KeyedSettings):
    measure: Literal["loudness", "level"] = choice(
        "loudness", "Measures", "Target", "Loudness is K-weighted (LUFS); level is the plain mean power (dBFS RMS)."
    )
    target_db: float = rule(
        -20.0,
        "Target",
        "dB",
        -50.0,
        -6.0,
        "Target",
        "Where the part is to stand, in LUFS or dBFS RMS.",
        ticks=(-40, -30, -20, -10),
    )
    range_db: float = rule(9.0, "Range", "dB", 0.0, 24.0, "Target", "The most it raises or lowers.", ticks=(0, 6, 12, 24))
    speed_s: float = rule(
        2.0, "Speed", "s", 0.2, 20.0, "Timing", "Time to cover 63 % of a change. Slow settings keep the shape of phrases.",
        scale="log", ticks=(0.2, 1, 5, 20),
    )  # fmt: skip
    gate_db: float = rule(
        -45.0,
        "Hold below",
        "dB",
        -80.0,
        -10.0,
        "Timing",
        "Quieter than this it waits, so that pauses and breaths do not come up.",
        ticks=(-72, -60, -48, -36, -24),
    )


STARTS = (
    Start(
        "voice: verse and chorus nearer",
        "Soft lines should come to you; if breaths rise before a line, raise the hold.",
        {"target_db": -20.0, "range_db": 6.0, "speed_s": 2.5, "gate_db": -48.0},
    ),
    Start(
        "bass: soft and loud phrases nearer",
        "Phrase by phrase the low end should stand still on the meter; single notes are a compressor's business.",
        {"measure": "level", "target_db": -20.0, "range_db": 8.0, "speed_s": 0.4, "gate_db": -45.0},
    ),
    Start(
        "speech: far and near speakers",
        "Both should need the same volume; a change should take a sentence, not a word.",
        {"target_db": -23.0, "range_db": 12.0, "speed_s": 2.0, "gate_db": -52.0},
    ),
    Start(
        "music bed: keep it under",
        "The bed should never draw attention by getting louder.",
        {"target_db": -32.0, "range_db": 14.0, "speed_s": 5.0, "gate_db": -55.0},
    ),
    Start(
        "guitar: parts from several takes",
        "Edits should not be audible as steps; slower times hide them better.",
        {"target_db": -22.0, "range_db": 8.0, "speed_s": 3.0, "gate_db": -45.0},
    ),
    Start(
        "bus: gentle hand on the fader",
        "Contrast must stay: look at quiet and loud sections, they should differ almost as before.",
        {"target_db": -18.0, "range_db": 3.0, "speed_s": 8.0, "gate_db": -36.0},
    ),
)


class Leveller(KeyedProcessor):
    """Brings a part to one level, slowly, and waits through pauses.

        in --+------------------------------------------------------------------(x)--> out
             |                                                                   ^
        key--+--> key filter --> K-weighting or plain --> level while above the hold --> slow gain, corrected
                                                                                         by the loudness that leaves

    >>> step = Leveller(LevellerSettings(), 1, Context())
    >>> step.process(np.full((1, 2), 0.25, np.float32))
    array([[0.25, 0.25]], dtype=float32)
    """

    kind = "leveller"
    label = "Leveller"
    about = (
        "Use it first on a voice or a bass whose level wanders over the song, so that what follows is driven evenly. It "
        "moves slowly and is not meant to be heard."
    )
    aliases = ("AGC", "rider", "automatic gain", "speech level")
    settings_model = LevellerSettings
    main = ("target_db", "range_db", "speed_s")
    pictures = ("bite", "curve", "spectrum")
    starts = STARTS
    aims = (
        Aim("range_lu", *named("loudness_range_lu"), range_after, ("range_db",), 4.0, 0.1, 30.0),
        *level_aims("target_db")[:1],
    )

    @classmethod
    def summary(cls, settings: Settings) -> str:
        assert isinstance(settings, LevellerSettings)
        return f"to {number(settings.target_db)} dB"

    state = ("_key", "_weighting", "_state")

    def __init__(self, settings: Settings, channels: int, context: Context) -> None:
        self._key = KeyFilter(channels)
        self._weighting = Filter(2, channels)
        self._state = np.zeros(dsp.STATE)
        super().__init__(settings, channels, context)

    def configure(self, settings: Settings, context: Context) -> None:
        assert isinstance(settings, LevellerSettings)
        rate = context.rate
        loudness = settings.measure == "loudness"
        target = np.zeros(dsp.SETTINGS)
        target[dsp.TARGET] = settings.target_db
        target[dsp.RANGE] = settings.range_db
        target[dsp.GATE] = settings.gate_db
        target[dsp.OFFSET] = LOUDNESS_OFFSET_DB if loudness else -10.0 * math.log10(self.channels)
        target[dsp.QUICK] = time_constant(QUICK_MS, rate)
        long_s = max(LONG_S, LONG_SPEEDS * settings.speed_s)
        for place, seconds in (
            (dsp.SLOW, SLOW_S),
            (dsp.SPEED, settings.speed_s),
            (dsp.CORRECTION, CORRECTION_SHARE * long_s),
        ):
            target[place] = 1.0 - math.exp(-TICK_FRAMES / (seconds * rate))
        target[dsp.LONG] = 1.0 - math.exp(-HOP_S / (LONG_SHARE * long_s))
        target[dsp.HOP] = round(HOP_S * rate / TICK_FRAMES)
        self._target = target
        self._key.configure(settings, rate)
        self._weighting.set(k_weighting(rate) if loudness else None)

    def treat(self, x: Audio, key: Audio | None) -> Audio:
        y = np.empty_like(x)
        trace = self.trace(dsp.TRACE_ROWS, x.shape[1])
        self.detector_input = self._key(x if key is None else key, self.glide)
        dsp.level(x, self._weighting(self.detector_input, self.glide), y, self._target, self._state, trace)
        state = np.where(trace[2] > 0.0, np.float32(gates.OPEN), np.float32(gates.HOLDING))
        self.telemetry = Telemetry(trace[0], trace[1], {"gate_state": state})
        return y

    @classmethod
    def curve(cls, settings: Settings, levels_db: NDArray[np.float64]) -> NDArray[np.float64]:
        """Where a level that stays comes to; below the hold nothing is moved."""
        assert isinstance(settings, LevellerSettings)
        moved = np.clip(settings.target_db - levels_db, -settings.range_db, settings.range_db)
        return levels_db + np.where(levels_db > settings.gate_db, moved, 0.0)
