"""Sample-rate conversion: soxr at its very high quality, block by block, with the length exact."""

from collections.abc import Iterable, Iterator

import numpy as np
import soxr
from numpy.typing import NDArray

Audio = NDArray[np.float32]


def converted_frames(frames: int, rate: int, to_rate: int) -> int:
    """How many frames a sound has at another rate."""
    return (2 * frames * to_rate + rate) // (2 * rate)


class Converter:
    """Blocks, (channels, frames), at another rate; aligned with what came in, and as long (`converted_frames`)."""

    def __init__(self, rate: int, to_rate: int, channels: int) -> None:
        self._rate, self._to_rate, self._channels = rate, to_rate, channels
        self._stream = None if rate == to_rate else soxr.ResampleStream(rate, to_rate, channels, dtype="float32", quality="VHQ")
        self._entered = self._left = 0

    def convert(self, block: Audio) -> Audio:
        """What is ready after one more block; it may hold no frame."""
        if self._stream is None:
            return block
        self._entered += block.shape[1]
        result = planar(self._stream.resample_chunk(np.ascontiguousarray(block.T)), self._channels)
        self._left += result.shape[1]
        return result

    def finish(self) -> Audio:
        """The rest."""
        if self._stream is None:
            return np.zeros((self._channels, 0), np.float32)
        last = planar(self._stream.resample_chunk(np.zeros((0, self._channels), np.float32), last=True), self._channels)
        missing = converted_frames(self._entered, self._rate, self._to_rate) - self._left
        last = last[:, :missing]
        if last.shape[1] < missing:
            last = np.concatenate([last, np.zeros((self._channels, missing - last.shape[1]), np.float32)], axis=1)
        return np.ascontiguousarray(last)


def converted(blocks: Iterable[Audio], rate: int, to_rate: int, channels: int) -> Iterator[Audio]:
    """Blocks at another rate (see `Converter`), as they are ready."""
    converter = Converter(rate, to_rate, channels)
    for block in blocks:
        ready = converter.convert(block)
        if ready.shape[1]:
            yield ready
    last = converter.finish()
    if last.shape[1]:
        yield last


def planar(x: NDArray[np.float32], channels: int) -> Audio:
    return np.ascontiguousarray(x.reshape(-1, channels).T)
