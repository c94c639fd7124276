"""Stage gain: trims that bring tracks to one working level before their paths.

The level is the RMS while a track is active (blocks of 50 ms within 30 dB of its loud ones), its largest short-term loudness, or
its sample peak. -18 dBFS RMS is a usual working level (common practice, no source).
"""

from collections.abc import Callable, Iterator
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel

from saltanvil.dsp.units import SILENCE_DB, gain_to_db
from saltanvil.engine.media import Media
from saltanvil.measure.loudness import SHORT_TERM_HOPS, LoudnessMeter, energy_to_lufs, windowed
from saltanvil.session.document.session import Session, Strip

Level = Literal["rms", "short-term", "peak"]
TARGETS: dict[Level, float] = {"rms": -18.0, "short-term": -18.0, "peak": -6.0}
BLOCK_S = 0.05
#: Of a track's blocks this share is louder than its loud ones; blocks further below those than the depth are pauses.
LOUD_SHARE, ACTIVE_DEPTH_DB = 0.05, 30.0
MIN_TRIM_DB, MAX_TRIM_DB = -60.0, 24.0
READ_FRAMES = 1 << 18


class StripTrim(BaseModel):
    """level_db: of the file, in the unit that was asked for; None where there is nothing to measure. trim_db: what brings it to
    the target; it stays where there is nothing, and stops at its limits."""

    strip_id: str
    level_db: float | None
    trim_db: float


def blocks_of(media: Media, media_id: int, cancelled: Callable[[], bool]) -> Iterator[NDArray[np.float32]]:
    frames = media.frames(media_id)
    for at in range(0, frames, READ_FRAMES):
        if cancelled():
            return
        yield media.read(media_id, at, min(READ_FRAMES, frames - at))


def active_rms_db(powers: NDArray[np.float64]) -> float | None:
    """RMS over the blocks (mean squares) in which something sounds, in dBFS."""
    loud = np.quantile(powers, 1.0 - LOUD_SHARE) if len(powers) else 0.0
    if loud <= 0.0:
        return None
    active = powers[powers > loud * 10.0 ** (-ACTIVE_DEPTH_DB / 10.0)]
    return float(10.0 * np.log10(active.mean()))


def level_of(media: Media, media_id: int, rate: int, level: Level, cancelled: Callable[[], bool]) -> float | None:
    """The level of a file; of a stereo one over both sides, and the larger peak."""
    block = round(BLOCK_S * rate)
    meter = LoudnessMeter(rate, media.channels(media_id))
    peak, squares = 0.0, [np.zeros(0)]
    rest = np.zeros((media.channels(media_id), 0), np.float32)
    for part in blocks_of(media, media_id, cancelled):
        if level == "short-term":
            meter.add(part)
        elif level == "peak":
            peak = max(peak, float(np.abs(part).max(initial=0.0)))
        else:
            rest = np.concatenate([rest, part], axis=1)
            count = rest.shape[1] // block
            whole = rest[:, : count * block].astype(np.float64)
            squares.append((whole**2).mean(axis=0).reshape(count, block).mean(axis=1))
            rest = rest[:, count * block :]
    if level == "peak":
        result: float | None = gain_to_db(peak)
    elif level == "rms":
        result = active_rms_db(np.concatenate(squares))
    else:
        energies = np.asarray(meter.energies)
        result = energy_to_lufs(float(windowed(energies, SHORT_TERM_HOPS).max())) if len(energies) >= SHORT_TERM_HOPS else None
    return result if result is not None and result > SILENCE_DB + 20.0 else None


def trims(
    session: Session, media: Media, strip_ids: list[str], level: Level, target_db: float, cancelled: Callable[[], bool]
) -> list[StripTrim]:
    """The trims that bring tracks to a target. Raises NotFound."""
    result = []
    for strip in (session.strip(strip_id) for strip_id in strip_ids):
        measured = None if strip.media_id is None else level_of(media, strip.media_id, session.rate_hz, level, cancelled)
        result.append(StripTrim(strip_id=strip.id, level_db=measured, trim_db=trim_of(strip, measured, target_db)))
    return result


def trim_of(strip: Strip, measured: float | None, target_db: float) -> float:
    if measured is None:
        return strip.trim_db
    return round(min(max(target_db - measured, MIN_TRIM_DB), MAX_TRIM_DB), 1)
