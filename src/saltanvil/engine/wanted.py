"""What is to be heard, as one record: from the socket over the sound process to the stream."""

from dataclasses import dataclass, field, replace
from typing import Any

from saltanvil.engine.audition import Audition
from saltanvil.engine.monitor import MonitorName
from saltanvil.engine.time import ceil_tick, floor_tick
from saltanvil.session.document.session import Session

#: The shortest passage.
MIN_PASSAGE_S = 0.05


@dataclass(frozen=True)
class Passage:
    """Frames start..stop, whole ticks; looped or played once."""

    start: int = 0
    stop: int = 1 << 62
    loop: bool = False

    @classmethod
    def of_seconds(cls, start_s: float, end_s: float, loop: bool, rate_hz: int) -> "Passage":
        """Bounds are moved outwards to whole ticks; it is at least `MIN_PASSAGE_S` long."""
        start = floor_tick(max(0, round(start_s * rate_hz)))
        return cls(start, max(ceil_tick(round(end_s * rate_hz)), start + ceil_tick(round(MIN_PASSAGE_S * rate_hz))), loop)


@dataclass(frozen=True, eq=False)
class Wanted:
    """What is to be played, all of it changed without a click."""

    session: Session
    audition: Audition = field(default_factory=Audition)
    passage: Passage = field(default_factory=Passage)
    monitor: MonitorName = "full range"

    def changed(self, **changes: Any) -> "Wanted":
        """With other values, by the names of its own fields and of its audition's. Raises TypeError for other names."""
        own = {name: changes.pop(name) for name in ("session", "audition", "passage", "monitor") if name in changes}
        result = replace(self, **own)
        return replace(result, audition=replace(result.audition, **changes)) if changes else result

    def same(self, other: "Wanted") -> bool:
        """Documents are compared by identity: each edit makes another."""
        return (
            self.session is other.session
            and self.audition == other.audition
            and self.passage == other.passage
            and self.monitor == other.monitor
        )
