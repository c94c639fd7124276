"""What the routes share: the stores, the cache, the jobs and the open auditions."""

import asyncio
import contextlib
import logging
import shutil
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import Executor, ThreadPoolExecutor
from pathlib import Path
from typing import Annotated, Any, TypeVar
from weakref import WeakSet

from fastapi import Depends, Request
from fastapi import Path as PathParameter

from saltanvil.engine.audition import Scope
from saltanvil.engine.cache import SegmentCache
from saltanvil.engine.memory import give_back_memory, keep_freed_memory
from saltanvil.engine.priority import lower_priority, realtime_priority
from saltanvil.engine.render import Cancelled
from saltanvil.engine.time import check_length
from saltanvil.session.document.base import NotFound
from saltanvil.session.document.session import Session
from saltanvil.session.edits.base import Edit, EditRefused
from saltanvil.session.edits.recordings import media_named
from saltanvil.store.comparisons import ComparisonStore
from saltanvil.store.copies import copy_documents
from saltanvil.store.database import MAX_NUMBER, Database, StoreError
from saltanvil.store.deliveries import DeliveryStore
from saltanvil.store.folder import DataFolder
from saltanvil.store.media import MediaRow, MediaStore
from saltanvil.store.presets import PresetStore
from saltanvil.store.renders import RENDERS, RenderFile, default_bytes
from saltanvil.store.sessions import SessionStore, Version
from saltanvil.studies.contrast import KnownContrasts
from saltanvil.studies.moving import MovingValue, moving_values
from saltanvil.studies.routing import Routing, routing_after
from saltanvil.web.audition import TabAudition
from saltanvil.web.comparing import Replacement, Replacements
from saltanvil.web.delivering import Checks
from saltanvil.web.jobs import JobRunner
from saltanvil.web.matching import MatchKeeper
from saltanvil.web.remaining import Remaining
from saltanvil.web.uploads import Imports

log = logging.getLogger(__name__)
T = TypeVar("T")

HOUSEKEEPING_S = 3600.0
GIVE_BACK_S = 4.0
#: Chunks of media kept for studies; the sound process keeps as much for playing.
MEDIA_BYTES = 1 << 26
#: So long an answer or a study waits for sound at most.
SOUND_FIRST_S = 0.1
#: And a study with all its parts for this share of its time.
WAITING_SHARE = 0.6
#: Questions over the whole song give way to those about the passage, for at most this share of their time.
WHOLE_SONG, WHOLE_SONG_SHARE = frozenset({"contrast"}), 0.9


