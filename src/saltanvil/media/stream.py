"""Files as the engine reads them: forwards, in blocks, without ever being in memory whole."""

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from saltanvil.media.convert import converted
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
        yield from converted(source.blocks, source.rate, self.rate, self.channels)

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


class Sound(Protocol):
    """A sound that can be read anywhere: a file, a recording."""

    channels: int
    frames: int

    def read(self, start: int, frames: int) -> Audio: ...


class FileMedia:
    """Sounds as media of one session, numbered as they are given; implements the engine's `Media`."""

    def __init__(self, *sounds: Sound) -> None:
        self.sounds = sounds

    def channels(self, media_id: int) -> int:
        return self.sounds[media_id].channels

    def frames(self, media_id: int) -> int:
        return self.sounds[media_id].frames

    def read(self, media_id: int, start: int, frames: int) -> Audio:
        return self.sounds[media_id].read(start, frames)
