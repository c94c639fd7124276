"""What a resonance is, and the regions of the spectrum that engineers have a word for."""

import math
from collections.abc import Iterable
from dataclasses import dataclass
from typing import ClassVar

from pydantic import BaseModel, ConfigDict, Field

MAX_RESONANCES = 24
#: Where one may be.
LOWEST_HZ, HIGHEST_HZ = 20.0, 20000.0
#: No wider than this it rings; wider it is boxy, harsh or muddy.
RINGING_OCT = 0.12
#: Severity is nothing at the first height and 100 % at the second, where it sounds all the time (ours, no source).
MILD_DB, SEVERE_DB = 2.0, 12.0
#: What a study is less certain of could be the sound itself.
SURE = 0.5


class Resonance(BaseModel):
    """A place that sticks out of the spectrum.

    height_db: over the smoothed spectrum, and the most that is ever taken; time_share: of the time in which it sounds; share: of
    the amount of the treatment; by_hand: added by its user.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)
    HIGHEST_DB: ClassVar[float] = 24.0

    frequency_hz: float = Field(ge=LOWEST_HZ, le=HIGHEST_HZ)
    width_oct: float = Field(default=0.2, ge=0.03, le=2.0)
    height_db: float = Field(default=6.0, ge=0.0, le=24.0)
    time_share: float = Field(default=0.0, ge=0.0, le=1.0)
    share: float = Field(default=1.0, ge=0.0, le=1.0)
    on: bool = True
    by_hand: bool = False
    #: Left out where it is whole, so that documents of before read and return as they were.
    certainty: float = Field(default=1.0, ge=0.0, le=1.0, exclude_if=lambda value: value == 1.0)

    @property
    def sure(self) -> bool:
        return self.certainty >= SURE


@dataclass(frozen=True)
class Region:
    """A stretch of the spectrum, or (narrow) whatever is narrow anywhere."""

    label: str
    low_hz: float
    high_hz: float
    narrow: bool = False

    def holds(self, one: Resonance) -> bool:
        if self.narrow:
            return one.width_oct <= RINGING_OCT
        return self.low_hz <= one.frequency_hz < self.high_hz


#: Common practice, no source.
REGIONS = {
    "boom": Region("Boom", 20.0, 80.0),
    "mud": Region("Mud", 180.0, 390.0),
    "boxiness": Region("Boxiness", 300.0, 900.0),
    "harshness": Region("Harshness", 2000.0, 6000.0),
    "sibilance": Region("Sibilance", 5000.0, 9000.0),
    "ringing": Region("Ringing", 0.0, math.inf, narrow=True),
}


def verdict_of(resonances: Iterable[Resonance]) -> dict[str, int]:
    """Severity of each region in per cent, 0 where it is clear, by what a study is sure of; what was added by hand is left out.

    Of each resonance its height over MILD_DB by the share of time, in parts of SEVERE_DB less MILD_DB; together 100 at most.
    """
    studied = [one for one in resonances if not one.by_hand and one.sure]
    return {name: min(100, round(sum(severity(one) for one in studied if region.holds(one)))) for name, region in REGIONS.items()}


def severity(one: Resonance) -> float:
    return 100.0 * max(0.0, one.height_db - MILD_DB) / (SEVERE_DB - MILD_DB) * one.time_share


def verdict_text(resonances: Iterable[Resonance]) -> str:
    """The verdict in a sentence or two."""
    analysed = [one for one in resonances if not one.by_hand]
    studied = [one for one in analysed if one.sure]
    unsure = [one for one in analysed if not one.sure]
    doubt = f" Perhaps the sound itself, so it is off: {places(unsure)}." if unsure else ""
    bad = {name: percent for name, percent in verdict_of(studied).items() if percent}
    if not bad:
        return ("Clear: no region sticks out." if not studied else f"Clear, but {places(studied)}.") + doubt
    parts = [
        f"{REGIONS[name].label} {percent} % ({places(one for one in studied if REGIONS[name].holds(one))})"
        for name, percent in sorted(bad.items(), key=lambda item: -item[1])
    ]
    clear = [region.label.lower() for name, region in REGIONS.items() if name not in bad]
    return f"{'; '.join(parts)}." + (f" Clear: {', '.join(clear)}." if clear else "") + doubt


def places(resonances: Iterable[Resonance]) -> str:
    return ", ".join(f"{one.height_db:.0f} dB at {hertz(one.frequency_hz)}" for one in resonances)


def hertz(value: float) -> str:
    return f"{value / 1000:.3g} kHz" if value >= 1000 else f"{value:.0f} Hz"
