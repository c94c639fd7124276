"""Files as the engine reads them: forwards, in blocks, without ever being in memory whole."""

from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import soxr
from numpy.typing import NDArray

from saltanvil.media.decode import open_audio

Audio = NDArray[np.float32]


class FileSound:
    """One file, converted to a rate (soxr, very high quality) if it has another. Asked for an earlier place than it has come
    to, it begins anew. frames: its length at that rate, counted once.

    Raises MediaError.
    """

    def __init__(self, path: Path, rate: int | None = None, seen: Callable[[Audio], None] = lambda block: None) -> None:
        self._path = path
        source = open_audio(path, path.name)
        self.channels, self.rate = source.channels, rate or source.rate
        self.frames = 0
        for block in self._blocks():
            seen(block)
            self.frames += block.shape[1]
        self._begin()

    def _blocks(self) -> Iterator[Audio]:
        source = open_audio(self._path, self._path.name)
        if source.rate == self.rate:
            yield from source.blocks
            return
        converter = soxr.ResampleStream(source.rate, self.rate, self.channels, dtype="float32", quality="VHQ")
        for block in source.blocks:
            yield self._planar(converter.resample_chunk(np.ascontiguousarray(block.T)))
        yield self._planar(converter.resample_chunk(np.zeros((0, self.channels), np.float32), last=True))

    def _planar(self, x: Audio) -> Audio:
        return np.ascontiguousarray(x.reshape(-1, self.channels).T)

    def _begin(self) -> None:
        self._source = self._blocks()
        self._at, self._held = 0, np.zeros((self.channels, 0), np.float32)

    def read(self, start: int, frames: int) -> Audio:
        """(channels, frames) from `start` on; silence outside the file."""
        out = np.zeros((self.channels, frames), np.float32)
        first, stop = max(start, 0), min(start + frames, self.frames)
        if first >= stop:
            return out
        if first < self._at:
            self._begin()
        parts, at = [], self._at
        while at + self._held.shape[1] < stop:
            if at + self._held.shape[1] > first:
                parts.append(self._held[:, max(first - at, 0) :])
            at += self._held.shape[1]
            self._held = next(self._source)
        parts.append(self._held[:, max(first - at, 0) : stop - at])
        self._held, self._at = self._held[:, stop - at :], stop
        result = np.concatenate(parts, axis=1)
        out[:, first - start : first - start + result.shape[1]] = result
        return out


class FileMedia:
    """Files as media of one session, numbered as they are given; implements the engine's `Media`."""

    def __init__(self, *sounds: FileSound) -> None:
        self.sounds = sounds

    def channels(self, media_id: int) -> int:
        return self.sounds[media_id].channels

    def frames(self, media_id: int) -> int:
        return self.sounds[media_id].frames

    def read(self, media_id: int, start: int, frames: int) -> Audio:
        return self.sounds[media_id].read(start, frames)
