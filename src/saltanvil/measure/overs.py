"""Where a sound is over a level: its samples, and what a converter makes between them."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.true_peak import TRUE_PEAK_HISTORY, TRUE_PEAK_LATE, true_peak, true_peak_filters
from saltanvil.dsp.units import db_to_gain, gain_to_db

Audio = NDArray[np.float32]
#: So finely it is looked at, and overs no further apart than the second are one.
HOP_S, APART_S = 0.01, 0.1
#: No interpolation of samples comes out this much above the loudest of them.
MAX_RISE_DB = 12.0
#: So many places are kept, the loudest of them.
MAX_PLACES = 500


@dataclass(frozen=True)
class Over:
    """at_s: where the peak is, to 10 ms; true_peak_dbtp: how high."""

    at_s: float
    true_peak_dbtp: float


class OverMeter:
    """Overs of a sound that comes in blocks of any length, (channels, frames), with silence before and after it.

    sample_overs: how many samples lie above full scale; over_samples: above the level. Places are where the true peak
    (BS.1770-5, Annex 2) is above the level.
    """

    def __init__(self, channels: int, rate: int, limit_db: float) -> None:
        self.sample_overs = 0
        self._limit = db_to_gain(limit_db)
        self._possible = self._limit / db_to_gain(MAX_RISE_DB)
        self._rate, self._hop = rate, round(HOP_S * rate)
        self._filters = true_peak_filters()
        self._held = np.zeros((channels, TRUE_PEAK_HISTORY), np.float32)
        #: The frame that the end of what is held, less the history, stands for.
        self._at = -(TRUE_PEAK_LATE + 1)
        self._places: list[Over] = []

    def add(self, x: Audio) -> None:
        self.sample_overs += int((np.abs(x) > 1.0).sum())
        joined = np.concatenate([self._held, x], axis=1)
        ready = (joined.shape[1] - TRUE_PEAK_HISTORY) // self._hop
        for _ in range(ready):
            self._look(joined[:, : TRUE_PEAK_HISTORY + self._hop])
            joined = joined[:, self._hop :]
        self._held = np.ascontiguousarray(joined)

    def _look(self, seen: Audio) -> None:
        frames = seen.shape[1] - TRUE_PEAK_HISTORY
        if float(np.abs(seen).max()) > self._possible:
            highest = max(float(true_peak(np.ascontiguousarray(channel), self._filters)) for channel in seen)
            if highest > self._limit:
                self._note(Over(max(self._at + frames / 2, 0.0) / self._rate, gain_to_db(highest)))
        self._at += frames

    def _note(self, over: Over) -> None:
        last = self._places[-1] if self._places else None
        if last is None or over.at_s - last.at_s > APART_S:
            self._places.append(over)
        elif over.true_peak_dbtp > last.true_peak_dbtp:
            self._places[-1] = over

    def places(self) -> tuple[list[Over], int]:
        """The loudest in order of time, and how many there are. Of all that was added."""
        rest = np.concatenate([self._held, np.zeros_like(self._held[:, :TRUE_PEAK_HISTORY])], axis=1)
        if rest.shape[1] > TRUE_PEAK_HISTORY:
            self._look(rest)
        self._held = np.zeros_like(self._held[:, :TRUE_PEAK_HISTORY])
        loudest = sorted(self._places, key=lambda over: -over.true_peak_dbtp)[:MAX_PLACES]
        return sorted(loudest, key=lambda over: over.at_s), len(self._places)
