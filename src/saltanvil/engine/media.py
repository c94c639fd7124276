"""Where the engine gets the sound of tracks from."""

from typing import Protocol

import numpy as np
from numpy.typing import NDArray

Audio = NDArray[np.float32]


class Media(Protocol):
    """Where tracks get their sound from, at the session's rate."""

    def channels(self, media_id: int) -> int: ...

    def frames(self, media_id: int) -> int: ...

    def read(self, media_id: int, start: int, frames: int) -> Audio:
        """(channels, frames), C-contiguous; silence outside the media."""
        ...


class Arrays:
    """Media from arrays, (channels, frames) each."""

    def __init__(self, *sounds: Audio) -> None:
        self.sounds = sounds

    def channels(self, media_id: int) -> int:
        return len(self.sounds[media_id])

    def frames(self, media_id: int) -> int:
        return int(self.sounds[media_id].shape[1])

    def read(self, media_id: int, start: int, frames: int) -> Audio:
        sound = self.sounds[media_id]
        out: NDArray[np.float32] = np.zeros((len(sound), frames), np.float32)
        first, last = max(start, 0), min(start + frames, sound.shape[1])
        if first < last:
            out[:, first - start : last - start] = sound[:, first:last]
        return out
