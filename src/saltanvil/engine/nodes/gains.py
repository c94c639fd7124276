"""Gains to the left and the right, fixed or moving over time, and a bypass that moves."""

from dataclasses import replace

import numpy as np

from saltanvil.dsp import mix
from saltanvil.dsp.glide import glide_part
from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.engine.automation import Moving
from saltanvil.engine.rack import Audio, Glide, Rack
from saltanvil.processors.base import Telemetry

#: Gains to the left and the right.
Gains = tuple[float, float]


def place(x: Audio, y: Audio, gains: Gains, moving: Moving[Gains] | None, at: int, part: float, glide: Glide) -> None:
    """Give each side its gain (see `mix.place`), or the gains that move. at: the session's frame of the block's begin."""
    if moving is None:
        glide.follows = None
        mix.place(x, y, *gains, part, glide.values)
        return
    if glide.fresh:
        here = moving.here(at, x.shape[1])
        glide.values[[mix.NOW_LEFT, mix.NOW_RIGHT]] = glide.values[[mix.FROM_LEFT, mix.FROM_RIGHT]] = here
        glide.values[mix.PRIMED] = 1.0
        glide.follows = moving
    if moving is not glide.follows:
        moving.leads(glide)
    pieces = moving.pieces(at, x.shape[1])
    ends = np.array([end for _, end, *_ in pieces], np.int64)
    glides = np.array([-ticks if ticks else part for *_, ticks in pieces], np.float64)
    mix.place_along(x, y, ends, np.array([there for _, _, there, _ in pieces], np.float64), glides, glide.values)


def moves_of(*moving: Moving[Gains] | None) -> tuple[object, ...]:
    """What tells the sound of moving gains apart."""
    return tuple(None if one is None else one.cache_key() for one in moving)


class BypassFade:
    """A bypass that moves over time: the sound goes over from the treated to the untreated, and both go on.

    treated: share of the treated sound as long as it does not move, to both sides.
    """

    def __init__(self, treated: float, moving: Moving[Gains] | None, rack: Rack, name: str, rate: int) -> None:
        self.moving, self.rate = moving, rate
        self.gains, self.rest = (treated, treated), (1.0 - treated, 1.0 - treated)
        self.glide, self.rest_glide = rack.glide("bypass", name), rack.glide("bypassed", name)
        self.others = None if moving is None else moving.mapped(lambda gains: (1.0 - gains[0], 1.0 - gains[1]))

    def __call__(self, at: int, before: Audio, treated: Audio) -> Audio:
        y, rest, part = np.empty_like(treated), np.empty_like(treated), glide_part(self.rate)
        place(treated, y, self.gains, self.moving, at, part, self.glide)
        place(before, rest, self.rest, self.others, at, part, self.rest_glide)
        mix.accumulate(rest, y)
        return y

    def telemetry(self, at: int, frames: int, telemetry: Telemetry) -> Telemetry:
        """What a step did, without what nobody hears of it."""
        share = np.full(-(-frames // TICK_FRAMES), self.gains[0], np.float32)
        for begin, end, (gain, _), _ in [] if self.moving is None else self.moving.pieces(at, frames):
            share[begin // TICK_FRAMES : -(-end // TICK_FRAMES)] = gain
        return replace(telemetry, reduction_db=telemetry.reduction_db * share[: len(telemetry.reduction_db)])

    def cache_key(self) -> tuple[object, ...]:
        return self.gains, moves_of(self.moving)
