"""Delivery check: what is left of a master once it was converted, rounded or encoded, and decoded again.

master --> sample rate --> dither or encoder --> file --> decoder --> aligned --> overs, true peak, loudness
"""

import math
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from threading import Lock

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, Field

from saltanvil.engine.render import Cancelled
from saltanvil.measure.figures import Figures, FiguresMeter
from saltanvil.measure.loudness import TruePeakMeter
from saltanvil.measure.overs import Over, OverMeter
from saltanvil.media.convert import converted
from saltanvil.media.decode import open_audio
from saltanvil.media.encode import Writing, write_audio
from saltanvil.media.formats import format_named
from saltanvil.media.recording import Recording, recorded

Audio = NDArray[np.float32]
#: Encoders that work side by side.
THREADS = 2
#: How far a decoder is looked for early or late, and over what stretch, the loudest.
MAX_OFFSET_FRAMES, ALIGNED_FRAMES = 4096, 1 << 15
#: Places of overs in an answer.
MAX_PLACES = 200


class OverPlace(BaseModel):
    """at_s: in the session."""

    at_s: float
    true_peak_dbtp: float


class CheckedFormat(BaseModel):
    """What one format makes of the master.

    rise_db: of the true peak; loudness_lu: by how much it is louder; sample_overs: samples above full scale; clipped: samples
    that did not fit into whole numbers; overs: where the true peak is above what is wanted, the loudest of them, and over_count
    how many there are; offset_frames: by how much the decoder was late, at the session's rate, which is taken off.
    """

    format: str
    label: str
    rate_hz: int
    bytes: int
    bit_rate_kbps: float
    figures: Figures
    rise_db: float
    loudness_lu: float | None
    sample_overs: int
    clipped: int
    overs: list[OverPlace]
    over_count: int
    offset_frames: int


class DeliveryCheck(BaseModel):
    """A delivery check. start_s: where the master begins in the session; true_peak_dbtp: what is wanted of it; master: the float
    render."""

    strip_id: str
    strip_name: str
    start_s: float
    length_s: float
    rate_hz: int
    true_peak_dbtp: float
    master: Figures
    master_overs: list[OverPlace]
    master_over_count: int
    formats: list[CheckedFormat] = Field(default_factory=list)


@dataclass(frozen=True)
class Decoded:
    """A format's check, and the sound that its decoder gives back, at the session's rate and in time with the master."""

    checked: CheckedFormat
    sound: Recording

    def read(self, start: int, frames: int) -> Audio:
        return self.sound.read(start + self.checked.offset_frames, frames)


def interruptible(blocks: Iterable[Audio], cancelled: Callable[[], bool]) -> Iterator[Audio]:
    for block in blocks:
        if cancelled():
            raise Cancelled
        yield block


def places_of(overs: Sequence[Over], start_s: float) -> list[OverPlace]:
    loudest = sorted(overs, key=lambda over: -over.true_peak_dbtp)[:MAX_PLACES]
    return [
        OverPlace(at_s=round(start_s + over.at_s, 3), true_peak_dbtp=round(over.true_peak_dbtp, 3))
        for over in sorted(loudest, key=lambda over: over.at_s)
    ]


def measured_master(master: Recording, strip_id: str, strip_name: str, start_s: float, true_peak_dbtp: float) -> DeliveryCheck:
    """A check without formats yet."""
    meter, overs = FiguresMeter(master.channels, master.rate), OverMeter(master.channels, master.rate, true_peak_dbtp)
    for block in master.blocks():
        meter.add(block)
        overs.add(block)
    places, count = overs.places()
    return DeliveryCheck(
        strip_id=strip_id, strip_name=strip_name, start_s=start_s, length_s=master.frames / master.rate, rate_hz=master.rate,
        true_peak_dbtp=true_peak_dbtp, master=meter.figures(), master_overs=places_of(places, start_s), master_over_count=count,
    )  # fmt: skip


def encoded(
    master: Recording,
    writing: Writing,
    folder: Path,
    seed: str,
    gain: float,
    cancelled: Callable[[], bool],
    progress: Callable[[float], None] = lambda seconds: None,
) -> tuple[Path, int]:
    """A master in a format, as a file of the folder, and how many samples were clipped. Raises OSError, Cancelled."""
    path = folder / f"{writing.format}{format_named(writing.format).suffix}"

    def with_progress() -> Iterator[Audio]:
        for block in interruptible(master.blocks(gain), cancelled):
            yield block
            progress(block.shape[1] / master.rate)

    try:
        blocks = with_progress()
        written = write_audio(path, blocks, master.rate, master.channels, writing, master.frames, seed)
    except BaseException:
        path.unlink(missing_ok=True)
        raise
    return path, written.clipped


