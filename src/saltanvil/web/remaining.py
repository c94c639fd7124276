"""How long work will still take, from the speed it was seen to have."""

import threading
import time
from collections.abc import Callable
from dataclasses import dataclass

#: An estimate is rough until so much of the work is done, and until it was watched for so long.
ROUGH_FRACTION, ROUGH_S = 0.25, 4.0
#: Before this nothing can be said.
LEAST_FRACTION, LEAST_S = 0.01, 0.5
#: Times that are remembered; the further apart, the longer the work takes.
REMEMBERED = 64


@dataclass(frozen=True)
class TimeLeft:
    """seconds: None until it can be told; rough: from the beginning alone, which may not be like the rest."""

    seconds: float | None
    rough: bool


class Remaining:
    """Progress of one piece of work. Its speed is that of the later half of the time since it began: what was loaded or compiled
    first does not count for ever, and a machine that became busy is noticed."""

    def __init__(self, clock: Callable[[], float] = time.monotonic) -> None:
        self.fraction = 0.0
        self._clock = clock
        self._lock = threading.Lock()
        self._began = clock()
        self._seen: list[tuple[float, float]] = [(self._began, 0.0)]

    def begin(self) -> None:
        """It begins now and not when it was asked for."""
        with self._lock:
            self._began = self._clock()
            self._seen = [(self._began, self.fraction)]

    def add(self, fraction: float) -> None:
        """How much is done, from 0 to 1."""
        with self._lock:
            now = self._clock()
            self.fraction = fraction
            last_s, _ = self._seen[-1]
            if now - last_s >= (now - self._began) / REMEMBERED:
                self._seen.append((now, fraction))
                half = (now + self._began) / 2.0
                while len(self._seen) > 2 and self._seen[1][0] <= half:
                    del self._seen[0]

    def left(self) -> TimeLeft:
        with self._lock:
            now, (then, before) = self._clock(), self._seen[0]
            spent, done = now - self._began, self.fraction - before
            if done <= 0.0 or self.fraction < LEAST_FRACTION or spent < LEAST_S:
                return TimeLeft(None, True)
            seconds = (1.0 - self.fraction) * (now - then) / done
            return TimeLeft(seconds, self.fraction < ROUGH_FRACTION or spent < ROUGH_S)