class Services:
    """Made once for each server."""

    def __init__(self, folder: Path, render_bytes: int | None = None) -> None:
        """render_bytes: what the render store may take on the disk. Raises StoreError if another process works with the folder,
        or its database cannot be used."""
        keep_freed_memory()
        self.folder = folder
        self._held = DataFolder(folder)
        try:
            self.database = Database(self._held.database)
            for name in ("uploads", "exports"):
                shutil.rmtree(folder / name, ignore_errors=True)
                (folder / name).mkdir(mode=0o700)
        except BaseException:
            self._held.close()
            raise
        self.sessions = SessionStore(self.database)
        self.presets = PresetStore(self.database)
        self.comparisons = ComparisonStore(self.database)
        self.deliveries = DeliveryStore(self.database)
        self.renders = RenderFile(folder / RENDERS, default_bytes(folder) if render_bytes is None else render_bytes)
        self.media = MediaStore(self.database, MEDIA_BYTES, self.renders)
        self.media.clear_unfinished()
        self.cache = SegmentCache()
        self.contrasts = KnownContrasts()
        self.jobs = JobRunner()
        self.imports = Imports()
        self.pool = ThreadPoolExecutor(2, thread_name_prefix="strips", initializer=lower_priority)
        # Each sort of question has threads of its own, so that a long one never keeps a picture waiting.
        self.pictures = ThreadPoolExecutor(2, thread_name_prefix="picture", initializer=lower_priority)
        self.studies = ThreadPoolExecutor(1, thread_name_prefix="study", initializer=lower_priority)
        # What is moved while it plays.
        self.movers = ThreadPoolExecutor(1, thread_name_prefix="move", initializer=realtime_priority)
        self.bench = ThreadPoolExecutor(1, thread_name_prefix="bench", initializer=lower_priority)
        self._auditions: dict[str, TabAudition] = {}
        self._lock = threading.Lock()
        self.matches = MatchKeeper(
            self.sessions, self.media, self.pool, lambda version: self.changed(version, None), self._tell_measuring,
            lower_priority, self.wait_for_sound, self.sounding,
        )  # fmt: skip
        self._asked: dict[tuple[str, str], int] = {}
        #: Questions that are not answered yet.
        self._tickets: WeakSet[Ticket] = WeakSet()
        #: Questions about a passage that are worked on.
        self._at_work = 0
        self._figures = threading.Condition()
        #: What was last told of each session's routing, and of its values that move.
        self._routings: dict[int, tuple[Session, Routing]] = {}
        self._moving: dict[int, tuple[Session, list[MovingValue]]] = {}
        #: What was measured of imported files.
        self.media_facts: dict[MediaRow, Any] = {}
        #: What tabs hear instead of the document: blind comparisons, deliveries.
        self.replacements = Replacements()
        #: Delivery checks whose sound is there to be listened to.
        self.checks = Checks()
        #: How far the questions are that take long, by tab and kind.
        self.progress_of: dict[tuple[str, str], Remaining] = {}
        self._closing = threading.Event()
        self._housekeeper = threading.Thread(target=self._keep_house, name="housekeeping", daemon=True)
        self._housekeeper.start()

    def close(self) -> None:
        self._closing.set()
        with self._lock:
            auditions = list(self._auditions.values())
            self._asked.clear()
        for audition in auditions:
            audition.player.close()
        self.jobs.close()
        self.matches.close()
        for pool in (self.pool, self.pictures, self.studies, self.bench, self.movers):
            pool.shutdown(wait=False, cancel_futures=True)
        self._housekeeper.join(timeout=10.0)
        self.renders.close()
        self.database.close()
        self._held.close()

    def _keep_house(self) -> None:
        """Once a day a copy of the documents; media that nothing needs go after a week; memory that is free goes back to the
        system (what sounds is in another process)."""
        lower_priority()
        tidied = time.monotonic() - HOUSEKEEPING_S
        while True:
            if time.monotonic() - tidied >= HOUSEKEEPING_S:
                tidied = time.monotonic()
                try:
                    copy_documents(self.folder)
                    self.media.sweep()
                except StoreError as error:
                    log.warning("%s", error)
            if self._closing.wait(GIVE_BACK_S):
                return
            give_back_memory()

    # ---- auditions -------------------------------------------------------------------------------------------------

    def join(self, audition: TabAudition) -> None:
        with self._lock:
            self._auditions[audition.tab] = audition
        audition.replace_sound(self.replacements.of(audition.tab, audition.session_id))

    def leave(self, audition: TabAudition) -> None:
        with self._lock:
            if self._auditions.get(audition.tab) is audition:
                del self._auditions[audition.tab]
                # A socket may be lost and come back; who does not wait for an answer any more lets that connection go.
                waited = {ticket.name for ticket in self._tickets}
                self._asked = {name: number for name, number in self._asked.items() if name[0] != audition.tab or name in waited}

    def edit(
        self, session_id: int, edit: Edit, gesture: str | None = None, tab: str | None = None, number: int | None = None
    ) -> Version:
        """Apply, store and spread an edit. number: of the move that it stores (see `audition.Move`).

        Raises EditRefused, also if it names media that are not there.
        """
        before = self.sessions.version(session_id).session

        def check(session: Session) -> None:
            media = self.media.at_rate(session.rate_hz)
            try:
                for media_id in media_named(edit):
                    media.frames(media_id)
                check_length(session, media, before if before.rate_hz == session.rate_hz else None)
            except NotFound as error:
                raise EditRefused(str(error)) from error
            except ValueError as error:
                raise EditRefused(str(error)) from error
            # Heard before it is on the disk, answered only then.
            self._play(session_id, session, tab, gesture, number)

        try:
            version = self.sessions.edit(session_id, edit, gesture, check)
        except BaseException:
            self._play(session_id, self.sessions.version(session_id).session, tab, gesture, number)
            raise
        # What is told of the edit, and measured after it, must not keep it from the ear.
        self.wait_for_sound()
        try:
            return self.changed(version, tab, heard=True)
        except Exception:  # it is stored, whatever comes of telling it
            log.exception("telling an edit of session %s", session_id)
            return version

    def sounding(self) -> bool:
        """Whether anything plays."""
        with self._lock:
            return any(audition.player.playing for audition in self._auditions.values())

    def wait_for_sound(self) -> None:
        """Wait while a player is behind a change, or short of sound: what is measured must not keep it from the ear."""
        with self._lock:
            auditions = list(self._auditions.values())
        until = time.monotonic() + SOUND_FIRST_S
        for audition in auditions:
            audition.player.wait_until_ahead(until - time.monotonic())

    def _play(
        self, session_id: int, session: Session, tab: str | None, gesture: str | None = None, number: int | None = None
    ) -> None:
        for audition in self._listening_to(session_id):
            if audition.tab == tab:
                audition.set_session(session, gesture, number)
            else:
                audition.set_session(session)

    def changed(self, version: Version, tab: str | None, heard: bool = False) -> Version:
        """Send the change to every open tab of the session; the tab that made it has its answer already. What the
        change left out of date of the matches is measured anew. heard: whether the players have it."""
        for audition in self._listening_to(version.id):
            if not heard:
                audition.set_session(version.session)
            if audition.tab != tab:
                audition.tell_version(version)
        self.matches.check(version.id, edited=True)
        return version

    def _listening_to(self, session_id: int) -> list[TabAudition]:
        with self._lock:
            return [audition for audition in self._auditions.values() if audition.session_id == session_id]

    def _tell_measuring(self, session_id: int, step_ids: list[str]) -> None:
        for audition in self._listening_to(session_id):
            audition.tell_measuring(step_ids)

    def matched(self, tab: str, scope: Scope, matched_db: float) -> None:
        """A measured loudness difference reaches the tab's player, if it still listens to that scope."""
        with self._lock:
            audition = self._auditions.get(tab)
        if audition is not None:
            audition.measured(scope, matched_db)

    def replace_sound(self, tab: str, instead: Replacement | None) -> None:
        """A tab hears the first of a blind comparison's letters, or of a delivery; or, with None, what it heard before."""
        with self._lock:
            audition = self._auditions.get(tab)
        if audition is not None:
            audition.replace_sound(instead)

    def restore_sound(self, kind: type, session_id: int) -> None:
        """End something for all tabs of a session."""
        for tab in self.replacements.tabs_with(kind, session_id):
            self.replacements.end(tab)
            self.replace_sound(tab, None)

    def routing(self, session_id: int, session: Session) -> tuple[tuple[Session, Routing] | None, Routing]:
        """What was last told of a session's routing, with the version it was told of, and what is to be told now."""
        old = self._routings.get(session_id)
        new = old[1] if old is not None and old[0] is session else routing_after(session, old)
        self._routings[session_id] = session, new
        return old, new

    def moving(self, session_id: int, session: Session) -> list[MovingValue]:
        """What moves over time or is under a lever."""
        result = moving_values(session, self._moving.get(session_id))
        self._moving[session_id] = session, result
        return result

    # ---- superseded questions --------------------------------------------------------------------------------------

    def ask(self, tab: str, kind: str, number: int | None = None) -> "Ticket":
        """A question of a tab; one of the same kind with a lower number (the older, without numbers) is cancelled."""
        with self._lock:
            latest = self._asked.get((tab, kind), 0)
            number = latest + 1 if number is None else number
            self._asked[tab, kind] = max(latest, number)
            ticket = Ticket(self, (tab, kind), number)
            self._tickets.add(ticket)
        return ticket

    @contextlib.contextmanager
    def working(self, kind: str) -> Iterator[None]:
        """While a question is worked on. Those over the whole song wait for all others (see `wait_for_figures`)."""
        counted = kind not in WHOLE_SONG
        with self._figures:
            self._at_work += counted
        try:
            yield
        finally:
            with self._figures:
                self._at_work -= counted
                self._figures.notify_all()

    def wait_for_figures(self, timeout_s: float) -> None:
        """Wait while a question about the passage is worked on: whoever looks at it waits for that."""
        with self._figures:
            self._figures.wait_for(lambda: not self._at_work or self._closing.is_set(), timeout_s)

    def is_latest(self, name: tuple[str, str], number: int) -> bool:
        return self._asked.get(name) == number

    def answered(self, ticket: "Ticket") -> None:
        """Forget a question of a tab that has no socket, which would tell when it leaves."""
        with self._lock:
            self._tickets.discard(ticket)
            name, number = ticket.name, ticket.number
            if name[0] not in self._auditions and self._asked.get(name) == number:
                del self._asked[name]


