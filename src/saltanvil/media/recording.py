"""A sound kept as it was rendered, 32-bit float in a plain file, so that it can be measured, encoded and played at any place."""

import os
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

Audio = NDArray[np.float32]
BLOCK_FRAMES = 1 << 16


class Recording:
    """(channels, frames) at a rate, in a file that is the caller's to remove: whoever still reads it may go on."""

    def __init__(self, path: Path, rate: int, channels: int, frames: int) -> None:
        self.path, self.rate, self.channels, self.frames = path, rate, channels, frames
        self._file = os.open(path, os.O_RDONLY)

    def __reduce__(self) -> tuple[Any, ...]:
        """For another process, which opens the file by itself."""
        return Recording, (self.path, self.rate, self.channels, self.frames)

    def __del__(self) -> None:
        if hasattr(self, "_file"):
            os.close(self._file)

    def read(self, start: int, frames: int) -> Audio:
        """(channels, frames) from `start` on; silence outside the sound."""
        out = np.zeros((self.channels, frames), np.float32)
        first, stop = max(start, 0), min(start + frames, self.frames)
        if first < stop:
            size = 4 * self.channels
            samples = np.frombuffer(os.pread(self._file, size * (stop - first), size * first), np.float32)
            out[:, first - start : stop - start] = samples.reshape(-1, self.channels).T
        return out

    def blocks(self, gain: float = 1.0) -> Iterator[Audio]:
        """All of it, block by block."""
        for at in range(0, self.frames, BLOCK_FRAMES):
            block = self.read(at, min(BLOCK_FRAMES, self.frames - at))
            yield block if gain == 1.0 else block * np.float32(gain)

    def discard(self) -> None:
        self.path.unlink(missing_ok=True)


def recorded(path: Path, blocks: Iterable[Audio], rate: int, channels: int) -> Recording:
    """Keep blocks, (channels, frames). Raises OSError; nothing is left then."""
    frames = 0
    try:
        with path.open("wb") as file:
            for block in blocks:
                file.write(np.ascontiguousarray(block.T, dtype=np.float32).tobytes())
                frames += block.shape[1]
    except BaseException:
        path.unlink(missing_ok=True)
        raise
    return Recording(path, rate, channels, frames)
