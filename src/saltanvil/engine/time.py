"""The session's time: ticks, pre-roll, length."""

from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.engine.media import Media
from saltanvil.session.document.session import Session

#: Played before what is wanted, so that detectors have settled; the same live and offline, so that the samples agree.
PREROLL_S = 2.0
#: Rendering begins at multiples of so many ticks, so that what is judged every few ticks is judged at the same ones everywhere.
START_TICKS = 16
#: The longest session that everything is made for.
MAX_SESSION_S = 6 * 3600


def floor_tick(frame: int) -> int:
    """The tick at or before a frame."""
    return frame // TICK_FRAMES * TICK_FRAMES


def ceil_tick(frame: int) -> int:
    """The tick at or after a frame."""
    return -(-frame // TICK_FRAMES) * TICK_FRAMES


def preroll_start(start: int, rate: int) -> int:
    """Where rendering begins so that `start` is reached settled."""
    step = START_TICKS * TICK_FRAMES
    return max(0, (start - round(PREROLL_S * rate)) // step * step)


def session_frames(session: Session, media: Media) -> int:
    """Length of the longest track, at least one second."""
    ends = [
        round(strip.start_s * session.rate_hz) + media.frames(strip.media_id)
        for strip in session.strips
        if strip.media_id is not None
    ]
    return max([session.rate_hz, *ends])


def check_length(session: Session, media: Media, before: Session | None) -> None:
    """Raises ValueError if a session has become longer than the longest there may be, naming the strip that ends last.

    before: the session before the edit, if it had the same rate; it may have been longer already.
    """
    frames = session_frames(session, media)
    if frames <= MAX_SESSION_S * session.rate_hz or (before and frames <= session_frames(before, media)):
        return
    last = max(
        (strip for strip in session.strips if strip.media_id is not None),
        key=lambda strip: round(strip.start_s * session.rate_hz) + media.frames(strip.media_id or 0),
    )
    raise ValueError(
        f"{last.name!r} would end at {frames / session.rate_hz / 3600:.2f} h; a session lasts at most "
        f"{MAX_SESSION_S // 3600} hours: start it earlier, or cut it into parts"
    )
