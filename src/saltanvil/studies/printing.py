"""Printing: what leaves a track's path, aligned to the sample and with its tail, as a recording of its own."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from saltanvil.engine.audition import RENDERED
from saltanvil.engine.compile import compile_plan
from saltanvil.engine.media import Audio, Media
from saltanvil.engine.rack import Rack
from saltanvil.engine.render import render_nodes
from saltanvil.engine.tail import MAX_TAIL_S, quiet_frames, with_tail
from saltanvil.session.document.session import Session
from saltanvil.session.graph import NodeId

#: What is printed goes on until it stays below this: more may be done to it.
PRINTED_DBFS = -140.0


@dataclass(frozen=True)
class Print:
    """What leaves a path, before level and pan: from the session's first frame on. entering: the channels before the path."""

    channels: int
    entering: int
    frames: int
    blocks: Iterator[Audio]


def print_of(session: Session, media: Media, strip_id: str, cancelled: Callable[[], bool] = lambda: False) -> Print:
    """Of a track with current matches. Its blocks raise Cancelled; a mono sound that stays mono has one channel."""
    strip = session.strip(strip_id)
    assert strip.media_id is not None
    end = NodeId("end", strip_id)
    plan = compile_plan(session, media, Rack(), RENDERED, [end]).node(strip_id)
    rate = session.rate_hz
    frames = max(0, round(strip.start_s * rate) + media.frames(strip.media_id))
    last = frames + round(MAX_TAIL_S * rate)
    rendered = render_nodes(session, media, [end], 0, last, cancelled, begin=0)
    blocks = (block for (block,) in with_tail(rendered, frames, quiet_frames(session), PRINTED_DBFS))
    return Print(plan.end.channels, plan.entry.channels, frames, blocks)
