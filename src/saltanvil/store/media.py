"""Media in chunks: importing, reading, waveform pyramids."""

import logging
import secrets
import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np
import soxr
from numpy.typing import NDArray

from saltanvil.dsp.envelope import extremes
from saltanvil.engine.segments import RenderStore
from saltanvil.media.decode import Source
from saltanvil.session.document.base import NotFound
from saltanvil.store.database import Database, StoreError
from saltanvil.store.unused_media import unused_media

Audio = NDArray[np.float32]

CHUNK_FRAMES = 1 << 16
PYRAMID_BINS = (256, 4096)
CHUNKS_A_TRANSACTION = 16
#: Media that nothing needs are kept this long, so that an older copy of the documents still finds them.
UNUSED_DAYS = 7.0

log = logging.getLogger(__name__)


class ImportCancelled(Exception):
    """The import was cancelled; nothing of it remains."""


@dataclass(frozen=True)
class MediaRow:
    id: int
    name: str
    format: str
    rate_hz: int
    channels: int
    frames: int
    key: str


class Chunker:
    """Cuts a stream of blocks into chunks of equal length."""

    def __init__(self, channels: int) -> None:
        self.channels = channels
        self.frames = 0
        self._parts: list[Audio] = []
        self._waiting = 0

    def add(self, block: Audio) -> Iterator[tuple[int, Audio]]:
        """Complete chunks as (place, samples)."""
        self._parts.append(block)
        self._waiting += block.shape[1]
        if self._waiting >= CHUNK_FRAMES:
            joined = np.concatenate(self._parts, axis=1)
            while joined.shape[1] >= CHUNK_FRAMES:
                yield self._cut(joined[:, :CHUNK_FRAMES])
                joined = joined[:, CHUNK_FRAMES:]
            self._parts, self._waiting = [joined], joined.shape[1]

    def rest(self) -> Iterator[tuple[int, Audio]]:
        joined = np.concatenate(self._parts, axis=1) if self._parts else np.zeros((self.channels, 0), np.float32)
        if joined.shape[1]:
            yield self._cut(joined)

    def _cut(self, samples: Audio) -> tuple[int, Audio]:
        place = self.frames // CHUNK_FRAMES
        self.frames += samples.shape[1]
        return place, np.ascontiguousarray(samples)