def check_format(
    master: Recording,
    checked: DeliveryCheck,
    writing: Writing,
    folder: Path,
    cancelled: Callable[[], bool] = lambda: False,
    progress: Callable[[float], None] = lambda seconds: None,
) -> Decoded:
    """One format. The folder keeps what was decoded, and the file goes again. progress: as that of `true_peaks`. Raises OSError,
    Cancelled."""
    form = format_named(writing.format)
    path, clipped = encoded(master, writing, folder, checked.strip_id, 1.0, cancelled, progress)
    try:
        source = open_audio(path, form.label)
        meter = FiguresMeter(source.channels, source.rate)
        overs = OverMeter(source.channels, source.rate, checked.true_peak_dbtp)

        def seen() -> Iterator[Audio]:
            for block in interruptible(source.blocks, cancelled):
                meter.add(block)
                overs.add(block)
                yield block
                progress(block.shape[1] / source.rate)

        kept = folder / f"{writing.format}.decoded"
        sound = recorded(kept, converted(seen(), source.rate, master.rate, source.channels), master.rate, source.channels)
        size = path.stat().st_size
    finally:
        path.unlink(missing_ok=True)
    figures = meter.figures()
    offset = offset_of(master, sound)
    places, count = overs.places()
    before, after = checked.master.integrated_lufs, figures.integrated_lufs
    return Decoded(
        CheckedFormat(
            format=form.name, label=form.label, rate_hz=source.rate, bytes=size,
            bit_rate_kbps=round(8.0 * size / 1000.0 / max(checked.length_s, 1e-9), 1), figures=figures,
            rise_db=figures.true_peak_dbtp - checked.master.true_peak_dbtp,
            loudness_lu=None if before is None or after is None else after - before, sample_overs=overs.sample_overs,
            clipped=clipped, overs=places_of(places, checked.start_s - offset / master.rate), over_count=count,
            offset_frames=offset,
        ),
        sound,
    )  # fmt: skip


def check_formats(
    master: Recording,
    checked: DeliveryCheck,
    writings: Sequence[Writing],
    folder: Path,
    progress: Callable[[float], None] = lambda share: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> list[Decoded]:
    """Several formats side by side, in their order. Raises OSError, Cancelled."""
    done_s, lock = 0.0, Lock()
    whole_s = max(2.0 * len(writings) * master.frames / master.rate, 1e-9)

    def advance(seconds: float) -> None:
        nonlocal done_s
        with lock:
            done_s += seconds
            progress(min(done_s / whole_s, 1.0))

    def one(writing: Writing) -> Decoded:
        return check_format(master, checked, writing, folder, cancelled, advance)

    with ThreadPoolExecutor(THREADS) as pool:
        return list(pool.map(one, writings))


def true_peaks(
    master: Recording,
    writings: Sequence[Writing],
    folder: Path,
    gain_db: float = 0.0,
    cancelled: Callable[[], bool] = lambda: False,
    progress: Callable[[float], None] = lambda seconds: None,
) -> dict[str, float]:
    """The true peak in dBTP that each format makes of the master at a gain. progress: is told of every stretch, in seconds, that
    was encoded or decoded, from several threads. Raises OSError, Cancelled."""
    gain = 10.0 ** (gain_db / 20.0)

    def one(writing: Writing) -> float:
        path, _ = encoded(master, writing, folder, "main", gain, cancelled, progress)
        try:
            source = open_audio(path, writing.format)
            meter = TruePeakMeter(source.channels)
            for block in interruptible(source.blocks, cancelled):
                meter.add(block)
                progress(block.shape[1] / source.rate)
            return meter.read_dbtp()
        finally:
            path.unlink(missing_ok=True)

    with ThreadPoolExecutor(THREADS) as pool:
        return dict(zip([writing.format for writing in writings], pool.map(one, writings), strict=True))


def offset_of(master: Recording, sound: Recording) -> int:
    """By how many frames a decoded sound is late, by correlation over the master's loudest stretch; 0 for silence."""
    loudest, best = 0, -1.0
    for at in range(0, max(master.frames - ALIGNED_FRAMES, 1), ALIGNED_FRAMES):
        power = float(np.square(master.read(at, ALIGNED_FRAMES)).sum())
        if power > best:
            loudest, best = at, power
    one = master.read(loudest, ALIGNED_FRAMES).astype(np.float64).sum(axis=0)
    other = sound.read(loudest - MAX_OFFSET_FRAMES, ALIGNED_FRAMES + 2 * MAX_OFFSET_FRAMES).astype(np.float64).sum(axis=0)
    size = 1 << math.ceil(math.log2(len(one) + len(other)))
    product = np.fft.rfft(other, size) * np.conj(np.fft.rfft(one, size))
    correlation = np.fft.irfft(product, size)[: 2 * MAX_OFFSET_FRAMES + 1]
    if not np.any(correlation > 0.0):
        return 0
    return int(np.argmax(correlation)) - MAX_OFFSET_FRAMES
