"""Rendering strips to files, all in one pass."""

import queue
import threading
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from saltanvil.engine.media import Media
from saltanvil.engine.rack import Audio
from saltanvil.engine.render import render_strips
from saltanvil.media.encode import Writing, Written, write_audio
from saltanvil.session.document import Session

#: Blocks that may wait for all files together, and for each at least.
WAITING_BLOCKS, LEAST_WAITING = 64, 2


@dataclass(frozen=True)
class Target:
    """A file to be written of a strip."""

    strip_id: str
    path: Path
    writing: Writing


class Writer(threading.Thread):
    """Writes one file from a bounded queue, so that encoding overlaps rendering."""

    def __init__(self, target: Target, rate: int, frames: int, waiting: int) -> None:
        super().__init__(daemon=True)
        self.target = target
        self.written: Written | None = None
        self.blocks: queue.Queue[Audio | None] = queue.Queue(waiting)
        self.error: BaseException | None = None
        self._rate, self._frames = rate, frames
        self.start()

    def run(self) -> None:
        target = self.target
        try:
            self.written = write_audio(target.path, self._taken(), self._rate, 2, target.writing, self._frames, target.strip_id)
        except BaseException as error:
            self.error = error
            while self.blocks.get() is not None:
                pass

    def _taken(self) -> Iterator[Audio]:
        while (block := self.blocks.get()) is not None:
            yield block

    def finish(self) -> None:
        self.blocks.put(None)
        self.join()


def export_strips(
    session: Session,
    media: Media,
    start: int,
    stop: int,
    targets: Sequence[Target],
    progress: Callable[[float], None] = lambda share: None,
    cancelled: Callable[[], bool] = lambda: False,
    tail: bool = False,
) -> list[Written]:
    """Write frames start..stop of strips' outputs to files, stereo; returns what each holds.

    Each file is converted, dithered and encoded by itself, from the same render. tail: and what still sounds after `stop` (see
    `render_strips`); all files are then as long as the longest needs.

    Raises Cancelled, OSError; files may be left half written then, and are the caller's to remove.
    """
    waiting = max(LEAST_WAITING, WAITING_BLOCKS // len(targets))
    writers = [Writer(target, session.rate_hz, stop - start, waiting) for target in targets]

    def failed() -> Iterator[BaseException]:
        return (writer.error for writer in writers if writer.error is not None)

    done = 0
    strip_ids = list(dict.fromkeys(target.strip_id for target in targets))
    try:
        for blocks in render_strips(session, media, start, stop, strip_ids, cancelled, tail):
            for writer in writers:
                writer.blocks.put(blocks[writer.target.strip_id])
            done += next(iter(blocks.values())).shape[1]
            progress(min(done / (stop - start), 1.0))
            if any(failed()):
                break
    finally:
        for writer in writers:
            writer.finish()
    for error in failed():
        raise OSError(f"could not be written ({error}); is there room on the disk?") from error
    return [writer.written for writer in writers if writer.written is not None]
