"""How late each point of a session is, and why; worked out from settings alone, before anything runs."""

from collections.abc import Mapping
from dataclasses import dataclass

from saltanvil.processors import Settings, processor_named
from saltanvil.session.automation import Automation
from saltanvil.session.graph import Graph, NodeId
from saltanvil.session.settings import resolve


class Latencies:
    """In frames, for every point of a session.

    latency_frames: how late the sound is there; own: what each step adds. listening: as heard in the page, where the
    session's low latency counts; low_latency: as if that were chosen.
    """

    def __init__(
        self, graph: Graph, listening: bool = True, low_latency: bool = False, settings: Mapping[str, Settings] | None = None
    ) -> None:
        """settings: those the steps run with so, by their ids, if they are at hand."""
        self.graph = graph
        self.latency_frames: dict[NodeId, int] = {}
        self.own: dict[str, int] = {}
        session = graph.session.model_copy(update={"low_latency": True}) if low_latency else graph.session
        automation = Automation(session)
        for step_id, step in graph.steps.items():
            if step_id == step.id:
                kind = processor_named(step.kind)
                own = settings[step_id] if settings is not None else resolve(session, step, listening, automation=automation)
                self.own[step_id] = kind.latency_of(own, session.rate_hz)
        for point in graph.order:
            latest = max(
                (self.latency_frames[source] for source, way in graph.sources[point] if sums(graph, source, way)), default=0
            )
            if point.kind == "divided" or (point.kind == "step" and not graph.steps[point.id].lanes):
                latest += self.own[point.id]
            elif point.kind == "step":  # lanes in the sum wait for each other, those sent to buses do not
                for lane in graph.steps[point.id].lanes:
                    if lane.output is None:
                        self.latency_frames[NodeId("placed", lane.id)] = latest
            self.latency_frames[point] = latest

    def wait(self, point: NodeId) -> int:
        """Frames by which a step's sound waits for its key."""
        sound = self.latency_frames[self.graph.sources[point][0].source]
        return self.latency_frames[point] - self.own[point.id] - sound

    def scope(self, strip_id: str, step_id: str | None, lane_id: str | None) -> int:
        """What a step, a lane or a strip's path adds."""
        if step_id is not None:
            node = NodeId("step", step_id)
            return self.latency_frames[node] - self.latency_frames[self.graph.enters[step_id]]
        if lane_id is not None:
            return self.latency_frames[NodeId("lane", lane_id)] - self.latency_frames[NodeId("enter", lane_id)]
        return self.path(strip_id)

    def path(self, strip_id: str) -> int:
        """What a strip's path adds."""
        return self.latency_frames[NodeId("end", strip_id)] - self.latency_frames[NodeId("in", strip_id)]

    def causes(self, strip_id: str) -> list["Cause"]:
        """What makes a strip's sound as late as it is: the steps on the way of the latest sound, from its source on."""
        result: list[Cause] = []
        at = NodeId("end", strip_id)
        while edges := self.graph.sources[at]:
            if at.kind == "placed":  # it waits for the latest lane of the sum, if it is not sent to a bus
                lanes = self.graph.steps[at.id].lanes
                own = next(lane for lane in lanes if lane.id == at.id)
                beside = [NodeId("lane", lane.id) for lane in lanes if lane.output is None] if own.output is None else []
                at = max(beside or [NodeId("lane", at.id)], key=lambda lane: self.latency_frames[lane])
                continue
            # A split's lanes say more than the wait of its input for them.
            source = max(
                (edge for edge in edges if sums(self.graph, *edge)),
                key=lambda edge: (self.latency_frames[edge.source], edge.source.kind in ("placed", "lane")),
            )
            if at.kind in ("step", "divided") and self.own[at.id] and (at.kind == "divided" or not self.graph.steps[at.id].lanes):
                strip = self.graph.strip_of[at]
                result.append(Cause(strip.id, at.id, f"{strip.name}: {self.graph.label(at.id)}", self.own[at.id]))
            at = source.source
        return result[::-1]


def sums(graph: Graph, source: NodeId, way: str) -> bool:
    """Whether a point has to wait for that source: a split does not for a lane that goes to a bus."""
    if source.kind != "placed" or way != "path":
        return True
    return next(lane.output is None for lane in graph.steps[source.id].lanes if lane.id == source.id)


@dataclass(frozen=True)
class Cause:
    """A step that makes what comes after it late."""

    strip_id: str
    step_id: str
    name: str
    frames: int
