"""The session's time: ticks, pre-roll, length."""

from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.engine.media import Media
from saltanvil.session.document import Session

#: Played before what is wanted, so that detectors have settled; the same live and offline, so that the samples agree.
PREROLL_S = 2.0


def floor_tick(frame: int) -> int:
    """The tick at or before a frame."""
    return frame // TICK_FRAMES * TICK_FRAMES


def ceil_tick(frame: int) -> int:
    """The tick at or after a frame."""
    return -(-frame // TICK_FRAMES) * TICK_FRAMES


def preroll_start(start: int, rate: int) -> int:
    """Where rendering begins so that `start` is reached settled."""
    return max(0, floor_tick(start - round(PREROLL_S * rate)))


def session_frames(session: Session, media: Media) -> int:
    """Length of the longest track, at least one second."""
    ends = [
        round(strip.start_s * session.rate_hz) + media.frames(strip.media_id)
        for strip in session.strips
        if strip.media_id is not None
    ]
    return max([session.rate_hz, *ends])
