"""Sections proposed from changes of loudness: the bars of the main, cut where their level steps.

The best cuts of the bars' loudness into stretches of nearly one level, each cut costing a penalty, by dynamic programming
(optimal partitioning: Jackson et al., "An Algorithm for Optimal Partitioning of Data on an Interval", IEEE Signal Processing
Letters 12(2), 2005, from memory).
"""

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from saltanvil.engine.media import Media
from saltanvil.engine.render import render_strips
from saltanvil.engine.time import session_frames
from saltanvil.measure.loudness import LoudnessMeter, energy_to_lufs
from saltanvil.session.document.base import MAIN_ID
from saltanvil.session.document.session import Section, Session
from saltanvil.studies.match.match import with_current_matches

#: A cut must explain so much of the squared difference, in LU squared.
PENALTY = 12.0
MIN_BARS = 2
#: Parts whose levels are no further apart have the same letter.
ALIKE_LU = 1.5
QUIETEST_LUFS = -60.0
#: The meter keeps an energy for each so many seconds.
HOP_S = 0.01


def proposed(session: Session, media: Media, cancelled: Callable[[], bool]) -> list[Section]:
    """Sections from the loudness of the main, bar by bar. Raises Cancelled."""
    frames = session_frames(session, media)
    length_s = frames / session.rate_hz
    meter = LoudnessMeter(session.rate_hz, 2)
    for block in render_strips(with_current_matches(session, media, cancelled), media, 0, frames, [MAIN_ID], cancelled):
        meter.add(block[MAIN_ID])
    hops = np.asarray(meter.energies)
    bar_s = 60.0 / session.tempo_bpm * session.beats_in_bar
    first_s = session.bar_one_s % bar_s
    count = int((length_s - first_s) / bar_s + 0.5)
    edges = np.clip(np.round((first_s + bar_s * np.arange(count + 1)) / HOP_S).astype(int), 0, len(hops))
    levels = [energy_to_lufs(float(hops[a:b].mean())) if b > a else QUIETEST_LUFS for a, b in zip(edges, edges[1:], strict=False)]
    return parts(np.array(levels), bar_s, first_s, length_s)


def cuts(levels: NDArray[np.float64], penalty: float = PENALTY, least: int = MIN_BARS) -> list[int]:
    """Places where a new part begins, the first of them 0. levels: loudness of each bar in LUFS."""
    count = len(levels)
    sums = np.concatenate([[0.0], np.cumsum(levels)])
    squares = np.concatenate([[0.0], np.cumsum(levels**2)])
    best = np.full(count + 1, np.inf)
    best[0] = -penalty
    came = np.zeros(count + 1, np.int64)
    for end in range(1, count + 1):
        starts = np.arange(0, max(1, end - least + 1))
        length = end - starts
        spread = squares[end] - squares[starts] - (sums[end] - sums[starts]) ** 2 / length
        costs = best[starts] + spread + penalty
        at = int(np.argmin(costs))
        best[end], came[end] = costs[at], starts[at]
    result, end = [], count
    while end > 0:
        end = int(came[end])
        result.append(end)
    return result[::-1]


def parts(levels: NDArray[np.float64], bar_s: float, first_s: float, end_s: float) -> list[Section]:
    """Sections over bars of bar_s seconds from first_s on: `Part A`, `Part B` ..., alike where they are equally loud."""
    if not len(levels):
        return []
    levels = np.maximum(levels, QUIETEST_LUFS)
    places = [*cuts(levels), len(levels)]
    known: list[float] = []
    result = []
    for start, stop in zip(places, places[1:], strict=False):
        level = float(levels[start:stop].mean())
        alike = next((n for n, other in enumerate(known) if abs(other - level) <= ALIKE_LU), len(known))
        if alike == len(known):
            known.append(level)
        begins, ends = first_s + start * bar_s, min(first_s + stop * bar_s, end_s)
        if ends > begins:
            result.append(Section(name=f"Part {letter(alike)}", start_s=begins, end_s=ends))
    return result


def letter(number: int) -> str:
    return chr(ord("A") + number) if number < 26 else str(number + 1)
