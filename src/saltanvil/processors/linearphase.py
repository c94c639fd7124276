"""A filter without phase: what it lets through and what it leaves add up to the input, delayed."""

from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.state import Stateful
from saltanvil.processors.base import Audio

#: Taps less one, over two, at 44.1 and 48 kHz; twice that at 88.2 and 96. Resolves about 50 Hz.
HALF_FRAMES = 1023
KAISER_BETA = 6.0

#: Lengths whose Fourier transform is quick.
FAST_LENGTHS = sorted({2**a * 3**b * 5**c for a in range(5, 17) for b in range(3) for c in range(2)})

Response = Callable[[NDArray[np.float64]], NDArray[np.float64]]


def half_frames(rate: int, at_48k: int = HALF_FRAMES) -> int:
    return at_48k if rate < 50000 else 2 * at_48k + 1


def design(gain: Response, rate: int, half: int | None = None) -> NDArray[np.float64]:
    """2 half + 1 symmetric taps with this gain (linear, of frequencies in Hz), windowed (frequency sampling)."""
    half = half_frames(rate) if half is None else half
    size = 16 * (half + 1)
    response = gain(np.asarray(np.fft.rfftfreq(size, 1.0 / rate), dtype=np.float64))
    impulse = np.roll(np.fft.irfft(response, size), half)[: 2 * half + 1]
    return np.asarray(impulse * np.kaiser(2 * half + 1, KAISER_BETA), dtype=np.float64)


def gain_of(taps: NDArray[np.float64], frequencies_hz: NDArray[np.float64], rate: int) -> NDArray[np.float64]:
    """Magnitude of symmetric taps at the frequencies, linear."""
    n = np.arange(len(taps)) - len(taps) // 2
    return np.abs(np.cos(2 * np.pi * np.outer(frequencies_hz, n) / rate) @ taps)


class LinearPhase(Stateful):
    """Convolution with sets of symmetric taps, by overlap-save in stretches of fixed places, so that any blocks give
    the same. A change of the taps fades over within one stretch.

    half: taps less one, over two; stretch: frames worked out at once. The latency is the sum of both.
    """

    state = ("_past",)

    def __init__(self, channels: int, half: int, stretch: int) -> None:
        self.half, self.stretch = half, stretch
        self._size = next(size for size in FAST_LENGTHS if size >= 2 * half + stretch)
        self._past = np.zeros((channels, self._size), np.float32)
        self._ready = np.zeros((1, channels, stretch), np.float32)
        self._filled = 0
        self._spectra: NDArray[np.complex64] | None = None
        self._wanted: NDArray[np.complex64] | None = None

    @property
    def on(self) -> bool:
        return self._wanted is not None

    def set(self, gains: Sequence[Response], rate: int) -> None:
        """None given is off; switched on again, or with another number, it starts from rest."""
        if not gains:
            self._wanted = self._spectra = None
            return
        if self._wanted is None or len(gains) != len(self._wanted):
            self._past[:] = 0.0
            self._ready = np.zeros((len(gains) + 1, *self._ready.shape[1:]), np.float32)
            self._filled = 0
            self._spectra = None
        taps = np.array([design(gain, rate, self.half) for gain in gains])
        self._wanted = np.fft.rfft(taps, self._size).astype(np.complex64)
        if self._spectra is None:
            self._spectra = self._wanted

    def __call__(self, x: Audio) -> Audio:
        """(gains + 1, channels, frames): what each gain lets through, and last x itself, all equally late."""
        y = np.empty((len(self._ready), *x.shape), np.float32)
        done, step = 0, self.stretch
        while done < x.shape[1]:
            count = min(step - self._filled, x.shape[1] - done)
            new = slice(self._size - step + self._filled, self._size - step + self._filled + count)
            self._past[:, new] = x[:, done : done + count]
            y[:, :, done : done + count] = self._ready[:, :, self._filled : self._filled + count]
            self._filled += count
            done += count
            if self._filled == step:
                self._ready = self._convolved()
                self._past[:, :-step] = self._past[:, step:].copy()
                self._filled = 0
        return y

    def _convolved(self) -> Audio:
        assert self._spectra is not None and self._wanted is not None
        spectrum = np.fft.rfft(self._past, axis=1)
        out = np.empty((len(self._wanted) + 1, *self._ready.shape[1:]), np.float32)
        along = (np.arange(self.stretch) + 1.0) / self.stretch
        for index, response in enumerate(self._wanted):
            result = np.fft.irfft(spectrum * self._spectra[index], self._size, axis=1)[:, -self.stretch :]
            if self._spectra is not self._wanted:
                new = np.fft.irfft(spectrum * response, self._size, axis=1)[:, -self.stretch :]
                result = result + along * (new - result)
            out[index] = result
        out[-1] = self._past[:, self._size - self.stretch - self.half : self._size - self.half]
        self._spectra = self._wanted
        return out
