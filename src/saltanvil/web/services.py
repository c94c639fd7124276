"""What the routes share: the stores, the cache, the jobs and the open auditions."""

import os
import shutil
import threading
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Annotated

from fastapi import Depends, Request
from fastapi import Path as PathParameter

from saltanvil.engine.audition import Scope
from saltanvil.engine.cache import SegmentCache
from saltanvil.engine.memory import keep_freed_memory
from saltanvil.session.document import NotFound
from saltanvil.session.edits import AddStrip, Batch, Edit, EditRefused
from saltanvil.store.database import Database
from saltanvil.store.media import MediaStore
from saltanvil.store.presets import PresetStore
from saltanvil.store.sessions import SessionStore, Version
from saltanvil.web.audition import Audition
from saltanvil.web.jobs import JobRunner
from saltanvil.web.matching import MatchKeeper

STUDY_NICENESS = 10


def media_named(edit: Edit) -> Iterator[int]:
    """The media that an edit brings into a session."""
    if isinstance(edit, AddStrip) and edit.strip.media_id is not None:
        yield edit.strip.media_id
    elif isinstance(edit, Batch):
        for part in edit.edits:
            yield from media_named(part)


def give_way() -> None:
    """Lower the calling thread's priority (Linux keeps one for each thread): a study never delays the player."""
    if hasattr(os, "setpriority"):
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), STUDY_NICENESS)


class Services:
    """Made once for each server."""

    def __init__(self, folder: Path) -> None:
        keep_freed_memory()
        self.folder = folder
        self.database = Database(folder / "saltanvil.db")
        self.sessions = SessionStore(self.database)
        self.presets = PresetStore(self.database)
        self.media = MediaStore(self.database)
        self.media.clear_unfinished()
        self.cache = SegmentCache()
        self.jobs = JobRunner()
        self.pool = ThreadPoolExecutor(2, thread_name_prefix="strips", initializer=give_way)
        self.studies = ThreadPoolExecutor(2, thread_name_prefix="study", initializer=give_way)
        self._auditions: dict[str, Audition] = {}
        self._lock = threading.Lock()
        self.matches = MatchKeeper(
            self.sessions, self.media, self.pool, lambda version: self.changed(version, None), self._tell_measuring, give_way
        )
        self._asked: dict[tuple[str, str], int] = {}
        #: How far each tab's bench is.
        self.benches: dict[str, float] = {}
        for name in ("uploads", "exports"):
            shutil.rmtree(folder / name, ignore_errors=True)
            (folder / name).mkdir(parents=True)

    def close(self) -> None:
        with self._lock:
            auditions = list(self._auditions.values())
        for audition in auditions:
            audition.player.close()
        self.jobs.close()
        self.matches.close()
        self.pool.shutdown(wait=False)
        self.studies.shutdown(wait=False, cancel_futures=True)

    # ---- auditions -------------------------------------------------------------------------------------------------

    def join(self, audition: Audition) -> None:
        with self._lock:
            self._auditions[audition.tab] = audition

    def leave(self, audition: Audition) -> None:
        with self._lock:
            if self._auditions.get(audition.tab) is audition:
                del self._auditions[audition.tab]
                self.benches.pop(audition.tab, None)

    def edit(self, session_id: int, edit: Edit, gesture: str | None = None, tab: str | None = None) -> Version:
        """Apply, store and spread an edit. Raises EditRefused, also if it names media that are not there."""
        rate_hz = self.sessions.version(session_id).session.rate_hz
        for media_id in media_named(edit):
            try:
                self.media.frames_at(media_id, rate_hz)
            except NotFound as error:
                raise EditRefused(str(error.args[0])) from error
        return self.changed(self.sessions.edit(session_id, edit, gesture), tab)

    def changed(self, version: Version, tab: str | None) -> Version:
        """Let every open tab of the session hear and see the change; the tab that made it has its answer already. What the
        change left out of date of the matches is measured anew."""
        for audition in self._listening_to(version.id):
            audition.player.set_session(version.session)
            if audition.tab != tab:
                audition.tell_version(version)
        self.matches.check(version.id)
        return version

    def _listening_to(self, session_id: int) -> list[Audition]:
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

    # ---- superseded questions --------------------------------------------------------------------------------------

    def ask(self, tab: str, kind: str, number: int | None = None) -> "Asked":
        """A question of a tab; one of the same kind with a lower number (the older, without numbers) is called off."""
        with self._lock:
            latest = self._asked.get((tab, kind), 0)
            number = latest + 1 if number is None else number
            self._asked[tab, kind] = max(latest, number)
        return Asked(self, (tab, kind), number)

    def is_latest(self, name: tuple[str, str], number: int) -> bool:
        return self._asked.get(name) == number


class Asked:
    def __init__(self, services: Services, name: tuple[str, str], number: int) -> None:
        self._services, self._name, self._number = services, name, number

    def superseded(self) -> bool:
        return not self._services.is_latest(self._name, self._number)


def services_of(request: Request) -> Services:
    found: Services = request.app.state.services
    return found


#: A number in a path, within what SQLite counts to.
Number = Annotated[int, PathParameter(ge=0, le=1 << 53)]
Served = Annotated[Services, Depends(services_of)]