class MediaStore:
    """Keeps media as imported, and once more at each session rate that differs.

    Implements the engine's `Media` for one rate through `at_rate`. Chunks read are kept, bounded in bytes.
    """

    def __init__(self, database: Database, most_bytes: int = 1 << 27, renders: RenderStore | None = None) -> None:
        self.database, self.renders = database, renders
        self.most_bytes = most_bytes
        self._held: OrderedDict[tuple[int, int, int], Audio] = OrderedDict()
        self._bytes = 0
        self._lock = threading.Lock()
        self._rows: dict[int, MediaRow] = {}
        self._to_drop: set[int] = set()
        self._lengths: dict[tuple[int, int], int] = {}

    def clear_unfinished(self) -> None:
        """Drop what a killed or failed import left; on a full disk that waits for the next start."""
        try:
            with self.database.transaction() as connection:
                connection.execute("DELETE FROM media WHERE ready = 0")
        except StoreError as error:
            log.warning("what a broken-off import left cannot be removed yet: %s", error)

    def sweep(self, now: float | None = None) -> int:
        """Note which media no session and no undo row needs; remove those that nothing has needed for a week.

        Returns the bytes removed.
        """
        now = time.time() if now is None else now
        for media_id in list(self._to_drop):
            self.drop(media_id)
        # Every document and edit is read: not while the database is held for writing.
        unused = dict(unused_media(self.database.connection()))
        with self.database.transaction() as connection:
            since = {
                row["id"]: row["unused_since"] for row in connection.execute("SELECT id, unused_since FROM media WHERE ready = 1")
            }
            gone = [name for name in unused if since[name] is not None and now - since[name] > UNUSED_DAYS * 86400]
            if gone:
                still = dict(unused_media(connection))
                gone = [name for name in gone if name in still]
            connection.executemany(
                "UPDATE media SET unused_since = ? WHERE id = ?",
                [
                    (now, name) if name in unused else (None, name)
                    for name, noted in since.items()
                    if (noted is None) == (name in unused)
                ],
            )
            connection.executemany("DELETE FROM media WHERE id = ?", [(name,) for name in gone])
        freed = sum(unused[name] for name in gone)
        with self._lock:
            for name in gone:
                self._rows.pop(name, None)
                self._lengths = {key: frames for key, frames in self._lengths.items() if key[0] != name}
        if gone:
            log.warning("%d media (%.1f MiB) that no session has needed for a week were removed", len(gone), freed / (1 << 20))
        return freed

    def import_source(
        self,
        source: Source,
        rate_hz: int,
        progress: Callable[[float], None] = lambda share: None,
        cancelled: Callable[[], bool] = lambda: False,
    ) -> int:
        """Read an open file into the store, converted to rate_hz (soxr, very high quality) if it has another rate.

        Raises MediaError naming the file, ImportCancelled, StoreError; in each case nothing of it remains.
        """
        return self.add(
            source.name, source.format, source.rate, source.channels, source.blocks, rate_hz, source.frames, progress, cancelled
        )

    def add(
        self,
        name: str,
        format: str,
        source_rate_hz: int,
        channels: int,
        blocks: Iterator[Audio],
        rate_hz: int,
        expected_frames: int = 0,
        progress: Callable[[float], None] = lambda share: None,
        cancelled: Callable[[], bool] = lambda: False,
    ) -> int:
        """As `import_source`, from blocks (channels, frames)."""
        for left in list(self._to_drop):
            self.drop(left)
        with self.database.transaction() as connection:
            cursor = connection.execute(
                "INSERT INTO media (name, format, rate_hz, channels, key) VALUES (?, ?, ?, ?, ?)",
                (name, format, source_rate_hz, channels, secrets.token_hex(16)),
            )
        media_id = int(cursor.lastrowid or 0)
        try:
            self._fill(media_id, source_rate_hz, channels, blocks, rate_hz, expected_frames, progress, cancelled)
        except BaseException:
            self.drop(media_id)
            raise
        return media_id

    def drop(self, media_id: int) -> None:
        """Remove media that no session got; where the disk is full, before the next import or within the hour."""
        try:
            with self.database.transaction() as connection:
                connection.execute("UPDATE media SET ready = 0 WHERE id = ?", (media_id,))
                connection.execute("DELETE FROM media WHERE id = ?", (media_id,))
            self._to_drop.discard(media_id)
        except StoreError as error:
            self._to_drop.add(media_id)
            log.warning("media %s cannot be removed yet: %s", media_id, error)

    def _fill(
        self,
        media_id: int,
        source_rate_hz: int,
        channels: int,
        blocks: Iterator[Audio],
        rate_hz: int,
        expected: int,
        progress: Callable[[float], None],
        cancelled: Callable[[], bool],
    ) -> None:
        original = Chunker(channels)
        converted = Chunker(channels) if rate_hz != source_rate_hz else original
        resampler = (
            soxr.ResampleStream(source_rate_hz, rate_hz, channels, dtype="float32", quality="VHQ")
            if converted is not original
            else None
        )
        waiting: list[tuple[int, int, int, bytes]] = []
        pyramid: list[Audio] = []

        def take(rate: int, chunks: Iterator[tuple[int, Audio]]) -> None:
            for place, samples in chunks:
                waiting.append((media_id, rate, place, samples.tobytes()))
                if rate == rate_hz:
                    bins = -(-samples.shape[1] // PYRAMID_BINS[0])
                    out = np.empty((3, bins), np.float32)
                    extremes(samples, PYRAMID_BINS[0], out)
                    pyramid.append(out)
            if len(waiting) >= CHUNKS_A_TRANSACTION:
                flush()

        def flush() -> None:
            with self.database.transaction() as connection:
                connection.executemany("INSERT INTO chunks (media_id, rate_hz, place, samples) VALUES (?, ?, ?, ?)", waiting)
            waiting.clear()

        done = 0
        for block in blocks:
            if cancelled():
                raise ImportCancelled
            take(source_rate_hz, original.add(block))
            if resampler is not None:
                out = resampler.resample_chunk(np.ascontiguousarray(block.T))
                take(rate_hz, converted.add(np.ascontiguousarray(out.reshape(-1, channels).T)))
            done += block.shape[1]
            progress(min(done / expected, 1.0) if expected else 0.0)
        take(source_rate_hz, original.rest())
        if resampler is not None:
            out = resampler.resample_chunk(np.zeros((0, channels), np.float32), last=True)
            take(rate_hz, converted.add(np.ascontiguousarray(out.reshape(-1, channels).T)))
            take(rate_hz, converted.rest())
        flush()
        with self.database.transaction() as connection:
            rates = {source_rate_hz: original.frames, rate_hz: converted.frames}
            connection.executemany(
                "INSERT INTO renditions (media_id, rate_hz, frames) VALUES (?, ?, ?)",
                [(media_id, rate, frames) for rate, frames in rates.items()],
            )
            # A few frames at a high rate may leave nothing at a lower one.
            finest = np.concatenate(pyramid, axis=1) if pyramid else np.zeros((3, 1), np.float32)
            for bin_frames, values in self._levels(finest):
                connection.execute(
                    "INSERT INTO pyramids (media_id, bin_frames, extremes) VALUES (?, ?, ?)",
                    (media_id, bin_frames, values.tobytes()),
                )
            connection.execute("UPDATE media SET frames = ?, ready = 1 WHERE id = ?", (original.frames, media_id))

    @staticmethod
    def _levels(finest: Audio) -> Iterator[tuple[int, Audio]]:
        """The pyramid's levels: lowest, highest and mean square per bin."""
        yield PYRAMID_BINS[0], np.ascontiguousarray(finest)
        for bin_frames in PYRAMID_BINS[1:]:
            edges = np.arange(0, finest.shape[1], bin_frames // PYRAMID_BINS[0])
            sizes = np.diff(np.append(edges, finest.shape[1]))
            yield (
                bin_frames,
                np.stack(
                    [
                        np.minimum.reduceat(finest[0], edges),
                        np.maximum.reduceat(finest[1], edges),
                        (np.add.reduceat(finest[2], edges) / sizes).astype(np.float32),
                    ]
                ),
            )

    def row(self, media_id: int) -> MediaRow:
        """Raises NotFound."""
        result = self._rows.get(media_id)
        if result is None:
            row = (
                self.database.connection()
                .execute(
                    "SELECT id, name, format, rate_hz, channels, frames, key FROM media WHERE id = ? AND ready = 1",
                    (media_id,),
                )
                .fetchone()
            )
            if row is None:
                raise NotFound(f"there is no media {media_id}")
            result = self._rows[media_id] = MediaRow(*row)
        return result

    def pyramid(self, media_id: int, bin_frames: int) -> Audio:
        """(3, bins) at the first session rate. Raises NotFound."""
        row = (
            self.database.connection()
            .execute("SELECT extremes FROM pyramids WHERE media_id = ? AND bin_frames = ?", (media_id, bin_frames))
            .fetchone()
        )
        if row is None:
            raise NotFound(f"there is no waveform of media {media_id} at {bin_frames} frames a bin; there are {PYRAMID_BINS}")
        return np.frombuffer(row[0], np.float32).reshape(3, -1)

    def frames_at(self, media_id: int, rate_hz: int) -> int:
        """Length at a rate. Raises NotFound if the media was never converted to it."""
        name = (media_id, rate_hz)
        if name not in self._lengths:
            row = (
                self.database.connection()
                .execute("SELECT frames FROM renditions WHERE media_id = ? AND rate_hz = ?", name)
                .fetchone()
            )
            if row is None:
                raise NotFound(f"media {media_id} is not there at {rate_hz} Hz; import it again")
            self._lengths[name] = int(row[0])
        return self._lengths[name]

    def chunk(self, media_id: int, rate_hz: int, place: int) -> Audio:
        name = (media_id, rate_hz, place)
        with self._lock:
            result = self._held.get(name)
            if result is not None:
                self._held.move_to_end(name)
                return result
        row = (
            self.database.connection()
            .execute("SELECT samples FROM chunks WHERE media_id = ? AND rate_hz = ? AND place = ?", name)
            .fetchone()
        )
        samples = np.frombuffer(row[0], np.float32).reshape(self.row(media_id).channels, -1)
        with self._lock:
            if name not in self._held:
                self._held[name] = samples
                self._bytes += samples.nbytes
                while self._bytes > self.most_bytes:
                    _, dropped = self._held.popitem(last=False)
                    self._bytes -= dropped.nbytes
        return samples

    def at_rate(self, rate_hz: int) -> "RatedMedia":
        return RatedMedia(self, rate_hz)


@dataclass(frozen=True)
class RatedMedia:
    """The store as one session's engine sees it."""

    store: MediaStore
    rate_hz: int

    @property
    def renders(self) -> RenderStore | None:
        return self.store.renders

    def key(self, media_id: int) -> str:
        """The sound itself, by a name that no other media ever has."""
        return self.store.row(media_id).key

    def channels(self, media_id: int) -> int:
        return self.store.row(media_id).channels

    def frames(self, media_id: int) -> int:
        return self.store.frames_at(media_id, self.rate_hz)

    def read(self, media_id: int, start: int, frames: int) -> Audio:
        """(channels, frames); silence outside the media."""
        out = np.zeros((self.channels(media_id), frames), np.float32)
        at, stop = max(start, 0), min(start + frames, self.frames(media_id))
        while at < stop:
            place, offset = divmod(at, CHUNK_FRAMES)
            count = min(stop - at, CHUNK_FRAMES - offset)
            out[:, at - start : at - start + count] = self.store.chunk(media_id, self.rate_hz, place)[:, offset : offset + count]
            at += count
        return out
