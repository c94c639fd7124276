"""Rendering strips to files, all in one pass."""

import queue
import threading
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path

from saltanvil.engine.media import Media
from saltanvil.engine.rack import Audio
from saltanvil.engine.render import render_strips
from saltanvil.media.encode import FileFormat, Written, write_audio
from saltanvil.session.document import Session

WAITING_BLOCKS = 16


class Writer(threading.Thread):
    """Writes one file from a bounded queue, so that encoding overlaps rendering."""

    def __init__(self, path: Path, rate: int, kind: FileFormat, frames: int, seed: str) -> None:
        super().__init__(daemon=True)
        self.written: Written | None = None
        self.blocks: queue.Queue[Audio | None] = queue.Queue(WAITING_BLOCKS)
        self.error: BaseException | None = None
        self._args = (path, rate, kind, frames, seed)
        self.start()

    def run(self) -> None:
        path, rate, kind, frames, seed = self._args
        try:
            self.written = write_audio(path, self._taken(), rate, 2, kind, frames, seed)
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
    targets: Mapping[str, Path],
    kind: FileFormat,
    progress: Callable[[float], None] = lambda share: None,
    cancelled: Callable[[], bool] = lambda: False,
    tail: bool = False,
) -> dict[str, Written]:
    """Write frames start..stop of each strip's output to its path, stereo, at the session's rate; returns what each file holds.

    tail: and what still sounds after `stop` (see `render_strips`); all files are then as long as the longest needs.

    Raises Cancelled, OSError; files may be left half written then, and are the caller's to remove.
    """
    writers = {strip_id: Writer(path, session.rate_hz, kind, stop - start, strip_id) for strip_id, path in targets.items()}

    def failed() -> Iterator[BaseException]:
        return (writer.error for writer in writers.values() if writer.error is not None)

    done = 0
    try:
        for blocks in render_strips(session, media, start, stop, list(targets), cancelled, tail):
            for strip_id, block in blocks.items():
                writers[strip_id].blocks.put(block)
            done += next(iter(blocks.values())).shape[1]
            progress(min(done / (stop - start), 1.0))
            if any(failed()):
                break
    finally:
        for writer in writers.values():
            writer.finish()
    for error in failed():
        raise OSError(f"could not be written ({error}); is there room on the disk?") from error
    return {strip_id: writer.written for strip_id, writer in writers.items() if writer.written is not None}
