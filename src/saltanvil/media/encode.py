"""Writing audio files: quantisation with TPDF dither, once, at the very end."""

from collections.abc import Iterable
from pathlib import Path
from typing import Any, Literal

import numpy as np
import soundfile
from numpy.typing import NDArray

Audio = NDArray[np.float32]
FileFormat = Literal["wav16", "wav24", "wav32f", "flac16", "flac24"]
SUFFIX: dict[str, str] = {"wav16": ".wav", "wav24": ".wav", "wav32f": ".wav", "flac16": ".flac", "flac24": ".flac"}
SUBTYPE: dict[str, str] = {
    "wav16": "PCM_16",
    "wav24": "PCM_24",
    "wav32f": "FLOAT",
    "flac16": "PCM_16",
    "flac24": "PCM_24",
}
BITS: dict[str, int] = {"wav16": 16, "wav24": 24, "wav32f": 0, "flac16": 16, "flac24": 24}
WAV_LIMIT_BYTES = (1 << 32) - (1 << 16)
DITHER_SEED = 1992


class Quantiser:
    """Rounds to `bits` with TPDF dither of 2 LSB peak to peak.

    Lipshitz, Wannamaker and Vanderkooy, J. Audio Eng. Soc. 40(5), 1992: the total error's mean is 0 and its power
    LSB^2/4, whatever the signal. Values beyond full scale are held at it.
    """

    def __init__(self, bits: int) -> None:
        self.bits = bits
        self._rng = np.random.default_rng(DITHER_SEED)

    def __call__(self, x: Audio) -> NDArray[np.int32]:
        """x: (channels, frames); returns integers of `bits`, at the top of 32 bits, as files take them."""
        scale = float(1 << (self.bits - 1))
        noise = self._rng.random(x.shape) + self._rng.random(x.shape) - 1.0
        whole = np.clip(np.rint(x.astype(np.float64) * scale + noise), -scale, scale - 1.0)
        return whole.astype(np.int32) << (32 - self.bits)


def write_audio(path: Path, blocks: Iterable[Audio], rate: int, channels: int, kind: FileFormat, frames: int) -> None:
    """Write blocks (channels, frames) to a file; `frames` in all decides between WAV and RF64 (ITU-R BS.2088)."""
    bits = BITS[kind]
    size = frames * channels * (bits // 8 if bits else 4)
    container = "FLAC" if kind.startswith("flac") else "RF64" if size > WAV_LIMIT_BYTES else "WAV"
    quantise = Quantiser(bits) if bits else None
    with soundfile.SoundFile(str(path), "w", rate, channels, SUBTYPE[kind], format=container) as file:
        for block in blocks:
            samples: NDArray[Any] = quantise(block) if quantise else block
            file.write(np.ascontiguousarray(samples.T))
