"""Writing audio files: quantisation with TPDF dither, once, at the very end."""

import hashlib
import math
from collections.abc import Iterable
from dataclasses import dataclass
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


@dataclass(frozen=True)
class Written:
    """What a file holds. clipped: samples that did not fit into its whole numbers; over_db: by how much the loudest did not."""

    frames: int
    clipped: int = 0
    over_db: float = 0.0

    def warning(self, name: str) -> str | None:
        """What the user should be told, if anything."""
        if not self.clipped:
            return None
        samples = "1 sample was" if self.clipped == 1 else f"{self.clipped} samples were"
        return f"{name}: {samples} clipped, by up to {self.over_db:.1f} dB; lower the level, or write 32-bit float"


class Quantiser:
    """Rounds to `bits` with TPDF dither of 2 LSB peak to peak.

    Lipshitz, Wannamaker and Vanderkooy, J. Audio Eng. Soc. 40(5), 1992: the total error's mean is 0 and its power
    LSB^2/4, whatever the signal. Values beyond full scale are held at it and counted.

    seed: a name, such as the strip's: files of one render, and the channels of each, get noise that has nothing in common,
    and the same name gets the same noise again. It does not depend on the division into blocks.
    """

    def __init__(self, bits: int, channels: int = 2, seed: str = "") -> None:
        self.bits = bits
        self.clipped = 0
        self.loudest = 0.0
        name = int.from_bytes(hashlib.blake2b(seed.encode(), digest_size=8).digest(), "big")
        self._noises = [np.random.default_rng([DITHER_SEED, name, channel]) for channel in range(channels)]

    def __call__(self, x: Audio) -> NDArray[np.int32]:
        """x: (channels, frames); returns integers of `bits`, at the top of 32 bits, as files take them."""
        scale = float(1 << (self.bits - 1))
        noise = np.stack([source.random((x.shape[1], 2)).sum(axis=1) - 1.0 for source in self._noises[: len(x)]])
        wanted = np.rint(x.astype(np.float64) * scale + noise)
        over = np.abs(x) > 1.0  # full scale itself is a step too high for whole numbers, and no clipping
        count = int(over.sum())
        if count:
            self.clipped += count
            self.loudest = max(self.loudest, float(np.abs(x[over]).max()))
        whole: NDArray[np.int32] = np.clip(wanted, -scale, scale - 1.0).astype(np.int32) << (32 - self.bits)
        return whole

    @property
    def over_db(self) -> float:
        """By how much the loudest sample is above full scale."""
        return max(0.0, 20.0 * math.log10(self.loudest)) if self.loudest > 0.0 else 0.0


def write_audio(
    path: Path, blocks: Iterable[Audio], rate: int, channels: int, kind: FileFormat, frames: int, seed: str = ""
) -> Written:
    """Write blocks (channels, frames) to a file; `frames`, about how many, decides between WAV and RF64 (ITU-R BS.2088).

    seed: names the dither's noise (see `Quantiser`).
    """
    bits = BITS[kind]
    size = frames * channels * (bits // 8 if bits else 4)
    container = "FLAC" if kind.startswith("flac") else "RF64" if size > WAV_LIMIT_BYTES else "WAV"
    quantise = Quantiser(bits, channels, seed) if bits else None
    written = 0
    with soundfile.SoundFile(str(path), "w", rate, channels, SUBTYPE[kind], format=container) as file:
        for block in blocks:
            samples: NDArray[Any] = quantise(block) if quantise else block
            file.write(np.ascontiguousarray(samples.T))
            written += block.shape[1]
    return Written(written) if quantise is None else Written(written, quantise.clipped, quantise.over_db)
