"""What a finished file holds: read back from the disk and measured, as whoever gets it would."""

import hashlib
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from saltanvil.engine.render import Cancelled
from saltanvil.measure.figures import Figures, FiguresMeter
from saltanvil.media.broadcast import Measured, write_loudness
from saltanvil.media.decode import open_audio
from saltanvil.media.formats import format_named

Audio = NDArray[np.float32]


@dataclass(frozen=True)
class FileFacts:
    """A finished file. sample_overs: samples above full scale, as its decoder gives them."""

    name: str
    format: str
    bytes: int
    sha256: str
    rate_hz: int
    channels: int
    frames: int
    figures: Figures
    sample_overs: int

    @property
    def length_s(self) -> float:
        return self.frames / self.rate_hz


def figures_of_blocks(blocks: Iterable[Audio], channels: int, rate: int) -> Figures:
    """Of a sound that comes in blocks, (channels, frames)."""
    meter = FiguresMeter(channels, rate)
    for block in blocks:
        meter.add(block)
    return meter.figures()


def facts_of_file(path: Path, name: str, form: str, cancelled: Callable[[], bool] = lambda: False) -> FileFacts:
    """Read a finished file and measure it; a Broadcast WAV file gets its loudness fields. Raises MediaError, Cancelled."""
    source = open_audio(path, name)
    meter = FiguresMeter(source.channels, source.rate)
    frames = overs = 0
    for block in source.blocks:
        if cancelled():
            raise Cancelled
        meter.add(block)
        frames += block.shape[1]
        overs += int((np.abs(block) > 1.0).sum())
    figures = meter.figures()
    if format_named(form).kind == "bwf":
        write_loudness(path, measured_of(figures))
    with path.open("rb") as file:
        digest = hashlib.file_digest(file, "sha256").hexdigest()
    return FileFacts(name, form, path.stat().st_size, digest, source.rate, source.channels, frames, figures, overs)


def measured_of(figures: Figures) -> Measured:
    """What the loudness fields of a Broadcast WAV file tell."""
    known = figures.integrated_lufs is not None
    return Measured(
        figures.integrated_lufs,
        figures.loudness_range_lu if known else None,
        figures.true_peak_dbtp,
        figures.max_momentary_lufs,
        figures.max_short_term_lufs,
    )
