"""What the detector of a step can listen to, by strip, in words; and why not, where it would hear itself."""

from collections import Counter
from collections.abc import Iterator
from typing import Literal

from pydantic import BaseModel

from saltanvil.processors import processor_named
from saltanvil.session.document.path import Key, Path
from saltanvil.session.document.session import Session, Strip
from saltanvil.session.graph import Graph, NodeId


class KeySource(BaseModel):
    """refused: why it cannot be the key; null if it can."""

    key: Key
    label: str
    refused: str | None


class KeyGroup(BaseModel):
    """What can be taken from one strip. own: the strip whose step listens."""

    strip_id: str
    name: str
    kind: Literal["track", "bus", "main"]
    own: bool
    sources: list[KeySource]


def key_groups(session: Session, step_id: str) -> list[KeyGroup]:
    """The sources of a step's key: its own strip first, then the tracks, the buses and the main. Raises NotFound."""
    own, step = session.step(step_id).strip, session.step(step_id).step
    graph = Graph(session)
    fed = fed_by(graph, NodeId("step", step_id))
    label = processor_named(step.kind).label.lower()
    refusal = f"a loop: the {label} feeds it"

    def source(key: Key, words: str) -> KeySource:
        return KeySource(key=key, label=words, refused=refusal if graph.heard_at(own, key) in fed else None)

    def group(strip: Strip) -> KeyGroup:
        name = None if strip is own else strip.id
        ends = [(Key(strip_id=name, at="before"), "before its path"), (Key(strip_id=name, at="after"), "after its path")]
        sources = [source(key, words) for key, words in [*ends, *inside(strip.path)]]
        return KeyGroup(strip_id=strip.id, name=strip.name, kind=strip.kind, own=strip is own, sources=sources)

    order = {"track": 0, "bus": 1, "main": 2}
    others = sorted((strip for strip in session.strips if strip is not own), key=lambda strip: order[strip.kind])
    return [group(own), *(group(strip) for strip in others)]


def inside(path: Path) -> Iterator[tuple[Key, str]]:
    """Every step and lane of a path, with the lanes that it stands in: "Low-mid: after compressor 2"."""
    kinds = Counter(step.kind for step in path.steps)
    seen: Counter[str] = Counter()
    for step in path.steps:
        seen[step.kind] += 1
        number = f" {seen[step.kind]}" if kinds[step.kind] > 1 else ""
        yield Key(step_id=step.id, at="after"), f"after {processor_named(step.kind).label.lower()}{number}"
        for lane in step.lanes:
            yield Key(lane_id=lane.id, at="after"), f"{lane.name}: the lane"
            for key, words in inside(lane.path):
                yield key, f"{lane.name}: {words}"


def fed_by(graph: Graph, start: NodeId) -> set[NodeId]:
    """A point and all that is made of it, as a sound or as a key."""
    feeds: dict[NodeId, list[NodeId]] = {}
    for point, edges in graph.sources.items():
        for edge in edges:
            feeds.setdefault(edge.source, []).append(point)
    ahead, result = [start], {start}
    while ahead:
        for point in feeds.get(ahead.pop(), ()):
            if point not in result:
                result.add(point)
                ahead.append(point)
    return result
