"""The render store: what left the paths of a session's strips, from its first frame on, in segments.

A render of the song reads the strips that an edit left alone, and renders the others and what they feed. A sound is named by
the fingerprint of all that made it, so undo, slots and other sessions with the same strip find it again.

        strip, all of it stored   -->  read  --+
        strip, changed            -->  steps --+--> bus: steps --> ...
                                       |
                                       +--> stored for the next render
"""

from collections.abc import Callable, Iterable

from saltanvil.engine import segments
from saltanvil.engine.audition import RENDERED
from saltanvil.engine.compile import compile_plan
from saltanvil.engine.media import Audio
from saltanvil.engine.nodes.base import Node
from saltanvil.engine.nodes.strip import StripNode
from saltanvil.engine.plan import Plan, StoreLink
from saltanvil.engine.rack import Rack
from saltanvil.engine.states import StateKeeper
from saltanvil.session.graph import NodeId


def use_store(plan: Plan, nodes: Iterable[Node], end: int) -> None:
    """Let a plan that is run from the song's start to frame `end`, a whole segment at a time, read what is in its media's store,
    and write what is not. nodes: those that must be made; what only serves others that are read is left out of the plan."""
    media = plan.media
    if not isinstance(media, segments.StoredMedia) or media.renders is None:
        return
    store = media.renders
    names = segments.sound_names(plan, media)
    count = -(-end // segments.SEGMENT_FRAMES)
    strips = {id(strip.end): strip for strip in plan.strips.values() if strip.steps or strip.strip.media_id is None}
    needed = {id(node) for node in nodes}
    for node in reversed(list(plan.nodes.values())):
        if id(node) not in needed:
            continue
        strip, name = strips.get(id(node)), names[id(node)]
        if strip is not None and store.has(name, count):
            plan.store_links[id(node)] = reading(plan, strip, store, name)
            continue
        needed.update(id(source) for source in node.sources)
        if strip is not None:
            plan.store_links[id(node)] = writing(plan, strip, store, name)
    plan.nodes = {point: node for point, node in plan.nodes.items() if id(node) in needed}


def reading(plan: Plan, strip: StripNode, store: segments.RenderStore, name: str) -> StoreLink:
    again: list[Callable[[int], Audio]] = []

    def read(at: int, frames: int) -> Audio:
        sound = store.read(name, at // segments.SEGMENT_FRAMES) if not again else None
        if sound is None:  # lost since it was looked for: rendered up to here, and on from here
            if not again:
                again.append(rendered_from_the_start(plan, strip.strip.id))
            sound = again[0](at)
        return sound[:, :frames]

    return StoreLink(read=read)


def writing(plan: Plan, strip: StripNode, store: segments.RenderStore, name: str) -> StoreLink:
    states = StateKeeper(plan, store, strip.strip.id, name)

    def write(at: int, sound: Audio) -> None:
        if sound.shape[1] == segments.SEGMENT_FRAMES:
            store.write(name, at // segments.SEGMENT_FRAMES, sound)
            states.keep(at // segments.SEGMENT_FRAMES + 1)

    return StoreLink(write=write)


def rendered_from_the_start(plan: Plan, strip_id: str) -> Callable[[int], Audio]:
    """Gives the segment that begins at a frame, each after the one before."""
    end = NodeId("end", strip_id)
    own = compile_plan(plan.session, plan.media, Rack(), RENDERED, [end])
    position = 0

    def segment(at: int) -> Audio:
        nonlocal position
        while position <= at:
            own.run(position, segments.SEGMENT_FRAMES)
            position += segments.SEGMENT_FRAMES
        return own.nodes[end].out

    return segment
