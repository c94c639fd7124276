"""What leaves a strip: the end of its path, then level and pan."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

import numpy as np

from saltanvil.dsp import mix
from saltanvil.dsp.glide import glide_part
from saltanvil.dsp.units import gain_to_db
from saltanvil.engine.automation import Moving
from saltanvil.engine.nodes.base import Node, widened
from saltanvil.engine.nodes.feeds import Entry
from saltanvil.engine.nodes.gains import Gains, moves_of, place
from saltanvil.engine.nodes.step import StepNode
from saltanvil.engine.rack import Audio, DelayLine, Glide
from saltanvil.session.document.session import Strip


class EndNode(Node):
    """What leaves a strip's path."""

    def __init__(self, last: Node, entry: Node, delay_line: DelayLine) -> None:
        super().__init__([last, entry], last.latency_frames, last.channels, stored=False)
        self.delay_line, self.latency = delay_line, last.latency_frames - entry.latency_frames

    def make(self, at: int, frames: int, inputs: Sequence[Audio]) -> Audio:
        entered = widened(inputs[1], self.channels)
        if self.scope_monitor is None:
            self.delay_line.remember(entered, self.latency)
            return inputs[0]
        return self.scope_monitor.compare(self.delay_line(entered, self.latency), inputs[0], self.latency_frames)


class OutNode(Node):
    """A strip's output: its level and pan, to stereo."""

    def __init__(self, end: Node, gains: Gains, fader: Glide, rate: int, moving: Moving[Gains] | None = None) -> None:
        super().__init__([end], end.latency_frames, 2)
        self.gains, self.fader, self.rate, self.moving = gains, fader, rate, moving

    def make(self, at: int, frames: int, inputs: Sequence[Audio]) -> Audio:
        y = np.empty((2, frames), np.float32)
        place(inputs[0], y, self.gains, self.moving, at, glide_part(self.rate), self.fader)
        return y

    def cache_key(self) -> tuple[object, ...]:
        return self.gains, moves_of(self.moving)


@dataclass
class StripNode:
    """One strip at work."""

    strip: Strip
    entry: Entry
    end: EndNode
    out: OutNode
    steps: list[StepNode] = field(default_factory=list)

    @property
    def latency(self) -> int:
        return self.end.latency_frames

    @property
    def output(self) -> Audio:
        """The last block, (2, frames)."""
        return self.out.out

    @property
    def gains(self) -> Gains:
        return self.out.gains

    def walk(self) -> Iterator[StepNode]:
        """Every step, those in lanes too."""
        for step in self.steps:
            yield from step.walk()

    def levels_db(self) -> tuple[float, float]:
        """Sample peaks of the last block as it enters the path and as it leaves the strip, in dBFS."""
        return gain_to_db(float(mix.peak(self.entry.out))), gain_to_db(float(mix.peak(self.output)))
