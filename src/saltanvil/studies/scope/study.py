"""A question about a passage of a session: checked, and what every answer to one begins with."""

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

from saltanvil.engine.audition import Scope
from saltanvil.engine.cache import SegmentCache
from saltanvil.engine.media import Media
from saltanvil.engine.scope import ScopeRenderer
from saltanvil.engine.time import session_frames
from saltanvil.errors import UserError
from saltanvil.session.document.path import Key, Step
from saltanvil.session.document.session import Session, Strip
from saltanvil.session.linear_gain import linear_gain_db
from saltanvil.studies.scope.passage import MeasuredPassage, measured, window_frames, windows

#: The shortest passage that tells anything, and the longest that is measured at once.
MIN_PASSAGE_S, MAX_PASSAGE_S = 0.02, 1800.0


class PassageRefused(UserError, ValueError):
    """The passage, or what is asked of it, cannot be measured."""


class Study:
    """start, stop: the passage in frames; cancelled: whether nobody waits for the answer any more.

    Raises PassageRefused if the passage is too short, too long or behind the end.
    """

    def __init__(
        self,
        session: Session,
        media: Media,
        cache: SegmentCache,
        start_s: float,
        end_s: float,
        cancelled: Callable[[], bool] = lambda: False,
        pool: ThreadPoolExecutor | None = None,
    ) -> None:
        self.session, self.media, self.rate = session, media, session.rate_hz
        self.cache, self.cancelled, self.pool = cache, cancelled, pool
        self.start = round(start_s * self.rate)
        self.stop = min(round(end_s * self.rate), session_frames(session, media))
        if self.stop - self.start < round(MIN_PASSAGE_S * self.rate):
            raise PassageRefused("the passage is shorter than 20 ms or lies behind the end; choose a longer one")
        if self.stop - self.start > MAX_PASSAGE_S * self.rate:
            raise PassageRefused("the passage is longer than half an hour; choose a shorter one")

    @property
    def middle_s(self) -> float:
        """Where settings that move are read for the whole of the passage."""
        return (self.start + self.stop) / (2.0 * self.rate)

    def renderer(self, start: int, stop: int) -> ScopeRenderer:
        return ScopeRenderer(self.session, self.media, self.cache, start, stop, self.cancelled, self.pool)

    def measured(self, scope: Scope) -> MeasuredPassage:
        return measured(self.renderer, scope, self.start, self.stop, self.linear_gain_db(scope))

    def linear_gain_db(self, scope: Scope) -> float:
        """The gain of what the scope leaves untouched."""
        return linear_gain_db(self.session, scope.strip_id, scope.step_id, scope.lane_id, self.middle_s)

    def step(self, scope: Scope) -> Step | None:
        return self.session.step(scope.step_id).step if scope.step_id is not None else None

    def windows(self) -> list[tuple[int, int]]:
        return list(windows(self.start, self.stop, window_frames(len(self.session.strips), self.rate)))


def key_scope(session: Session, own: Strip, key: Key) -> Scope:
    """The step, the lane or the strip (its own if none is named) that a key is taken from, before or after it."""
    if key.step_id is not None:
        return Scope(session.step(key.step_id).strip.id, key.step_id)
    if key.lane_id is not None:
        return Scope(session.lane(key.lane_id)[0].id, None, key.lane_id)
    return Scope(key.strip_id or own.id)
