"""The render store: what left the paths of a session's strips, from its first frame on, in segments.

A render of the song reads the strips that an edit left alone, and renders the others and what they feed. A sound is named by
the fingerprint of all that made it, so undo, slots and other sessions with the same strip find it again.

        strip, all of it stored   -->  read  --+
        strip, changed            -->  steps --+--> bus: steps --> ...
                                       |
                                       +--> stored for the next render
"""

from collections.abc import Callable, Iterable
from typing import Protocol, runtime_checkable

from saltanvil.engine.audition import RENDERED
from saltanvil.engine.cache import fingerprints
from saltanvil.engine.compile import compile_plan
from saltanvil.engine.media import Audio, Media
from saltanvil.engine.nodes.base import Node
from saltanvil.engine.nodes.strip import StripNode
from saltanvil.engine.plan import Plan, StoreLink
from saltanvil.engine.rack import Rack
from saltanvil.session.graph import NodeId

#: A segment is what a render makes at a time: so long that two threads seldom wait for the interpreter lock (8192: a third of
#: the speed).
SEGMENT_FRAMES = 1 << 16


class RenderStore(Protocol):
    """Keeps sound by name and number of its segment, as long as there is room. It may lose any of it at any time."""

    def has(self, name: str, segments: int) -> bool:
        """Whether the first `segments` of a sound are there."""
        ...

    def read(self, name: str, segment: int) -> Audio | None:
        """(channels, SEGMENT_FRAMES); None if it is lost, or not what was written."""
        ...

    def write(self, name: str, segment: int, sound: Audio) -> None: ...


@runtime_checkable
class StoredMedia(Media, Protocol):
    """Media beside which there is a store of what was rendered of them."""

    @property
    def renders(self) -> RenderStore | None: ...

    def key(self, media_id: int) -> str:
        """Names the sound itself: no other media ever has it."""
        ...


def use_store(plan: Plan, nodes: Iterable[Node], end: int) -> None:
    """Let a plan that is run from the song's start to frame `end`, a whole segment at a time, read what is in its media's store,
    and write what is not. nodes: those that must be made; what only serves others that are read is left out of the plan."""
    media = plan.media
    if not isinstance(media, StoredMedia) or media.renders is None:
        return
    store = media.renders
    names = fingerprints(plan, ("from the start", plan.session.rate_hz), media.key)
    segments = -(-end // SEGMENT_FRAMES)
    strips = {id(strip.end): strip for strip in plan.strips.values() if strip.steps}
    needed = {id(node) for node in nodes}
    for node in reversed(list(plan.nodes.values())):
        if id(node) not in needed:
            continue
        strip, name = strips.get(id(node)), names[id(node)]
        if strip is not None and store.has(name, segments):
            plan.store_links[id(node)] = reading(plan, strip, store, name)
            continue
        needed.update(id(source) for source in node.sources)
        if strip is not None:
            plan.store_links[id(node)] = writing(store, name)
    plan.nodes = {point: node for point, node in plan.nodes.items() if id(node) in needed}


def reading(plan: Plan, strip: StripNode, store: RenderStore, name: str) -> StoreLink:
    again: list[Callable[[int], Audio]] = []

    def read(at: int, frames: int) -> Audio:
        sound = store.read(name, at // SEGMENT_FRAMES) if not again else None
        if sound is None:  # lost since it was looked for: rendered up to here, and on from here
            if not again:
                again.append(rendered_from_the_start(plan, strip.strip.id))
            sound = again[0](at)
        return sound[:, :frames]

    return StoreLink(read=read)


def writing(store: RenderStore, name: str) -> StoreLink:
    def write(at: int, sound: Audio) -> None:
        if sound.shape[1] == SEGMENT_FRAMES:
            store.write(name, at // SEGMENT_FRAMES, sound)

    return StoreLink(write=write)


def rendered_from_the_start(plan: Plan, strip_id: str) -> Callable[[int], Audio]:
    """Gives the segment that begins at a frame, each after the one before."""
    end = NodeId("end", strip_id)
    own = compile_plan(plan.session, plan.media, Rack(), RENDERED, [end])
    position = 0

    def segment(at: int) -> Audio:
        nonlocal position
        while position <= at:
            own.run(position, SEGMENT_FRAMES)
            position += SEGMENT_FRAMES
        return own.nodes[end].out

    return segment
