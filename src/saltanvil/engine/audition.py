"""How a plan is listened to: which scope, which side of it, at what gain. Never part of what is rendered."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

import numpy as np

from saltanvil.dsp import mix
from saltanvil.dsp.glide import glide_part
from saltanvil.dsp.units import db_to_gain
from saltanvil.engine.rack import Audio, Rack
from saltanvil.session.document.base import MAIN_ID, NotFound
from saltanvil.session.document.session import Session

#: *key* is the key of the scope's step; *solo lane* passes the scope's lane alone.
Listening = Literal["before", "after", "difference", "key", "solo lane"]


@dataclass(frozen=True)
class Scope:
    """What is compared: a step, a lane, or a whole strip's path."""

    strip_id: str = MAIN_ID
    step_id: str | None = None
    lane_id: str | None = None


@dataclass(frozen=True)
class Audition:
    """How a plan is listened to. `matched_db` goes on *before*, so that *after* is always what will be rendered.

    balance: a strip and the gain by which the version of it that sounds (an order of its steps, a slot) is as loud as the
    one it is compared with.
    plain: whether the difference holds the gain of what the scope leaves alone.
    live: whether what is for listening only counts: solo, and the session's low latency.
    """

    scope: Scope = Scope()
    listening: Listening = "after"
    matched_db: float = 0.0
    balance: tuple[str, float] = ("", 0.0)
    live: bool = True
    plain: bool = False


#: As it is measured and rendered.
RENDERED = Audition(live=False)


@dataclass
class ScopeMonitor:
    """What the listener wants of the scope.

    straight: takes a sound past all later steps to the ear; it is told by how many frames that sound is late.
    linear_gain: of what the scope leaves alone, as it is now.
    """

    audition: Audition
    rack: Rack
    rate: int
    straight: Callable[[Audio, int], None]
    linear_gain: Callable[[], float]

    def compare(self, before: Audio, after: Audio, latency_frames: int) -> Audio:
        """What goes on from the scope. *Taken* goes straight to the ear."""
        if self.audition.listening == "before":
            y = np.empty_like(before)
            gain = db_to_gain(self.audition.matched_db)
            mix.place(before, y, gain, gain, glide_part(self.rate), self.rack.glide("matched").values)
            return y
        if self.audition.listening == "difference":
            gain = 1.0 if self.audition.plain else 1.0 / self.linear_gain()
            y = np.empty_like(after)
            mix.place(after, y, gain, gain, glide_part(self.rate), self.rack.glide("difference gain").values)
            self.straight(before - y, latency_frames)
        return after


def heard_alone(session: Session, audition: Audition) -> str | None:
    """The lane that *only* lets through: the scope itself, or the lane its step stands in."""
    scope = audition.scope
    if audition.listening != "solo lane" or (scope.step_id is None and scope.lane_id is None):
        return None
    try:
        return scope.lane_id if scope.step_id is None else session.step(scope.step_id).lane_id
    except NotFound:
        return None
