"""The points of a plan at work: each makes its block from the blocks of its sources.

Which points there are and what each is made of is said by `saltanvil.session.graph`; how late each is, by
`saltanvil.engine.latency`.
"""

from collections.abc import Mapping, Sequence

import numpy as np

from saltanvil.engine.audition import ScopeMonitor
from saltanvil.engine.rack import Audio
from saltanvil.processors.base import Context

NOTHING: Audio = np.zeros((2, 0), np.float32)


class Node:
    """A point at work.

    sources: what it is made of; latency_frames: how late it is; stored: whether its sound is worth keeping, or quickly made
    from its source again; scope_monitor: set at the scope, if someone listens; out: its last block.
    """

    scope_monitor: ScopeMonitor | None = None

    def __init__(self, sources: Sequence["Node"], latency_frames: int, channels: int, stored: bool = True) -> None:
        self.sources = list(sources)
        self.stored = stored
        self.latency_frames = latency_frames
        self.channels = channels
        self.out: Audio = NOTHING

    def make(self, at: int, frames: int, inputs: Sequence[Audio]) -> Audio:
        """The block of `frames` from session frame `at` on, from the blocks of the sources. Blocks follow each other."""
        return inputs[0]

    def cache_key(self) -> tuple[object, ...]:
        """All that determines its sound besides its sources."""
        return ()

    def carry_on(self, context: Context, replaced: Mapping[int, "Node"]) -> None:
        """Take a part in another plan, or in the same after its states were gone back to. replaced: nodes that stand for others
        there, by the identity of those."""
        self.scope_monitor = None
        self.sources = [replaced.get(id(source), source) for source in self.sources]

    def run(self, at: int, frames: int) -> None:
        self.out = self.make(at, frames, [source.out for source in self.sources])


def widened(x: Audio, channels: int) -> Audio:
    """A mono sound on both sides, where stereo is wanted."""
    return x if len(x) == channels else np.repeat(x, channels, axis=0)
