"""Writing Broadcast WAV files: EBU Tech 3285 version 2 with its loudness fields, RF64 (ITU-R BS.2088) over 4 GiB.

    RIFF | JUNK, which becomes ds64 | bext | fmt | LIST INFO | data

The sizes are filled in when the sound is complete, and its loudness when the finished file was measured (`write_loudness`).
"""

import struct
import time
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from saltanvil.media.formats import Origin

#: A chunk whose size does not fit says this, and its size stands in ds64.
BEYOND = 0xFFFFFFFF
#: A loudness field without a value (EBU Tech 3285, version 2).
UNKNOWN = 0x7FFF
VERSION = 2
#: RIFF's names of tags (INFO list).
INFO = {"title": b"INAM", "artist": b"IART", "date": b"ICRD", "comment": b"ICMT", "genre": b"IGNR", "copyright": b"ICOP"}


@dataclass(frozen=True)
class Measured:
    """What the loudness fields tell."""

    integrated_lufs: float | None = None
    loudness_range_lu: float | None = None
    true_peak_dbtp: float | None = None
    max_momentary_lufs: float | None = None
    max_short_term_lufs: float | None = None


def hundredths(value: float | None) -> int:
    """A loudness field: hundredths of its unit."""
    return UNKNOWN if value is None or not -327.0 < value < 327.0 else round(100.0 * value)


def text(value: str, size: int) -> bytes:
    """ASCII, as the standard wants it, filled up with zeros."""
    return value.encode("ascii", "replace")[:size].ljust(size, b"\0")


def loudness_fields(measured: Measured) -> bytes:
    values = (
        measured.integrated_lufs, measured.loudness_range_lu, measured.true_peak_dbtp, measured.max_momentary_lufs,
        measured.max_short_term_lufs,
    )  # fmt: skip
    return struct.pack("<5h", *(hundredths(value) for value in values))


def bext(origin: Origin, time_reference: int, history: str) -> bytes:
    """The chunk's body, without loudness. time_reference: frames since midnight at the sound's first."""
    now = time.localtime()
    return b"".join(
        (
            text(origin.description, 256),
            text(origin.originator, 32),
            text("", 32),
            text(time.strftime("%Y-%m-%d", now), 10),
            text(time.strftime("%H:%M:%S", now), 8),
            struct.pack("<QH", time_reference, VERSION),
            bytes(64),  # UMID: none
            loudness_fields(Measured()),
            bytes(180),
            history.encode("ascii", "replace"),
        )
    )


def chunk(name: bytes, body: bytes) -> bytes:
    return name + struct.pack("<I", len(body)) + body + b"\0" * (len(body) & 1)


def info_list(tags: dict[str, str]) -> bytes:
    """The LIST INFO chunk; empty if nothing of it has a place there."""
    chunks = [chunk(INFO[name], value.encode() + b"\0") for name, value in tags.items() if name in INFO]
    return chunk(b"LIST", b"INFO" + b"".join(chunks)) if chunks else b""


class BroadcastFile:
    """Writes samples as they come; `close` completes the header.

    bits: 16, 24, or 0 for 32-bit float.
    """

    def __init__(
        self, path: Path, rate: int, channels: int, bits: int, origin: Origin, tags: dict[str, str], time_reference: int = 0
    ) -> None:
        self.channels, self.bits = channels, bits
        self.sample_bytes = bits // 8 or 4
        width = f"F={rate},W={bits or 32},M={'mono' if channels == 1 else 'stereo'}"
        history = f"A=PCM,{width},T=Salt Anvil\r\n"
        self.data_bytes = 0
        self.file = path.open("w+b")
        frame = channels * self.sample_bytes
        form = struct.pack("<HHIIHH", 1 if bits else 3, channels, rate, rate * frame, frame, 8 * self.sample_bytes)
        head = b"RIFF" + struct.pack("<I", 0) + b"WAVE" + chunk(b"JUNK", bytes(28))
        head += chunk(b"bext", bext(origin, time_reference, history)) + chunk(b"fmt ", form) + info_list(tags)
        self._data_at = len(head) + 8
        self.file.write(head + b"data" + struct.pack("<I", 0))

    def write(self, samples: NDArray[Any]) -> None:
        """(channels, frames): int32 with the bits at the top, or float32."""
        x = np.ascontiguousarray(samples.T)
        if self.bits == 24:
            body = x.astype("<i4").view(np.uint8).reshape(*x.shape, 4)[..., 1:].tobytes()
        elif self.bits == 16:
            body = (x >> 16).astype("<i2").tobytes()
        else:
            body = x.astype("<f4").tobytes()
        self.file.write(body)
        self.data_bytes += len(body)

    def close(self) -> None:
        """Fill in the sizes."""
        if self.data_bytes & 1:
            self.file.write(b"\0")
        end = self._data_at + self.data_bytes + (self.data_bytes & 1)
        riff, data = end - 8, self.data_bytes
        if riff > BEYOND:
            frames = data // (self.channels * self.sample_bytes)
            self.file.seek(0)
            sizes = chunk(b"ds64", struct.pack("<QQQI", riff, data, frames, 0))
            self.file.write(b"RF64" + struct.pack("<I", BEYOND) + b"WAVE" + sizes)
            riff = data = BEYOND
        self.file.seek(4)
        self.file.write(struct.pack("<I", riff))
        self.file.seek(self._data_at - 4)
        self.file.write(struct.pack("<I", data))
        self.file.close()

    def abandon(self) -> None:
        self.file.close()


#: Where the loudness fields lie in the chunk's body.
LOUDNESS_AT = 412


def write_loudness(path: Path, measured: Measured) -> None:
    """Fill in the loudness of a finished file that `BroadcastFile` wrote."""
    with path.open("r+b") as file:
        head = file.read(4096)
        file.seek(head.index(b"bext") + 8 + LOUDNESS_AT)
        file.write(loudness_fields(measured))
