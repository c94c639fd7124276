"""Signals the tests share."""

import numpy as np
from numpy.typing import NDArray

Audio = NDArray[np.float32]


def tone(hz: float, seconds: float, dbfs: float = 0.0, rate: int = 48000, phase: float = 0.0) -> NDArray[np.float64]:
    """A sine whose peak is at dbfs."""
    return 10 ** (dbfs / 20) * np.sin(2 * np.pi * hz * np.arange(round(seconds * rate)) / rate + phase)


def steps(*levels: tuple[float, float]) -> NDArray[np.float64]:
    """A 1 kHz sine at (dBFS, seconds) one after the other; None-like levels below -200 are silence."""
    return np.concatenate(
        [tone(1000.0, seconds, dbfs) if dbfs > -200 else np.zeros(round(seconds * 48000)) for dbfs, seconds in levels]
    )


def noise(channels: int, frames: int, seed: int = 0, level: float = 0.2) -> Audio:
    """Noise whose level swells and falls, so that detectors have something to do."""
    rng = np.random.default_rng(seed)
    swell = 0.15 + np.sin(np.arange(frames) / 3000.0) ** 2
    return (rng.standard_normal((channels, frames)) * level * swell).astype(np.float32)
