"""Signals the tests share."""

import numpy as np
import scipy.signal
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


def plucked_bass(hz: float, seconds: float, rate: int = 48000, seed: int = 0, dull: float = 1.3) -> NDArray[np.float64]:
    """A decaying note with harmonics that decay the faster the higher they are, as strings do; peak at -3 dBFS.

    dull: harmonic n is 1 / n^dull as strong as the first.
    """
    t = np.arange(round(seconds * rate)) / rate
    phases = np.random.default_rng(seed).uniform(0.0, 6.28, 12)
    count = min(12, int(0.4 * rate / hz))
    note = sum(
        np.exp(-(1.5 + 0.7 * n) * t) * np.sin(2 * np.pi * n * hz * t + phases[n - 1]) / n**dull for n in range(1, count + 1)
    )
    note *= np.minimum(t / 0.004, 1.0)
    return np.asarray(0.708 * note / np.abs(note).max())


def _bursts(seconds: float, every_s: float, rate: int) -> tuple[int, NDArray[np.float64]]:
    frames = round(seconds * rate)
    return frames, (np.arange(frames) % round(every_s * rate)) / rate


def hats(seconds: float = 2.0, rate: int = 48000, seed: int = 0) -> NDArray[np.float64]:
    """Bursts of noise above 7 kHz, peak at 0 dBFS: bright material, whose crests lie between the samples."""
    frames, t = _bursts(seconds, 0.125, rate)
    high = scipy.signal.butter(4, 7000, "high", fs=rate, output="sos")
    x = scipy.signal.sosfilt(high, np.random.default_rng(seed).standard_normal(frames)) * np.exp(-t / 0.03)
    return np.asarray(x / np.abs(x).max())


def snare(seconds: float = 2.0, rate: int = 48000, seed: int = 0) -> NDArray[np.float64]:
    """Noise over a decaying 190 Hz tone, twice a second; peak at 0 dBFS."""
    frames, t = _bursts(seconds, 0.5, rate)
    x = 0.7 * np.random.default_rng(seed).standard_normal(frames) * np.exp(-t / 0.06)
    x += np.sin(2 * np.pi * 190 * t) * np.exp(-t / 0.08)
    return np.asarray(x / np.abs(x).max())


def kick(seconds: float = 4.0, rate: int = 48000, seed: int = 0) -> NDArray[np.float64]:
    """A tone that falls from 120 to 48 Hz, with a click; twice a second; peak at 0 dBFS."""
    frames, t = _bursts(seconds, 0.5, rate)
    x = np.sin(2 * np.pi * (48 * t + 72 * 0.03 * (1 - np.exp(-t / 0.03)))) * np.exp(-t / 0.18)
    x += 0.5 * np.random.default_rng(seed).standard_normal(frames) * np.exp(-t / 0.004)
    return np.asarray(x / np.abs(x).max())


def keys(seconds: float, every_s: float, decay_s: float, rate: int = 48000, seed: int = 0) -> NDArray[np.float64]:
    """Notes of uneven strength that ring into each other and decay; peak at -6 dBFS."""
    rng, frames, at = np.random.default_rng(seed), round(seconds * rate), 0.0
    x = np.zeros(frames)
    while at < seconds - 0.1:
        start = round(at * rate)
        t = np.arange(min(frames - start, round(16.0 * rate / (1 / decay_s + 0.8)))) / rate  # until it is 139 dB down
        hz, strength = rng.choice([220, 262, 330, 392, 440, 523]), 10 ** (rng.uniform(-9, 0) / 20)
        note = sum(
            np.exp(-t * (1 / decay_s + 0.8 * n)) * np.sin(2 * np.pi * hz * n * t + rng.uniform(0, 6)) / n**1.5
            for n in range(1, 7)
        )
        x[start : start + len(t)] += strength * np.minimum(t / 0.003, 1) * note
        at += every_s * rng.choice([0.5, 1, 1, 2])
    return np.asarray(0.5 * x / np.abs(x).max())


def pink(seed: int, frames: int, channels: int = 1, level: float = 0.1) -> Audio:
    """Noise with the same power in every octave; RMS at `level`."""
    spectrum = np.fft.rfft(np.random.default_rng(seed).standard_normal((channels, frames)))
    spectrum /= np.sqrt(np.maximum(np.arange(spectrum.shape[1]), 1.0))
    x = np.fft.irfft(spectrum, frames)
    return np.asarray(level * x / x.std(), np.float32)
