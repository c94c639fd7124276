"""Sample-rate conversion: soxr at its very high quality, block by block, with the length exact."""

from collections.abc import Iterable, Iterator

import numpy as np
import soxr
from numpy.typing import NDArray

Audio = NDArray[np.float32]


def converted_frames(frames: int, rate: int, to_rate: int) -> int:
    """How many frames a sound has at another rate."""
    return (2 * frames * to_rate + rate) // (2 * rate)


def converted(blocks: Iterable[Audio], rate: int, to_rate: int, channels: int) -> Iterator[Audio]:
    """Blocks, (channels, frames), at another rate; aligned with what came in, and as long (`converted_frames`)."""
    if rate == to_rate:
        yield from blocks
        return
    stream = soxr.ResampleStream(rate, to_rate, channels, dtype="float32", quality="VHQ")
    entered = left = 0
    for block in blocks:
        entered += block.shape[1]
        out = planar(stream.resample_chunk(np.ascontiguousarray(block.T)), channels)
        left += out.shape[1]
        if out.shape[1]:
            yield out
    last = planar(stream.resample_chunk(np.zeros((0, channels), np.float32), last=True), channels)
    missing = converted_frames(entered, rate, to_rate) - left
    last = last[:, :missing]
    if last.shape[1] < missing:
        last = np.concatenate([last, np.zeros((channels, missing - last.shape[1]), np.float32)], axis=1)
    if last.shape[1]:
        yield np.ascontiguousarray(last)


def planar(x: NDArray[np.float32], channels: int) -> Audio:
    return np.ascontiguousarray(x.reshape(-1, channels).T)
