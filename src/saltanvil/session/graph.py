"""Where sound comes from: the points of a session, what each is made of, and the order in which they can be made.

in --> step ... step --> end --> out          a strip: its path, then level and pan
        |  ^              |       |
        |  key            sends   output, sends

step = divided --> enter --> step ... step --> lane --> placed --+--> the split's step
               +-> enter --> step ... step --> lane --> placed --+
"""

from collections.abc import Iterable, Iterator
from typing import Literal, NamedTuple

from saltanvil.processors import processor_named
from saltanvil.session.document.path import Key, Path, Step
from saltanvil.session.document.session import Session, Strip

#: in, end, out: of a strip; step: what leaves a step; divided: what a split makes of its input; enter, lane, placed:
#: what enters a lane, leaves its path, and lies in the sum.
Kind = Literal["in", "end", "out", "step", "divided", "enter", "lane", "placed"]
#: How sound gets from one point to another.
RouteKind = Literal["path", "output", "send", "lane", "key"]


class NodeId(NamedTuple):
    kind: Kind
    id: str


class Edge(NamedTuple):
    source: NodeId
    way: RouteKind


def shape_of(path: Path) -> tuple[object, ...]:
    """What of a path decides where sound comes from."""
    return tuple(
        (step.id, step.kind, step.key, tuple((lane.id, lane.output, shape_of(lane.path)) for lane in step.lanes))
        for step in path.steps
    )


