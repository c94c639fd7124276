"""How loud each lane of a split lies in its sum."""

import math

import numpy as np

from saltanvil.dsp.units import db_to_gain, gain_to_db
from saltanvil.processors.split import SplitSettings
from saltanvil.session.document.path import Match, Step
from saltanvil.session.levels import lane_levels


def shares(law: str, position: float) -> tuple[float, float]:
    """Gains of the untreated and the treated side at a position of the blend, 0 to 1, before any match."""
    if law == "equal power":
        # Exactly 0 at the ends, so that an end is one side alone.
        return (math.cos(position * math.pi / 2) if position < 1.0 else 0.0), math.sin(position * math.pi / 2)
    return 1.0 - position, position


def blend_gains(settings: SplitSettings, match: Match | None) -> tuple[float, float]:
    """Gains of the two sides of a blended split, the match and its trim included. settings: those it runs with."""
    untreated, treated = shares(settings.law, settings.position)
    treated *= db_to_gain(settings.trim_db)
    if settings.law != "steady" or match is None or match.refused is not None or not match.gains_db:
        return untreated, treated
    at = settings.position * (len(match.gains_db) - 1)
    gain = db_to_gain(float(np.interp(at, np.arange(len(match.gains_db)), match.gains_db)))
    return untreated * gain, treated * gain * db_to_gain(match.matched_db)


def lane_shares(step: Step, settings: SplitSettings) -> tuple[float, ...]:
    """What a blend gives each lane on top of its level; 1 where there is none. settings: those the split runs with."""
    return blend_gains(settings, step.match) if step.blended else (1.0,) * len(step.lanes)


def full_sum_db(step: Step, settings: SplitSettings) -> float:
    """What a sum by copies does to sound that all its lanes leave as it is: +6.02 dB for two full copies."""
    return gain_to_db(
        abs(sum(level * share for level, share in zip(lane_levels(step), lane_shares(step, settings), strict=True)))
    )
