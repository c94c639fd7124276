"""What goes on sounding when a song or a file is over: echoes, rooms, filters and slow releases."""

from collections.abc import Iterator, Sequence

import numpy as np

from saltanvil.engine.media import Audio
from saltanvil.processors import processor_named
from saltanvil.processors.base import Context
from saltanvil.session.automation import Automation
from saltanvil.session.document.session import Session
from saltanvil.session.settings import resolve

#: What stays below this has decayed.
DECAYED_DBFS = -90.0
#: A tail is never longer: an echo that feeds itself back whole would not end.
MAX_TAIL_S = 30.0
#: Silence of this length, besides what the steps need before they sound again, is the end.
QUIET_S = 0.25


def quiet_frames(session: Session) -> int:
    """How long nothing must sound until nothing more can come: an echo is silent between its repeats."""
    context, automation = Context(rate=session.rate_hz, tempo_bpm=session.tempo_bpm), Automation(session)
    returning = sum(
        processor_named(step.kind).returns_after(resolve(session, step, automation=automation), context)
        for strip in session.strips
        for step in strip.path.walk()
        if not step.bypassed
    )
    return min(returning, round(MAX_TAIL_S * session.rate_hz)) + round(QUIET_S * session.rate_hz)


def last_sounding(sounds: Sequence[Audio], decayed_dbfs: float = DECAYED_DBFS) -> int:
    """Frames until the last one at which any of the sounds, each (channels, frames), has not decayed."""
    level = 10.0 ** (decayed_dbfs / 20.0)
    return max((int(where[-1]) + 1 for x in sounds if len(where := np.flatnonzero((np.abs(x) > level).any(axis=0)))), default=0)


def with_tail(
    blocks: Iterator[list[Audio]], body_frames: int, quiet: int, decayed_dbfs: float = DECAYED_DBFS
) -> Iterator[list[Audio]]:
    """The first `body_frames` of blocks, whatever they hold, and then what sounds until nothing has for `quiet` frames.

    Blocks are lists of sounds that are equally long; of the tail only what some of them still sound in is given on.
    """
    done = 0
    waiting: list[list[Audio]] = []
    silent = 0
    for block in blocks:
        frames = block[0].shape[1]
        body = min(max(body_frames - done, 0), frames)
        done += frames
        if body:
            yield [x[:, :body] for x in block]
        rest = [x[:, body:] for x in block]
        sounding = last_sounding(rest, decayed_dbfs)
        if sounding:
            yield from waiting
            waiting = []
            yield [x[:, :sounding] for x in rest]
        left = rest[0].shape[1] - sounding
        silent = left if sounding else silent + left
        if left:
            waiting.append([x[:, sounding:] for x in rest])
        if done >= body_frames and silent >= quiet:
            return