class Ticket:
    """A request on its way to its answer, which a newer one of the same tab and kind replaces."""

    def __init__(self, services: Services, name: tuple[str, str], number: int) -> None:
        self._services, self.name, self.number = services, name, number
        self._gone = threading.Event()
        self._began, self._waited_s, self._remaining = time.monotonic(), 0.0, Remaining()

    @property
    def kind(self) -> str:
        return self.name[1]

    def leave(self) -> None:
        """Nobody waits for the answer any more."""
        self._gone.set()

    def done(self) -> None:
        if self._services.is_latest(self.name, self.number):
            self._services.progress_of.pop(self.name, None)
        self._services.answered(self)

    def progress(self, fraction: float) -> None:
        """How much of the answer is there, from 0 to 1; for whoever waits for it."""
        if self._services.is_latest(self.name, self.number):
            self._remaining.add(fraction)
            self._services.progress_of[self.name] = self._remaining

    def superseded(self) -> bool:
        # A session whose sound needs most of the machine is never ahead for long; what is measured of it comes all the same.
        before = time.monotonic()
        share = WHOLE_SONG_SHARE if self.kind in WHOLE_SONG else WAITING_SHARE
        if self._waited_s < share * (before - self._began) or self._waited_s < SOUND_FIRST_S:
            self._services.wait_for_sound()
            if self.kind in WHOLE_SONG:
                self._services.wait_for_figures(SOUND_FIRST_S)
            self._waited_s += time.monotonic() - before
        return self._gone.is_set() or not self._services.is_latest(self.name, self.number)


DISCONNECT_CHECK_S = 0.1


async def answered(
    services: Services, request: Request, ticket: Ticket, executor: Executor, work: Callable[..., T], *arguments: object
) -> T | None:
    """Work off the event loop; None if it was superseded. A listener that has gone calls it off, also before it begins."""

    def run() -> T | None:
        try:
            with services.working(ticket.kind):
                return None if ticket.superseded() else work(services, ticket, *arguments)
        except Cancelled:
            return None
        finally:
            ticket.done()

    future = asyncio.get_running_loop().run_in_executor(executor, run)
    try:
        while not (await asyncio.wait({future}, timeout=DISCONNECT_CHECK_S))[0]:
            if await request.is_disconnected():
                ticket.leave()
        return await future
    except asyncio.CancelledError:
        ticket.leave()
        raise


def services_of(request: Request) -> Services:
    result: Services = request.app.state.services
    return result


#: The number of a session, a job or the like, in a path.
Number = Annotated[int, PathParameter(ge=0, le=MAX_NUMBER)]
Served = Annotated[Services, Depends(services_of)]