class Graph:
    """The points of a session.

    sources: what each point is made of, the sound first, the key last; order: the points, each after its sources;
    loop: the names on a loop, if there is one, and then no order; strip_of: where each point lies.
    """

    sources: dict[NodeId, list[Edge]]
    strip_of: dict[NodeId, Strip]
    steps: dict[str, Step]
    enters: dict[str, NodeId]
    order: list[NodeId]
    loop: str

    def __init__(self, session: Session, before: "Graph | None" = None) -> None:
        """before: of an earlier version. Where nothing changed that decides where sound comes from, its points are taken over."""
        self.session = session
        self.shapes: dict[str, tuple[Strip, tuple[object, ...]]] = {}
        for strip in session.strips:
            shape = None if before is None else before.shapes.get(strip.id)
            if shape is None or shape[0] is not strip:
                sends = tuple(send.target for send in strip.sends)
                shape = strip, (strip.id, strip.output, sends, shape_of(strip.path))
            self.shapes[strip.id] = shape
        if before is not None and [shape[1] for shape in self.shapes.values()] == [shape[1] for shape in before.shapes.values()]:
            self._take_over(before)
        else:
            self._make()

    def _take_over(self, before: "Graph") -> None:
        self.sources, self.enters, self.order, self.loop = before.sources, before.enters, before.order, before.loop
        self.strip_of, self.steps = before.strip_of, before.steps
        moved = {name: strip for name, (strip, _) in self.shapes.items() if strip is not before.shapes[name][0]}
        if moved:
            self.strip_of = {point: moved.get(strip.id, strip) for point, strip in before.strip_of.items()}
            self.steps = dict(before.steps)
            for strip in moved.values():
                for step in strip.path.walk():
                    self.steps[step.id] = step
                    self.steps.update((lane.id, step) for lane in step.lanes)

    def _make(self) -> None:
        session = self.session
        self.sources = {}
        self.strip_of = {}
        self.steps = {}
        self.enters = {}
        for strip in session.strips:
            self._strip(strip)
        for strip in session.strips:
            if strip.output is not None:
                self._feed(strip.output, Edge(NodeId("out", strip.id), "output"))
            for send in strip.sends:
                self._feed(send.target, Edge(NodeId("end", strip.id), "send"))
            for lane in strip.path.lanes():
                if lane.output is not None:
                    self._feed(lane.output, Edge(NodeId("placed", lane.id), "lane"))
        for strip, step, key in session.keyed_steps():
            self.sources[NodeId("step", step.id)].append(Edge(self.heard_at(strip, key), "key"))
        self.order = []
        self.loop = ""
        around = self._sort()
        if around:
            self.order, self.loop = [], self._named(around)

    def heard_at(self, strip: Strip, key: Key) -> NodeId:
        """The point that a key of a detector on a strip is taken from."""
        if key.step_id is not None:
            return NodeId("step", key.step_id) if key.at == "after" else self.enters[key.step_id]
        if key.lane_id is not None:
            return NodeId("lane" if key.at == "after" else "enter", key.lane_id)
        return NodeId("end" if key.at == "after" else "in", key.strip_id or strip.id)

    def needed(self, wanted: Iterable[NodeId]) -> list[NodeId]:
        """Those points and all they are made of, in order. What a bypassed split's lanes do is not needed by it."""
        ahead = list(wanted)
        result = set(ahead)
        while ahead:
            for source, way in self.sources[ahead.pop()]:
                if source not in result and not self.idle(source, way):
                    result.add(source)
                    ahead.append(source)
        return [point for point in self.order if point in result]

    def idle(self, source: NodeId, way: RouteKind) -> bool:
        """Whether a lane's sound goes nowhere that way, as its split is bypassed."""
        return source.kind == "placed" and way in ("path", "lane") and self.steps[source.id].bypassed

    # ---- making --------------------------------------------------------------------------------------------------------

    def _strip(self, strip: Strip) -> None:
        entry = NodeId("in", strip.id)
        self._add(strip, entry, [])
        last = self._path(strip, strip.path, entry)
        self._add(strip, NodeId("end", strip.id), [last, entry])
        self._add(strip, NodeId("out", strip.id), [NodeId("end", strip.id)])

    def _path(self, strip: Strip, path: Path, enters: NodeId) -> NodeId:
        for step in path.steps:
            point = NodeId("step", step.id)
            self.steps[step.id] = step
            self.enters[step.id] = enters
            if step.lanes:
                self._add(strip, NodeId("divided", step.id), [enters])
            placed = []
            for lane in step.lanes:
                entry, end = NodeId("enter", lane.id), NodeId("lane", lane.id)
                self.steps[lane.id] = step
                self._add(strip, entry, [NodeId("divided", step.id)])
                self._add(strip, end, [self._path(strip, lane.path, entry), entry])
                placed.append(NodeId("placed", lane.id))
                self._add(strip, placed[-1], [end, entry])
            self._add(strip, point, [enters, *placed])
            enters = point
        return enters

    def _add(self, strip: Strip, point: NodeId, sources: list[NodeId]) -> None:
        self.strip_of[point] = strip
        self.sources[point] = [Edge(source, "path") for source in sources]

    def _feed(self, strip_id: str, edge: Edge) -> None:
        self.sources[NodeId("in", strip_id)].append(edge)

    def _sort(self) -> list[NodeId]:
        """Fill `order`, depth first; returns the points on a loop, sources before what they feed, if there is one."""
        done: set[NodeId] = set()
        for root in self.sources:
            if root in done:
                continue
            trail: dict[NodeId, Iterator[Edge]] = {root: iter(self.sources[root])}
            while trail:
                at = next(reversed(trail))
                for source, _ in trail[at]:
                    if source in trail:
                        names = list(trail)
                        return names[names.index(source) :][::-1]
                    if source not in done:
                        trail[source] = iter(self.sources[source])
                        break
                else:
                    done.add(at)
                    self.order.append(at)
                    del trail[at]
        return []

    # ---- naming --------------------------------------------------------------------------------------------------------

    def label(self, step_id: str) -> str:
        return processor_named(self.steps[step_id].kind).label.lower()

    def _named(self, around: list[NodeId]) -> str:
        """A loop in words: the strips on it with the ways between them, or the steps if it lies within one strip."""
        strips = [self.strip_of[point] for point in around]
        if all(strip is strips[0] for strip in strips):
            steps = [self.label(point.id) for point in around if point.kind == "step"]
            if not steps:
                return f"{strips[0].name} > {strips[0].name}{self._way(around[-1], around[0])}"
            return f"{' > '.join([*steps, steps[0]])} (by their keys) on {strips[0].name}"
        # Begin where the loop comes into a strip, so that each strip on it is named once, and the first again.
        first = next(at for at in range(len(around)) if strips[at - 1] is not strips[at])
        names = [strips[first].name]
        for number in range(1, len(around) + 1):
            at = (first + number) % len(around)
            if strips[at] is not strips[at - 1]:
                names.append(strips[at].name + self._way(around[at - 1], around[at]))
        return " > ".join(names)

    def _way(self, source: NodeId, target: NodeId) -> str:
        way = next(edge.way for edge in self.sources[target] if edge.source == source)
        if way == "key":
            return f" (key of its {self.label(target.id)})"
        return "" if way == "output" else f" ({way})"
