"""A session compiled to points in the order they can be made, with every sound and every key aligned to the sample.

        track:  media --> trim --> step ... step --> level, pan --+
        track:  media --> trim --> step ... step --> level, pan --+--(delays)--> bus: trim --> steps --> level --> main
                                    |   ^            |            |
                                    |   key          +-- a send --+
                                    +------- a lane sent to a bus-+

Every step declares its latency; strips that meet, lanes and keys are delayed to the latest. A bypassed step is a delay
of its latency.
"""

import weakref
from collections.abc import Callable, Iterator
from concurrent.futures import Executor
from dataclasses import dataclass, field

from saltanvil.engine.audition import Audition, ScopeMonitor
from saltanvil.engine.media import Media
from saltanvil.engine.nodes.base import NOTHING, Node
from saltanvil.engine.nodes.step import StepNode
from saltanvil.engine.nodes.strip import OutNode, StripNode
from saltanvil.engine.rack import Audio, Key, Rack
from saltanvil.engine.run_graph import run_graph
from saltanvil.processors.base import Settings
from saltanvil.session.document.base import MAIN_ID
from saltanvil.session.document.path import Step
from saltanvil.session.document.session import Session
from saltanvil.session.graph import Graph, NodeId
from saltanvil.session.linear_gain import linear_gain
from saltanvil.session.settings import resolve


@dataclass(frozen=True)
class StoreLink:
    """Where in the render store a node's sound is read from instead of being made, or written to besides."""

    read: Callable[[int, int], Audio] | None = None
    write: Callable[[int, Audio], None] | None = None


def forget(node: Node) -> None:
    """Drop a block that nothing needs any more; what leaves the strips stays."""
    if not isinstance(node, OutNode):
        node.out = NOTHING


@dataclass
class Plan:
    """The compiled session. Blocks start on ticks and are whole ticks long.

    order: the points, each after its sources; strips: those that are made, in that order.
    """

    session: Session
    media: Media
    rack: Rack
    audition: Audition
    graph: Graph
    nodes: dict[NodeId, Node]
    strips: dict[str, StripNode]
    tap: list[Audio]
    #: The session's frame at which the present block begins.
    at: int = 0
    #: The names of the states that each point has, in their order.
    used: dict[NodeId, tuple[Key, ...]] = field(default_factory=dict)
    #: What the render store reads or keeps, by the identity of the node.
    store_links: dict[int, StoreLink] = field(default_factory=dict)

    @property
    def latency_frames(self) -> int:
        return self.strips[MAIN_ID].latency

    def node(self, strip_id: str) -> StripNode:
        return self.strips[strip_id]

    def walk(self) -> Iterator[StepNode]:
        """Every step that is at work."""
        for strip in self.strips.values():
            yield from strip.walk()

    def run(self, start: int, frames: int, pool: Executor | None = None, spent: Callable[[Node], None] = forget) -> None:
        """Make the next block of every node; spent: called for a node when all that is made of it is done."""
        self.rack.clock.advance(start, frames)
        self.at = start

        def run(node: Node) -> None:
            link = self.store_links.get(id(node))
            if link is not None and link.read is not None:
                node.out = link.read(start, frames)
                return
            node.run(start, frames)
            if link is not None and link.write is not None:
                link.write(start, node.out)

        if pool is None:
            for node in self.nodes.values():
                run(node)
        else:
            run_graph(list(self.nodes.values()), run, pool, spent)

    def render(self, start: int, frames: int, pool: Executor | None = None) -> Audio:
        """The next block for the listener, (2, frames), `latency_frames` late. Blocks must follow each other."""
        self.tap.clear()
        self.run(start, frames, pool)
        return self.tap[0] if self.tap else self.strips[MAIN_ID].output

    def hear(self) -> None:
        """Let the scope's point know who listens."""
        scope = self.audition.scope
        at = (
            NodeId("step", scope.step_id)
            if scope.step_id is not None
            else NodeId("placed", scope.lane_id)
            if scope.lane_id is not None
            else NodeId("end", scope.strip_id)
        )
        if at in self.nodes and scope.strip_id in self.strips and MAIN_ID in self.strips:
            plan = weakref.proxy(self)  # or its point would hold it
            self.nodes[at].scope_monitor = ScopeMonitor(
                self.audition,
                self.rack,
                self.session.rate_hz,
                lambda sound, latency_frames: plan._alone(scope.strip_id, sound, latency_frames),
                lambda: plan.linear_gain(),
            )

    def linear_gain(self) -> float:
        """Of what the scope leaves alone, with the settings that its steps run with now."""

        def settings_of(step: Step) -> Settings:
            node = self.nodes.get(NodeId("step", step.id))
            return node.processor.configured[0] if isinstance(node, StepNode) else resolve(self.session, step)

        scope = self.audition.scope
        return linear_gain(self.session, scope.strip_id, scope.step_id, scope.lane_id, settings_of)

    def _alone(self, strip_id: str, x: Audio, latency_frames: int) -> None:
        """Straight to the ear, at the strip's level and pan, in time with everything else."""
        strip = self.strips[strip_id]
        moving = None if strip.out.moving is None else strip.out.moving.later(latency_frames)
        out = OutNode(strip.end, strip.gains, self.rack.glide("difference"), self.session.rate_hz, moving)
        y = out.make(self.at, x.shape[1], [x])
        self.tap.append(self.rack.delay_line(2, "difference")(y, self.latency_frames - latency_frames))
