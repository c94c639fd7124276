"""Known signals through a path with its present settings.

The engine itself runs (`saltanvil.engine.path_runner`), so what is measured is what sounds and is rendered. Detectors whose key
lies outside the path get the test signal as their key.
"""

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.units import db_to_gain
from saltanvil.engine.path_runner import PathRunner
from saltanvil.engine.render import Cancelled
from saltanvil.measure import distortion
from saltanvil.session.document.path import Path

FRAMES = 1 << 16
SHORT_FRAMES = 1 << 14
#: Time for detectors and filters to settle before a tone is measured.
SETTLE_S = 1.0
SHORT_SETTLE_S = 0.4
#: A tone goes on after the part that is measured, or a filter with its middle there would see it end.
TAIL_FRAMES = 4096
Audio = NDArray[np.float32]
Array = NDArray[np.float64]


class Bench:
    """A path on the bench. progress: told the share that is done; cancelled: asked between runs.

    Raises Cancelled, and ValueError for a question that makes no sense at this rate.
    """

    def __init__(
        self,
        path: Path,
        rate: int = 48000,
        channels: int = 1,
        tempo_bpm: float = 120.0,
        progress: Callable[[float], None] = lambda share: None,
        cancelled: Callable[[], bool] = lambda: False,
    ) -> None:
        self.path, self.rate, self.channels, self.tempo_bpm = path, rate, channels, tempo_bpm
        self.progress, self.cancelled = progress, cancelled
        self.latency_frames = 0

    def run(self, x: Array) -> Array:
        """A signal, (frames,), on all channels through the path; what leaves on the first, aligned as it is declared."""
        if self.cancelled():
            raise Cancelled
        sound = np.ascontiguousarray(np.tile(x.astype(np.float32), (self.channels, 1)))
        through = PathRunner(self.path, sound, self.rate, self.tempo_bpm)
        self.latency_frames = through.latency_frames
        return np.asarray(through.run()[0], dtype=np.float64)

    def tone(self, hz: float, level_db: float, frames: int, settle_s: float) -> tuple[Array, float]:
        """The settled part of a sine that fits the frames, as it leaves; and its frequency."""
        fits = distortion.fitting_hz(hz, frames, self.rate)
        lead = -(-round(settle_s * self.rate) // frames) * frames if settle_s * self.rate > frames else frames
        t = np.arange(lead + frames + TAIL_FRAMES) / self.rate
        return self.run(db_to_gain(level_db) * np.sin(2.0 * np.pi * fits * t))[lead : lead + frames], fits
