"""Long work: progress, time left, cancel."""

import contextlib
import itertools
import logging
import threading
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Literal

from pydantic import BaseModel

from saltanvil.engine.render import Cancelled
from saltanvil.media.decode import MediaError
from saltanvil.session.document import NotFound
from saltanvil.session.edits import EditRefused
from saltanvil.session.format import Unreadable
from saltanvil.store.archive import ArchiveError
from saltanvil.store.database import StoreError
from saltanvil.store.media import ImportCancelled

log = logging.getLogger(__name__)
KEPT = 20
JobKind = Literal["import", "export", "check", "ceiling", "batch", "pack", "unpack", "demo"]


class JobView(BaseModel):
    """A job as the page sees it. progress: 0 to 1; seconds_left: None until it can be told; warnings:
    what is to be known of its files, such as clipped samples."""

    id: int
    session_id: int
    kind: JobKind
    title: str
    state: Literal["waiting", "running", "done", "failed", "cancelled"]
    progress: float
    seconds_left: float | None
    error: str | None
    files: list[str]
    warnings: list[str]


class Job:
    def __init__(self, number: int, session_id: int, kind: JobKind, title: str) -> None:
        self.number, self.session_id, self.kind, self.title = number, session_id, kind, title
        self.state: Literal["waiting", "running", "done", "failed", "cancelled"] = "waiting"
        self.share = 0.0
        self.error: str | None = None
        self.files: list[str] = []
        self.warnings: list[str] = []
        self.paths: list[Path] = []
        self._cancel = threading.Event()
        self._began = time.monotonic()

    def progress(self, share: float) -> None:
        self.share = share

    def cancelled(self) -> bool:
        return self._cancel.is_set()

    def cancel(self) -> None:
        self._cancel.set()
        if self.state == "waiting":
            self.state = "cancelled"

    def discard(self) -> None:
        """The files go with the job."""
        for path in self.paths:
            path.unlink(missing_ok=True)
        for folder in {path.parent for path in self.paths}:
            with contextlib.suppress(OSError):
                folder.rmdir()

    def view(self) -> JobView:
        spent = time.monotonic() - self._began
        left = spent * (1 - self.share) / self.share if self.state == "running" and self.share > 0.02 else None
        return JobView(
            id=self.number, session_id=self.session_id, kind=self.kind, title=self.title, state=self.state,
            progress=self.share, seconds_left=left, error=self.error, files=self.files, warnings=self.warnings,
        )  # fmt: skip

    def run(self, work: Callable[["Job"], None]) -> None:
        if self.cancelled():
            self.state = "cancelled"
            return
        self.state, self._began = "running", time.monotonic()
        try:
            work(self)
            self.state, self.share = "done", 1.0
        except (Cancelled, ImportCancelled):
            self.state = "cancelled"
        except (MediaError, StoreError, EditRefused, Unreadable, ArchiveError) as error:
            self.error, self.state = str(error), "failed"
        except NotFound as error:
            self.error, self.state = str(error.args[0]), "failed"
        except OSError as error:
            self.error, self.state = f"{self.title}: {error.strerror or error}; is there room on the disk?", "failed"
        except Exception:
            log.exception("job %s failed", self.title)
            self.error, self.state = f"{self.title}: something went wrong here; the server's log says what", "failed"


class JobRunner:
    """Runs jobs on threads of their own and keeps the last ones for asking."""

    def __init__(self) -> None:
        self._pool = ThreadPoolExecutor(2, thread_name_prefix="job")
        self._numbers = itertools.count(1)
        self._jobs: dict[int, Job] = {}
        self._lock = threading.Lock()

    def start(self, session_id: int, kind: JobKind, title: str, work: Callable[[Job], None]) -> Job:
        with self._lock:
            job = Job(next(self._numbers), session_id, kind, title)
            self._jobs[job.number] = job
            for number in [n for n, old in self._jobs.items() if old.state in ("done", "failed", "cancelled")][:-KEPT]:
                self._jobs.pop(number).discard()
        self._pool.submit(job.run, work)
        return job

    def get(self, number: int) -> Job:
        """Raises NotFound."""
        with self._lock:
            if number not in self._jobs:
                raise NotFound(f"there is no job {number} any more")
            return self._jobs[number]

    def of_session(self, session_id: int) -> list[Job]:
        with self._lock:
            return [job for job in self._jobs.values() if job.session_id == session_id]

    def close(self) -> None:
        with self._lock:
            for job in self._jobs.values():
                job.cancel()
        self._pool.shutdown(wait=True, cancel_futures=True)
