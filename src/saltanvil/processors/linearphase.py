"""A filter without phase: what it lets through and what it leaves add up to the input, delayed."""

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from saltanvil.processors.base import Audio, Stateful

#: Taps less one, over two, at 44.1 and 48 kHz; twice that at 88.2 and 96. Resolves about 50 Hz.
HALF_FRAMES = 1023
KAISER_BETA = 6.0

Response = Callable[[NDArray[np.float64]], NDArray[np.float64]]


def half_frames(rate: int) -> int:
    return HALF_FRAMES if rate < 50000 else 2 * HALF_FRAMES + 1


def design(gain: Response, rate: int) -> NDArray[np.float64]:
    """2 half_frames + 1 symmetric taps with this gain (linear, of frequencies in Hz), windowed (frequency sampling)."""
    half = half_frames(rate)
    size = 16 * (half + 1)
    wanted = gain(np.asarray(np.fft.rfftfreq(size, 1.0 / rate), dtype=np.float64))
    impulse = np.roll(np.fft.irfft(wanted, size), half)[: 2 * half + 1]
    return np.asarray(impulse * np.kaiser(2 * half + 1, KAISER_BETA), dtype=np.float64)


def gain_of(taps: NDArray[np.float64], frequencies_hz: NDArray[np.float64], rate: int) -> NDArray[np.float64]:
    """Magnitude of symmetric taps at the frequencies, linear."""
    n = np.arange(len(taps)) - len(taps) // 2
    return np.abs(np.cos(2 * np.pi * np.outer(frequencies_hz, n) / rate) @ taps)


class LinearPhase(Stateful):
    """Convolution with symmetric taps, by overlap-save in stretches of fixed places, so that any blocks give the same.

    A change of the taps fades over within one stretch.
    """

    def __init__(self, channels: int, rate: int) -> None:
        half = half_frames(rate)
        self.stretch = half + 1
        self._rate = rate
        self._size = 3 * self.stretch
        self._past = np.zeros((channels, self._size), np.float32)
        self._ready = np.zeros((channels, self.stretch), np.float32)
        self._filled = 0
        self._spectrum: NDArray[np.complex128] | None = None
        self._wanted: NDArray[np.complex128] | None = None

    @staticmethod
    def latency_of(rate: int) -> int:
        return 2 * half_frames(rate) + 1

    @property
    def on(self) -> bool:
        return self._wanted is not None

    def set(self, gain: Response | None) -> None:
        """None is off; switched on again it starts from rest."""
        if gain is None:
            self._wanted = self._spectrum = None
            return
        if self._wanted is None:
            self._past[:] = 0.0
            self._ready[:] = 0.0
            self._filled = 0
        self._wanted = np.fft.rfft(design(gain, self._rate), self._size)
        if self._spectrum is None:
            self._spectrum = self._wanted

    def __call__(self, x: Audio) -> Audio:
        if self._wanted is None:
            return x
        y = np.empty_like(x)
        done, step = 0, self.stretch
        while done < x.shape[1]:
            count = min(step - self._filled, x.shape[1] - done)
            new = slice(self._size - step + self._filled, self._size - step + self._filled + count)
            self._past[:, new] = x[:, done : done + count]
            y[:, done : done + count] = self._ready[:, self._filled : self._filled + count]
            self._filled += count
            done += count
            if self._filled == step:
                self._ready = self._convolved()
                self._past[:, :-step] = self._past[:, step:]
                self._filled = 0
        return y

    def _convolved(self) -> Audio:
        assert self._spectrum is not None and self._wanted is not None
        given = np.fft.rfft(self._past, axis=1)
        out = np.fft.irfft(given * self._spectrum, self._size, axis=1)[:, -self.stretch :]
        if self._spectrum is not self._wanted:
            along = (np.arange(self.stretch) + 1.0) / self.stretch
            new = np.fft.irfft(given * self._wanted, self._size, axis=1)[:, -self.stretch :]
            out = out + along * (new - out)
            self._spectrum = self._wanted
        return np.ascontiguousarray(out, dtype=np.float32)
