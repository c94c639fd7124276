"""Keeping the matches of every open session up to date: measured in the background, from the document alone."""

import logging
import queue
import threading
from collections.abc import Callable
from concurrent.futures import Executor

from saltanvil.engine.render import Cancelled
from saltanvil.session.document.base import NotFound
from saltanvil.session.format import Unreadable
from saltanvil.store.media import MediaStore
from saltanvil.store.sessions import SessionStore, Version
from saltanvil.studies.match.match import Matched, Matcher, adopted, outdated

log = logging.getLogger(__name__)


#: Measuring waits until nothing has been edited for so long: it does not begin anew for every step of a drag.
SETTLE_S = 0.6


class MatchKeeper:
    """One thread that measures what an edit left out of date.

    check: call it when a session changed or was opened; settle_s: so long it waits for more. wait_for_sound: waits while sound is
    behind a change; sounding: whether anyone listens. changed: told of the version with new matches; measuring: told which
    steps of a session are being measured, by id, and that none is any more.
    """

    def __init__(
        self,
        sessions: SessionStore,
        media: MediaStore,
        pool: Executor,
        changed: Callable[[Version], object],
        measuring: Callable[[int, list[str]], None],
        begin: Callable[[], None] = lambda: None,
        wait_for_sound: Callable[[], None] = lambda: None,
        sounding: Callable[[], bool] = lambda: False,
        settle_s: float = SETTLE_S,
    ) -> None:
        self._sessions, self._media, self._pool = sessions, media, pool
        self._changed, self._tell, self._begin, self._wait_for_sound = changed, measuring, begin, wait_for_sound
        self._settle_s, self._sounding = settle_s, sounding
        self._edited = threading.Event()
        self._waiting: queue.Queue[int | None] = queue.Queue()
        self._queued: set[int] = set()
        self._lock = threading.Lock()
        self._closed = False
        self._matchers: dict[int, Matcher] = {}
        self._measuring: dict[int, list[str]] = {}
        self._thread = threading.Thread(target=self._run, name="matches", daemon=True)
        self._thread.start()

    def check(self, session_id: int, edited: bool = False) -> None:
        if edited:
            self._edited.set()
        with self._lock:
            if session_id in self._queued or self._closed:
                return
            self._queued.add(session_id)
        self._waiting.put(session_id)

    def measuring(self, session_id: int) -> list[str]:
        """The steps whose match is out of date and being measured."""
        return self._measuring.get(session_id, [])

    def close(self) -> None:
        with self._lock:
            self._closed = True
        self._edited.set()
        self._waiting.put(None)
        self._thread.join(timeout=10.0)

    def _run(self) -> None:
        self._begin()
        while (session_id := self._waiting.get()) is not None:
            self._edited.clear()
            self._wait_until_settled()
            with self._lock:
                self._queued.discard(session_id)
            try:
                self._settle(session_id)
            except Cancelled:
                continue
            except (NotFound, Unreadable):  # deleted, or of a newer format: nothing to measure
                self._matchers.pop(session_id, None)
            except Exception:
                log.exception("the matches of session %s could not be measured", session_id)
            self._say(session_id, [])

    def _wait_until_settled(self) -> None:
        while not self._closed and self._edited.wait(self._settle_s):
            self._edited.clear()

    def _settle(self, session_id: int) -> None:
        """Measure until everything is up to date."""
        while not self._closed:
            version = self._sessions.version(session_id)
            matcher = self._matcher(version)
            adopting = adopted(version.session, matcher)
            if adopting:
                self._changed(self._sessions.settle(session_id, adopting))
                continue
            late = list(outdated(version.session, matcher))
            self._say(session_id, [result.step.id for result in late])
            if not late:
                return
            gone = self._gone(version, matcher, late[0])
            try:
                match = matcher.measure(version.session, late[0], gone)
            except Cancelled:
                continue
            self._changed(self._sessions.settle(session_id, {late[0].step.id: match}))

    def _matcher(self, version: Version) -> Matcher:
        rated = self._media.at_rate(version.session.rate_hz)
        return self._matchers.setdefault(version.id, Matcher(rated, self._pool))

    def _gone(self, version: Version, matcher: Matcher, result: Matched) -> Callable[[], bool]:
        """Ticket while a match is measured: whether nobody wants it any more. Edits that cannot change it do not stop it."""
        seen = version.revision

        def gone() -> bool:
            nonlocal seen
            if self._closed:
                return True
            if self._edited.is_set() and self._sounding():  # while something is dragged and heard nothing is measured
                self._edited.clear()
                self._wait_until_settled()
            self._wait_for_sound()
            now = self._sessions.version(version.id)
            if now.revision == seen:
                return False
            seen = now.revision
            return not any(other.step.id == result.step.id and other.key == result.key for other in matcher.matches(now.session))

        return gone

    def _say(self, session_id: int, step_ids: list[str]) -> None:
        if self._measuring.get(session_id, []) != step_ids:
            self._measuring[session_id] = step_ids
            self._tell(session_id, step_ids)
