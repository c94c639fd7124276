"""Rules of level, pan, mute and solo, for strips and for the lanes of a split."""

import math

from saltanvil.dsp.units import db_to_gain
from saltanvil.session.document.path import Key, Lane, Step
from saltanvil.session.document.session import Session, Strip

#: A level of this and less is off.
OFF_DB = -90.0


def audible(session: Session, strip: Strip, solo: bool, target: str | None = None) -> bool:
    """Whether mute and solo let a strip through to a strip it feeds (its output, unless another target is named). solo: whether
    solo counts."""
    return not strip.mute and (not solo or passes_solo(session, strip, target))


def passes_solo(session: Session, strip: Strip, target: str | None = None) -> bool:
    """Whether solo lets a strip through to a strip it feeds, whatever mutes say.

    Solo is decided at the tracks: buses pass what reaches them. A track that is not soloed itself is heard where a
    soloed bus lies on its way.
    """
    soloed = {other.id for other in session.strips if other.solo and other.kind != "main"}
    if strip.kind != "track" or not soloed or strip.id in soloed:
        return True
    ahead, seen = [target if target is not None else strip.output], set()
    while ahead:
        at = ahead.pop()
        if at in soloed:
            return True
        if at is not None and at not in seen:
            seen.add(at)
            ahead.extend(session.strip(at).targets())
    return False


def pan_gains(strip: Strip, channels: int) -> tuple[float, float]:
    """Left and right: equal power for a mono track, balance for a stereo strip (see `Strip`)."""
    angle = (strip.pan + 1.0) * math.pi / 4.0
    left, right = math.cos(angle), math.sin(angle)
    if channels == 2:
        return (1.0, 1.0) if strip.pan == 0.0 else (min(1.0, math.sqrt(2) * left), min(1.0, math.sqrt(2) * right))
    return left, right


def level_gain(level_db: float) -> float:
    return 0.0 if level_db <= OFF_DB else db_to_gain(level_db)


def lane_levels(step: Step, solo: bool = False, only: str | None = None) -> list[float]:
    """Gain of each lane by itself, negative where the polarity is turned, 0 where it is not heard.

    solo: whether the lanes' solo counts; only: a lane that is to be heard alone.
    """
    alone = {lane.id for lane in step.lanes if lane.solo} if solo else set()
    if only is not None and any(lane.id == only for lane in step.lanes):
        alone = {only}
    result = []
    for lane in step.lanes:
        audible = not lane.mute and lane.level_db > OFF_DB and (not alone or lane.id in alone)
        gain = db_to_gain(lane.level_db) if audible else 0.0
        result.append(-gain if lane.invert else gain)
    return result


def key_muted(key: Key, source: Strip, lane: Lane | None) -> bool:
    """Whether a key is silent because its source is muted: only where it is asked to follow the mute.

    source: the strip it is taken from; lane: the lane, if it is one.
    """
    return key.mutes and (source.mute or (lane is not None and lane.mute))
