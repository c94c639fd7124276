"""Rendering strips to files: one pass over the song for every thirty-two of them.

render --> block of each strip --> queue of each thread --> its files: rate, dither, encoder, container
"""

import os
import queue
import threading
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from saltanvil.engine.media import Media
from saltanvil.engine.rack import Audio
from saltanvil.engine.render import Cancelled, render_strips
from saltanvil.media.encode import AudioWriter, Writing, Written
from saltanvil.session.document.session import Session

#: Files open at a time; more are made in several passes.
MAX_OPEN_FILES = 32
#: Blocks of single strips that may wait for a thread, and rendered blocks at least.
WAITING_BLOCKS, MIN_WAITING = 64, 2
#: How often a wait looks whether it was cancelled, and how long a thread that does not answer is waited for.
CHECK_S, GIVE_UP_S = 0.1, 1.0
#: The length of tails, where files are made in several passes, is found by a render that begins so long before the end.
TAIL_PREROLL_S = 10.0

Blocks = dict[str, Audio]


@dataclass(frozen=True)
class FileTarget:
    """A file to be written of a strip."""

    strip_id: str
    path: Path
    writing: Writing


@dataclass(eq=False)
class OpenFile:
    """A target while it is written. written: once it is complete; error: why it never will be."""

    target: FileTarget
    written: Written | None = None
    error: BaseException | None = None
    writer: AudioWriter | None = field(default=None, repr=False)

    def attempt(self, work: Callable[[], None]) -> None:
        """An error is that of this file; the others go on."""
        if self.error is not None:
            return
        try:
            work()
        except BaseException as error:
            self.error = error
            if self.writer is not None:
                self.writer.abandon()


class WriterThread(threading.Thread):
    """Writes some files from a bounded queue, so that encoding overlaps rendering.

    It always takes what is put until its end mark, also after errors, so that nobody waits for it in vain.
    """

    def __init__(self, files: Sequence[OpenFile], rate: int, frames: int, waiting: int) -> None:
        super().__init__(daemon=True, name="write files")
        self.files = files
        self.abandoned = threading.Event()
        self._blocks: queue.Queue[Blocks | None] = queue.Queue(waiting)
        self._rate, self._frames = rate, frames
        self.start()

    def run(self) -> None:
        for file in self.files:
            file.attempt(lambda file=file: self._open(file))  # type: ignore[misc]
        while (blocks := self._blocks.get()) is not None:
            for file in () if self.abandoned.is_set() else self.files:
                file.attempt(lambda file=file, blocks=blocks: file.writer.write(blocks[file.target.strip_id]))  # type: ignore[misc]
        for file in self.files:
            file.attempt(lambda file=file: self._close(file))  # type: ignore[misc]

    def _open(self, file: OpenFile) -> None:
        target = file.target
        file.writer = AudioWriter(target.path, self._rate, 2, target.writing, self._frames, target.strip_id)

    def _close(self, file: OpenFile) -> None:
        assert file.writer is not None
        if self.abandoned.is_set():
            raise Cancelled
        file.written = file.writer.close()

    def failed(self) -> bool:
        return any(file.error is not None for file in self.files)

    def put(self, blocks: Blocks | None, given_up: Callable[[], bool]) -> bool:
        """Whether the thread will take it; not if it is given up before there is room."""
        while True:
            try:
                self._blocks.put(blocks, timeout=CHECK_S)
                return True
            except queue.Full:
                if given_up():
                    return False

    def finish(self, given_up: Callable[[], bool]) -> None:
        """Wait until the files are complete, or given up."""
        if self.put(None, given_up):
            while self.is_alive() and not given_up():
                self.join(CHECK_S)

    def abandon(self) -> None:
        """Wait a moment for the thread to leave its files as they are. One that a disk holds up ends when the disk lets it."""
        self.abandoned.set()
        deadline = time.monotonic() + GIVE_UP_S
        if self.put(None, lambda: time.monotonic() > deadline):
            self.join(max(0.0, deadline - time.monotonic()))


def export_strips(
    session: Session,
    media: Media,
    start: int,
    stop: int,
    targets: Sequence[FileTarget],
    progress: Callable[[float], None] = lambda share: None,
    cancelled: Callable[[], bool] = lambda: False,
    tail: bool = False,
) -> list[Written]:
    """Write frames start..stop of strips' outputs to files, stereo; returns what each holds.

    Each file is converted, dithered and encoded by itself, from the same render. tail: and what still sounds after `stop` (see
    `render_strips`); all files are then as long as the longest needs.

    Raises Cancelled, OSError; files may be left half written then, and are the caller's to remove.
    """
    passes = [targets[at : at + MAX_OPEN_FILES] for at in range(0, len(targets), MAX_OPEN_FILES)]
    if tail and len(passes) > 1:
        stop += tail_frames(session, media, start, stop, targets, cancelled)
        tail = False
    result: list[Written] = []
    for number, part in enumerate(passes):

        def advance(fraction: float, number: int = number) -> None:
            progress((number + fraction) / len(passes))

        result += export_pass(session, media, start, stop, part, advance, cancelled, tail)
    return result


def tail_frames(
    session: Session, media: Media, start: int, stop: int, targets: Sequence[FileTarget], cancelled: Callable[[], bool]
) -> int:
    """How long any of the strips still sounds after `stop`."""
    begin = max(start, stop - round(TAIL_PREROLL_S * session.rate_hz))
    strip_ids = list(dict.fromkeys(target.strip_id for target in targets))
    blocks = render_strips(session, media, begin, stop, strip_ids, cancelled, True)
    frames: int = sum(next(iter(block.values())).shape[1] for block in blocks)
    return max(0, frames - (stop - begin))


def export_pass(
    session: Session,
    media: Media,
    start: int,
    stop: int,
    targets: Sequence[FileTarget],
    progress: Callable[[float], None],
    cancelled: Callable[[], bool],
    tail: bool,
) -> list[Written]:
    """`export_strips` for as many files as may be open at a time."""
    files = [OpenFile(target) for target in targets]
    strip_ids = list(dict.fromkeys(target.strip_id for target in targets))
    count = min(len(files), os.cpu_count() or 1)
    waiting = max(MIN_WAITING, WAITING_BLOCKS // len(strip_ids))
    threads = [WriterThread(files[number::count], session.rate_hz, stop - start, waiting) for number in range(count)]

    def given_up() -> bool:
        return cancelled() or any(thread.failed() for thread in threads)

    done = 0
    try:
        for blocks in render_strips(session, media, start, stop, strip_ids, cancelled, tail):
            for thread in threads:
                thread.put(blocks, given_up)
            if given_up():
                break
            done += next(iter(blocks.values())).shape[1]
            progress(min(done / (stop - start), 1.0))
        for thread in threads:
            thread.finish(given_up)
    finally:
        for thread in threads:
            if thread.is_alive():
                thread.abandon()
    errors = [file.error for file in files if file.error is not None]
    error = next((error for error in errors if not isinstance(error, Cancelled)), None)
    if error is not None:
        raise OSError(*(error.args if isinstance(error, OSError) else [str(error)])) from error
    if cancelled() or errors:
        raise Cancelled
    return [file.written for file in files if file.written is not None]
