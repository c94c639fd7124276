"""Hits in a passage: where they begin, and what a gain made of them."""

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.kernel import TICK_FRAMES

Audio = NDArray[np.float32]
#: A rise of the peak level by this within the time makes a hit, if it is not this far below the loudest.
RISE_DB, RISE_S, GAP_S, BELOW_LOUDEST_DB = 9.0, 0.02, 0.08, 24.0
MIN_HITS = 4


def hits_of(x: Audio, rate: int) -> list[int]:
    """The ticks at which hits begin: a rise of the peak level by 9 dB within 20 ms, at least 80 ms after the last."""
    ticks = x.shape[1] // TICK_FRAMES
    if ticks < 16:
        return []
    peaks = np.abs(x[:, : ticks * TICK_FRAMES]).reshape(x.shape[0], ticks, TICK_FRAMES).max(axis=(0, 2))
    level = 20.0 * np.log10(np.maximum(peaks, 1e-6))
    span = max(1, round(RISE_S * rate / TICK_FRAMES))
    rise = level[span:] - level[:-span]
    gap = round(GAP_S * rate / TICK_FRAMES)
    hits: list[int] = []
    for at in np.flatnonzero((rise > RISE_DB) & (level[span:] > level.max() - BELOW_LOUDEST_DB)):
        if not hits or at - hits[-1] > gap:
            hits.append(int(at))
    return hits


def hits_begun_late(before: Audio, after: Audio, rate: int) -> tuple[int, int, float] | None:
    """(hits whose first 10 ms lose over 3 dB of peak, all hits, median loss of those), if that is most of at least 4.

    Hits that are shut out from end to end are not counted.
    """
    lost, total = [], 0
    first, rest = round(0.01 * rate), round(0.05 * rate)
    for tick in hits_of(before, rate):
        # The rise was seen over 20 ms; the hit begins where the sound first comes near what it rises to.
        rising = np.abs(before[:, tick * TICK_FRAMES : tick * TICK_FRAMES + 3 * first]).max(axis=0)
        at = tick * TICK_FRAMES + int((rising > 0.25 * rising.max()).argmax())
        entering, leaving = before[:, at : at + rest], after[:, at : at + rest]
        if entering.shape[1] < rest or np.abs(leaving).max() < 0.1 * np.abs(entering).max():
            continue
        total += 1
        loss = 20.0 * np.log10(np.abs(entering[:, :first]).max() / max(float(np.abs(leaving[:, :first]).max()), 1e-6))
        if loss > 3.0:
            lost.append(float(loss))
    if total < MIN_HITS or len(lost) * 2 < total:
        return None
    return len(lost), total, float(np.median(lost))


def hits_not_released(before: Audio, reduction_db: NDArray[np.float32], rate: int) -> tuple[int, int, float] | None:
    """(hits met with over 1 dB of reduction, all hits, median reduction then), if that is most of at least 4 hits."""
    ticks = min(len(reduction_db), before.shape[1] // TICK_FRAMES)
    hits = [at for at in hits_of(before, rate) if at < ticks]
    met = [float(reduction_db[at]) for at in hits if reduction_db[at] > 1.0]
    if len(hits) < MIN_HITS or len(met) * 2 < len(hits):
        return None
    return len(met), len(hits), float(np.median(met))
