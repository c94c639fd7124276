"""The gain of what a step, a lane or a path leaves alone: make-up, input gain, drive, output level, whatever is held.

What it does beyond that gain is its treatment: the difference that is listened to, drawn and measured is before - after / gain.
"""

import math
from collections.abc import Callable, Sequence

from saltanvil.dsp.units import db_to_gain, gain_to_db
from saltanvil.processors import processor_named
from saltanvil.processors.base import Settings
from saltanvil.processors.split import SplitSettings
from saltanvil.session.blend import lane_shares
from saltanvil.session.document.path import Step
from saltanvil.session.document.session import Session
from saltanvil.session.levels import lane_levels
from saltanvil.session.settings import resolve

#: Lanes of bands or sides whose gains lie nearer together than this have one gain; others change the tone, which is treatment.
SAME_DB = 0.01
#: Less than this leaves nothing.
LEAST = 1e-4

SettingsOf = Callable[[Step], Settings]


def linear_gain_db(
    session: Session, strip_id: str, step_id: str | None = None, lane_id: str | None = None, at_s: float | None = None
) -> float:
    """Of a step, a lane or a strip's path, in dB; at_s: when settings that move are read. Raises NotFound."""

    def settings_of(step: Step) -> Settings:
        return resolve(session, step, at_s=at_s)

    return gain_to_db(linear_gain(session, strip_id, step_id, lane_id, settings_of))


def linear_gain(session: Session, strip_id: str, step_id: str | None, lane_id: str | None, settings_of: SettingsOf) -> float:
    """As `linear_gain_db`, as a ratio above 0; settings_of: those that a step runs with."""
    if step_id is not None:
        return of_step(session.step(step_id).step, settings_of)
    if lane_id is not None:
        *_, lane = session.lane(lane_id)
        return usable(abs(db_to_gain(lane.level_db)) * (1.0 if lane.bypassed else of_steps(lane.path.steps, settings_of)))
    return of_steps(session.strip(strip_id).path.steps, settings_of)


def usable(gain: float) -> float:
    """What leaves nothing alone has no gain that could be taken off."""
    return gain if gain > LEAST else 1.0


def of_steps(steps: Sequence[Step], settings_of: SettingsOf) -> float:
    return math.prod(of_step(step, settings_of) for step in steps)


def of_step(step: Step, settings_of: SettingsOf) -> float:
    if step.bypassed:
        return 1.0
    settings = settings_of(step)
    if not isinstance(settings, SplitSettings):
        return usable(db_to_gain(processor_named(step.kind).linear_gain_db(settings)))
    gains = [
        level * share * (1.0 if lane.bypassed else of_steps(lane.path.steps, settings_of))
        for lane, level, share in zip(step.lanes, lane_levels(step), lane_shares(step, settings), strict=True)
        if lane.output is None
    ]
    if settings.by == "copies":
        return usable(abs(sum(gains)))
    if gains and min(gains) > LEAST and gain_to_db(max(gains) / min(gains)) < SAME_DB:
        return gains[0]
    return 1.0
