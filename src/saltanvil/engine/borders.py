"""Exact from anywhere: what a strip's steps had become at the borders of its stored segments, so that a play goes on from there.

          border with states        border with states        play begins
    --------|-------------------------|----------------------------|--------> song
            ^ large states            ^ small ones                 ^
            strip B runs from here    strip A runs from here       all as in a render of the song
            (what it hears of A is read until A runs)

Where states are missing the steps settle on `preroll_start` and what follows is approximate.
"""

from concurrent.futures import Executor
from dataclasses import replace
from functools import partial

from saltanvil.engine import segments
from saltanvil.engine.media import Audio
from saltanvil.engine.nodes.base import Node
from saltanvil.engine.plan import Plan, StoreLink
from saltanvil.engine.states import MOST_SEGMENTS, parts_of, states_of, unpack
from saltanvil.engine.time import preroll_start
from saltanvil.session.graph import NodeId


class Missing(Exception):
    """Something that was thought to be stored is not."""


def settle(plan: Plan, start: int, pool: Executor) -> bool:
    """Bring a plan that nothing has run yet to frame `start`, a whole tick. Whether all is there as in a render of the song."""
    segment = segments.SEGMENT_FRAMES
    media = plan.media
    if start == 0:
        return True
    if isinstance(media, segments.StoredMedia) and media.renders is not None:
        try:
            exact = Way(plan, media.renders, segments.sound_names(plan, media), start).go(pool)
            # What is stored knows the scope treated, and what follows it then.
            return exact and plan.audition.listening != "before"
        except Missing:
            pass
    for at in range(preroll_start(start, plan.session.rate_hz), start, segment):
        plan.run(at, min(segment, start - at), pool)
    return False


class Way:
    """From which border each strip runs, and what is read until then.

    begins: by strip, the segment that it runs from; from_states: those strips that have states there.
    """

    def __init__(self, plan: Plan, store: segments.RenderStore, names: dict[int, str], start: int) -> None:
        self.plan, self.store, self.start = plan, store, start
        self.names = {strip_id: names[id(strip.end)] for strip_id, strip in plan.strips.items()}
        self.ends = {id(strip.end): strip_id for strip_id, strip in plan.strips.items()}
        self.strip_of = {id(node): plan.graph.strip_of[point].id for point, node in plan.nodes.items()}
        segment = segments.SEGMENT_FRAMES
        self.settling = preroll_start(start, plan.session.rate_hz) // segment
        self.last = start // segment
        self.borders = {strip_id: store.borders(name, self.last) for strip_id, name in self.names.items()}
        self.sounds: dict[tuple[str, int], Audio] = {}
        self.begins: dict[str, int] = {}
        self.from_states: set[str] = set()
        for strip_id in plan.strips:
            self._begin(strip_id, self.last)
        while self._hear():
            pass

    def _begin(self, strip_id: str, latest: int) -> None:
        """Let a strip run from the last border there is up to `latest`."""
        strip = self.plan.strips[strip_id]
        if not strip.steps and strip.strip.media_id is not None:  # nothing of it has a past
            self.begins[strip_id] = latest
            return
        known = [border for border in self.borders[strip_id] if self.last - MOST_SEGMENTS <= border <= latest]
        self.from_states.discard(strip_id)
        if known:
            self.begins[strip_id] = max(known)
            self.from_states.add(strip_id)
        else:
            self.begins[strip_id] = min(self.settling, latest)
            if self.begins[strip_id] == 0:
                self.from_states.add(strip_id)

    def _hear(self) -> bool:
        """Let strips begin earlier whose inner points others need before, or whose sound is not stored. Whether one does."""
        for node in self.plan.nodes.values():
            own = self.strip_of[id(node)]
            for source in node.sources:
                other = self.strip_of[id(source)]
                begin = self.begins[own]
                if other == own or self.begins[other] <= begin:
                    continue
                if self._feeds(source) and self._read(other, begin):
                    continue
                self._begin(other, begin)
                return True
        return False

    def _feeds(self, node: Node) -> bool:
        """Whether a point can be made of what leaves its strip's path."""
        return id(node) in self.ends or all(id(source) in self.ends for source in node.sources)

    def _read(self, strip_id: str, begin: int) -> bool:
        """Read what a strip gives before it runs."""
        for number in range(begin, self.begins[strip_id]):
            if (strip_id, number) not in self.sounds:
                sound = self.store.read(self.names[strip_id], number)
                if sound is None:
                    return False
                self.sounds[strip_id, number] = sound
        return True

    @property
    def exact(self) -> bool:
        pasts = {strip_id for strip_id, strip in self.plan.strips.items() if strip.steps or strip.entry.feeds}
        return pasts <= self.from_states

    def go(self, pool: Executor) -> bool:
        parts: dict[str, dict[int, bytes]] = {}
        for strip_id in self.from_states:
            if border := self.begins[strip_id]:
                state = self.store.read_state(self.names[strip_id], border)
                parts[strip_id] = {} if state is None else parts_of(state)
                # Another render may have needed fewer points of it, such as none of a bypassed split's lanes.
                if not states_of(self.plan, strip_id).keys() <= parts[strip_id].keys():
                    raise Missing
        segment = segments.SEGMENT_FRAMES
        for number in range(min(self.begins.values()), self.last + 1):
            for strip_id in parts:
                if self.begins[strip_id] == number:
                    for place, states in states_of(self.plan, strip_id).items():
                        unpack(parts[strip_id][place], states)
            frames = min(segment, self.start - number * segment)
            if frames:
                self._part(number).run(number * segment, frames, pool)
        return self.exact

    def _part(self, number: int) -> Plan:
        """The plan of a segment: the strips that run, and those that are read for them."""
        plan = self.plan
        nodes: dict[NodeId, Node] = {}
        needed: set[int] = set()
        for point, node in reversed(plan.nodes.items()):
            runs = self.begins[self.strip_of[id(node)]] <= number
            if not runs and id(node) not in needed:
                continue
            nodes[point] = node
            if runs or id(node) not in self.ends:
                needed.update(id(source) for source in node.sources)
        links = {
            id(strip.end): StoreLink(read=partial(self._sound, strip_id))
            for strip_id, strip in plan.strips.items()
            if self.begins[strip_id] > number and (strip_id, number) in self.sounds
        }
        return replace(plan, nodes=dict(reversed(nodes.items())), store_links=links)

    def _sound(self, strip_id: str, at: int, frames: int) -> Audio:
        return self.sounds[strip_id, at // segments.SEGMENT_FRAMES][:, :frames]
