"""Rendering strips to files: one pass over the song, with at most thirty-two of them open at a time.

render --> block of each strip --> queue of each thread --> its files: rate, dither, encoder, container

Every pass begins with the song, whatever stretch a file holds of it: what comes before a section is heard in it, in slow gains
and long rooms, so that a section's file is the stretch of the song's to the sample.
"""

import os
import queue
import threading
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

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
    """A file to be written of a strip: its frames start..stop. tail: and what still sounds after them."""

    strip_id: str
    path: Path
    writing: Writing
    start: int
    stop: int
    tail: bool = False


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

    def __init__(self, files: Sequence[OpenFile], rate: int, waiting: int) -> None:
        super().__init__(daemon=True, name="write files")
        self.files = files
        self.abandoned = threading.Event()
        self._blocks: queue.Queue[tuple[int, Blocks] | None] = queue.Queue(waiting)
        self._rate = rate
        self.start()

    def run(self) -> None:
        while (blocks := self._blocks.get()) is not None:
            for file in () if self.abandoned.is_set() else self.files:
                file.attempt(lambda file=file, blocks=blocks: self._write(file, *blocks))  # type: ignore[misc]
        for file in self.files:
            file.attempt(lambda file=file: self._close(file))  # type: ignore[misc]

    def _write(self, file: OpenFile, at: int, blocks: Blocks) -> None:
        """What of a block that begins at frame `at` belongs to a file. One is open no longer than it must be."""
        target = file.target
        sound = blocks[target.strip_id]
        end = at + sound.shape[1]
        first, last = max(target.start, at), end if target.tail else min(target.stop, end)
        if first >= last:
            return
        if file.writer is None:
            frames = target.stop - target.start
            file.writer = AudioWriter(target.path, self._rate, 2, target.writing, frames, target.strip_id)
        file.writer.write(np.ascontiguousarray(sound[:, first - at : last - at]))
        if last == target.stop and not target.tail:
            self._close(file)

    def _close(self, file: OpenFile) -> None:
        if file.written is None:
            if self.abandoned.is_set() or file.writer is None:
                raise Cancelled
            file.written = file.writer.close()

    def failed(self) -> bool:
        return any(file.error is not None for file in self.files)

    def put(self, blocks: tuple[int, Blocks] | None, given_up: Callable[[], bool]) -> bool:
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
    targets: Sequence[FileTarget],
    progress: Callable[[float], None] = lambda share: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> list[Written]:
    """Write stretches of strips' outputs to files, stereo; returns what each holds.

    Each file is converted, dithered and encoded by itself, from the same render. Files with a tail are all as long as the longest
    needs (see `render_strips`).

    Raises Cancelled, OSError; files may be left half written then, and are the caller's to remove.
    """
    passes = passes_of(targets)
    if sum(any(targets[index].tail for index in part) for part in passes) > 1:
        targets = with_equal_tails(session, media, targets, cancelled)
    result: dict[int, Written] = {}
    for number, part in enumerate(passes):

        def advance(fraction: float, number: int = number) -> None:
            progress((number + fraction) / len(passes))

        written = export_pass(session, media, [targets[index] for index in part], advance, cancelled)
        result |= dict(zip(part, written, strict=True))
    return [result[index] for index in range(len(targets))]


def passes_of(targets: Sequence[FileTarget]) -> list[list[int]]:
    """Indices of targets in passes, in each of which no more files are open at a time than may be."""
    passes: list[list[int]] = []
    for index in sorted(range(len(targets)), key=lambda index: targets[index].start):
        target = targets[index]
        # Of those that began before it, the ones that still sound where it begins are open beside it.
        room = (part for part in passes if sum(targets[other].stop > target.start for other in part) < MAX_OPEN_FILES)
        part = next(room, None)
        if part is None:
            passes.append(part := [])
        part.append(index)
    return passes


def with_equal_tails(
    session: Session, media: Media, targets: Sequence[FileTarget], cancelled: Callable[[], bool]
) -> list[FileTarget]:
    """Tails of a length that is found before, as several passes must agree on it."""
    tails = [target for target in targets if target.tail]
    stop = max(target.stop for target in tails)
    begin = max(min(target.start for target in tails), stop - round(TAIL_PREROLL_S * session.rate_hz))
    strip_ids = list(dict.fromkeys(target.strip_id for target in tails))
    blocks = render_strips(session, media, begin, stop, strip_ids, cancelled, True)
    frames: int = sum(next(iter(block.values())).shape[1] for block in blocks)
    end = max(stop, begin + frames)
    return [replace(target, stop=end, tail=False) if target.tail else target for target in targets]


def export_pass(
    session: Session,
    media: Media,
    targets: Sequence[FileTarget],
    progress: Callable[[float], None],
    cancelled: Callable[[], bool],
) -> list[Written]:
    """`export_strips` for files of which few enough are open at a time."""
    files = [OpenFile(target) for target in targets]
    strip_ids = list(dict.fromkeys(target.strip_id for target in targets))
    count = min(len(files), os.cpu_count() or 1)
    waiting = max(MIN_WAITING, WAITING_BLOCKS // len(strip_ids))
    threads = [WriterThread(files[number::count], session.rate_hz, waiting) for number in range(count)]
    start, stop = min(target.start for target in targets), max(target.stop for target in targets)
    tail = any(target.tail for target in targets)

    def given_up() -> bool:
        return cancelled() or any(thread.failed() for thread in threads)

    at = start
    try:
        rendered = render_strips(
            session, media, start, stop, strip_ids, given_up, tail, begin=0, watch=lambda plan: progress(min(plan.at / stop, 1.0))
        )
        try:
            for blocks in rendered:
                for thread in threads:
                    thread.put((at, blocks), given_up)
                at += next(iter(blocks.values())).shape[1]
                progress(min(at / stop, 1.0))
        except Cancelled:
            pass  # what it was for is looked at below
        for thread in threads:
            thread.finish(given_up)
        progress(1.0)
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
