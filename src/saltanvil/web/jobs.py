"""Long work: progress, time left, cancel.

Jobs of one sort wait for each other, those of another never for them: a disk that holds up deliveries leaves imports as they are.
Every job runs on a thread of its own that nothing waits for: one that is cancelled has ended after `CANCEL_S` whatever its work
does, and the next one takes its place.
"""

import contextlib
import itertools
import logging
import threading
import time
from collections import deque
from collections.abc import Callable
from pathlib import Path
from typing import Literal

from pydantic import BaseModel

from saltanvil.engine.render import Cancelled
from saltanvil.errors import UserError
from saltanvil.media.disk import what_failed
from saltanvil.session.document.base import NotFound
from saltanvil.store.media import ImportCancelled
from saltanvil.web.remaining import Remaining, TimeLeft

log = logging.getLogger(__name__)
KEPT = 20
JobKind = Literal["import", "export", "check", "ceiling", "batch", "pack", "unpack", "demo", "print"]
State = Literal["waiting", "running", "done", "failed", "cancelled"]
#: Which jobs wait for each other, and how many of them run at a time.
SORTS: dict[JobKind, str] = {
    "import": "in", "unpack": "in", "demo": "in", "print": "in", "export": "out", "batch": "out", "pack": "out", "check": "check",
    "ceiling": "check",
}  # fmt: skip
RUNNING = 2
#: So long after it was cancelled a job has ended.
CANCEL_S = 1.5


class JobView(BaseModel):
    """A job as the page sees it. progress: 0 to 1; seconds_left: None until it can be told; rough: it may still change much;
    warnings: what is to be known of its files, such as clipped samples."""

    id: int
    session_id: int
    kind: JobKind
    title: str
    state: State
    progress: float
    seconds_left: float | None
    rough: bool
    error: str | None
    files: list[str]
    warnings: list[str]


class Job:
    def __init__(
        self, number: int, session_id: int, kind: JobKind, title: str, on_cancel: Callable[["Job"], None] = lambda job: None
    ) -> None:
        self.number, self.session_id, self.kind, self.title = number, session_id, kind, title
        self.state: State = "waiting"
        self.remaining = Remaining()
        self.error: str | None = None
        self.files: list[str] = []
        self.warnings: list[str] = []
        self.paths: list[Path] = []
        self._cancel = threading.Event()
        self._on_cancel = on_cancel
        self._lock = threading.Lock()

    @property
    def ended(self) -> bool:
        return self.state in ("done", "failed", "cancelled")

    def progress(self, fraction: float) -> None:
        self.remaining.add(fraction)

    def cancelled(self) -> bool:
        return self._cancel.is_set()

    def cancel(self) -> None:
        with self._lock:
            if self._cancel.is_set() or self.ended:
                return
            self._cancel.set()
            running = self.state == "running"
            if not running:
                self.state = "cancelled"
        if running:
            self._on_cancel(self)

    def abandon(self) -> bool:
        """Call a cancelled job ended though its work is not; whether that was so."""
        return self._end("cancelled")

    def _end(self, state: State, error: str | None = None) -> bool:
        """Whether it had not ended before."""
        with self._lock:
            if self.ended:
                return False
            self.state, self.error = state, error
            return True

    def discard(self) -> None:
        """The files go with the job."""
        for path in self.paths:
            path.unlink(missing_ok=True)
        for folder in {path.parent for path in self.paths}:
            with contextlib.suppress(OSError):
                folder.rmdir()

    def view(self) -> JobView:
        left = self.remaining.left() if self.state == "running" else TimeLeft(None, True)
        return JobView(
            id=self.number, session_id=self.session_id, kind=self.kind, title=self.title, state=self.state,
            progress=self.remaining.fraction, seconds_left=left.seconds, rough=left.rough, error=self.error, files=self.files,
            warnings=self.warnings,
        )  # fmt: skip

    def run(self, work: "Work") -> None:
        with self._lock:
            if self.ended:
                return
            self.state = "running"
            self.remaining.begin()
        try:
            work(self)
        except (Cancelled, ImportCancelled):
            self._end("cancelled")
        except UserError as error:
            self._end("failed", str(error))
        except OSError as error:
            self._end("failed", f"{self.title}: {what_failed(error)}")
        except Exception:
            log.exception("job %s failed", self.title)
            self._end("failed", f"{self.title}: something went wrong here; the server's log says what")
        else:
            self.progress(1.0)
            if not self._end("done"):  # abandoned meanwhile: nobody fetches its files
                self.discard()


Work = Callable[[Job], None]


class JobRunner:
    """Runs jobs, `RUNNING` of a sort at a time, and keeps the last ones for asking."""

    def __init__(self) -> None:
        self._numbers = itertools.count(1)
        self._jobs: dict[int, Job] = {}
        self._waiting: dict[str, deque[tuple[Job, Work]]] = {sort: deque() for sort in set(SORTS.values())}
        self._running: dict[str, set[Job]] = {sort: set() for sort in self._waiting}
        self._lock = threading.RLock()
        self._closed = False

    def start(self, session_id: int, kind: JobKind, title: str, work: Work) -> Job:
        with self._lock:
            job = Job(next(self._numbers), session_id, kind, title, self._cancelled)
            self._jobs[job.number] = job
            for number in [n for n, old in self._jobs.items() if old.ended][:-KEPT]:
                self._jobs.pop(number).discard()
            self._waiting[SORTS[kind]].append((job, work))
            self._start_waiting(SORTS[kind])
        return job

    def _start_waiting(self, sort: str) -> None:
        waiting, running = self._waiting[sort], self._running[sort]
        while waiting and len(running) < RUNNING and not self._closed:
            job, work = waiting.popleft()
            if not job.ended:
                running.add(job)
                threading.Thread(target=self._run, args=(job, work), name=f"job {job.number}", daemon=True).start()

    def _run(self, job: Job, work: Work) -> None:
        try:
            job.run(work)
        finally:
            self._ended(job)

    def _ended(self, job: Job) -> None:
        with self._lock:
            sort = SORTS[job.kind]
            self._running[sort].discard(job)
            self._start_waiting(sort)

    def _cancelled(self, job: Job) -> None:
        """What was asked to stop gets some time for it."""

        def abandon() -> None:
            if job.abandon():
                log.warning("job %s did not stop by itself; it goes on without anybody waiting for it", job.title)
                self._ended(job)

        timer = threading.Timer(CANCEL_S, abandon)
        timer.daemon = True
        timer.start()

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
        """Cancel everything, and wait as long as a cancelled job may take."""
        with self._lock:
            self._closed = True
            jobs = list(self._jobs.values())
        for job in jobs:
            job.cancel()
        deadline = time.monotonic() + CANCEL_S + 0.5
        while any(self._running.values()) and time.monotonic() < deadline:
            time.sleep(0.02)
