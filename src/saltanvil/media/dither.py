"""Dither and noise shaping: from floating point to whole numbers, once, at the very end."""

import functools
import hashlib
import math
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.noise_shaping import shaped

Audio = NDArray[np.float32]
Dither = Literal["tpdf", "shaped"]
DITHER_SEED = 1992
#: Orders of the shaping filter: so many taps at the rates of one hour's music, more where the band is twice as wide.
ORDER, HIGH_RATE_ORDER = 9, 15
#: The ear's threshold counts up to so many decibels above its lowest: what lies higher is as good as unheard, and more of it
#: would only let the noise grow where converters do not like it.
THRESHOLD_SPAN_DB = 36.0


def hearing_threshold_db(frequency_hz: NDArray[np.float64]) -> NDArray[np.float64]:
    """Threshold of hearing in quiet in dB SPL: Terhardt, "Calculating virtual pitch", Hearing Research 1(2), 1979, eq. 1."""
    khz = np.maximum(frequency_hz, 20.0) / 1000.0
    return np.asarray(3.64 * khz**-0.8 - 6.5 * np.exp(-0.6 * (khz - 3.3) ** 2) + 1e-3 * khz**4)


@functools.cache
def shaping_taps(rate: int) -> NDArray[np.float64]:
    """Taps of the noise-shaping filter 1 + a[0] z^-1 + a[1] z^-2 ... for a rate.

    Of all filters of its order that begin with 1, the one whose noise is softest against the threshold of hearing: the linear
    prediction of a signal whose spectrum is that threshold turned over (Gerzon and Craven, AES 87th Convention, 1989: the
    logarithm of the shaped spectrum keeps its mean, so what is taken from one band comes up in others).
    """
    count = 1 << 14
    threshold = hearing_threshold_db(np.linspace(0.0, rate / 2.0, count // 2 + 1))
    lowest = float(threshold.min())
    weight = 10.0 ** (-np.minimum(threshold - lowest, THRESHOLD_SPAN_DB) / 10.0)
    correlation = np.fft.irfft(weight, count)
    order = ORDER if rate <= 50000 else HIGH_RATE_ORDER
    places = np.arange(order)
    matrix = correlation[np.abs(places[:, None] - places[None, :])]
    return np.ascontiguousarray(np.linalg.solve(matrix, -correlation[1 : order + 1]))


def shaping_db(rate: int, frequency_hz: NDArray[np.float64]) -> NDArray[np.float64]:
    """By how much shaped noise lies above (or below) plain TPDF noise at frequencies."""
    taps = np.concatenate([[1.0], shaping_taps(rate)])
    turns = np.exp(-2j * np.pi * np.outer(frequency_hz / rate, np.arange(len(taps))))
    return np.asarray(20.0 * np.log10(np.abs(turns @ taps)))


def shaped_power_db(rate: int) -> float:
    """By how much the whole power of shaped noise lies above that of plain TPDF noise."""
    return 10.0 * math.log10(1.0 + float((shaping_taps(rate) ** 2).sum()))


class Quantiser:
    """Rounds to `bits` with TPDF dither of 2 LSB peak to peak.

    Lipshitz, Wannamaker and Vanderkooy, J. Audio Eng. Soc. 40(5), 1992: the total error's mean is 0 and its power
    LSB^2/4, whatever the signal. Values beyond full scale are held at it and counted.

    seed: a name, such as the strip's: files of one render, and the channels of each, get noise that has nothing in common,
    and the same name gets the same noise again. It does not depend on the division into blocks. shaped_at: the rate for which
    the error is shaped; None leaves it white.
    """

    def __init__(self, bits: int, channels: int = 2, seed: str = "", shaped_at: int | None = None) -> None:
        self.bits = bits
        self.clipped = 0
        self.loudest = 0.0
        name = int.from_bytes(hashlib.blake2b(seed.encode(), digest_size=8).digest(), "big")
        self._noises = [np.random.default_rng([DITHER_SEED, name, channel]) for channel in range(channels)]
        self._taps = np.zeros(0) if shaped_at is None else shaping_taps(shaped_at)
        self._errors = np.zeros((channels, len(self._taps)))

    def __call__(self, x: Audio) -> NDArray[np.int32]:
        """x: (channels, frames); returns integers of `bits`, at the top of 32 bits, as files take them."""
        scale = float(1 << (self.bits - 1))
        noise = np.stack([source.random((x.shape[1], 2)).sum(axis=1) - 1.0 for source in self._noises[: len(x)]])
        over = np.abs(x) > 1.0  # full scale itself is a step too high for whole numbers, and no clipping
        count = int(over.sum())
        if count:
            self.clipped += count
            self.loudest = max(self.loudest, float(np.abs(x[over]).max()))
        if len(self._taps):
            rounded = np.empty(x.shape)
            shaped(x.astype(np.float64) * scale, noise, self._taps, self._errors, -scale, scale - 1.0, rounded)
        else:
            rounded = np.clip(np.rint(x.astype(np.float64) * scale + noise), -scale, scale - 1.0)
        whole: NDArray[np.int32] = rounded.astype(np.int32) << (32 - self.bits)
        return whole

    @property
    def over_db(self) -> float:
        """By how much the loudest sample is above full scale."""
        return max(0.0, 20.0 * math.log10(self.loudest)) if self.loudest > 0.0 else 0.0
