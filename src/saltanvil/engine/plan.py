"""A session compiled to nodes in dependency order, with every path aligned to the sample.

        track:  media --> trim --> step ... step --> level, pan --+
        track:  media --> trim --> step ... step --> level, pan --+--(delays)--> bus: trim --> steps --> level --> main

Every step declares its latency; strips that meet are delayed to the latest. A bypassed step is a delay of its latency.
"""

import math
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import Literal, Protocol

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp import mix
from saltanvil.dsp.gate import DOORS
from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.dsp.units import db_to_gain, gain_to_db
from saltanvil.processors import Processor, processor_named
from saltanvil.processors.base import Context, Telemetry, glide_part
from saltanvil.session.document import MAIN_ID, Session, Step, Strip

Audio = NDArray[np.float32]
#: *key* is what the detector of the scope's step hears.
Listening = Literal["before", "after", "taken", "key"]

#: States that listening needs, whatever the document says.
LISTENING = ("matched", "taken", "key")

#: Played before what is wanted, so that detectors have settled; the same live and offline, so that the samples agree.
PREROLL_S = 2.0
LEVEL_OFF_DB = -90.0
#: Below this a change of level is not worth telling.
SOUNDING_DB = -60.0
RING_FRAMES = 1 << 14


class Media(Protocol):
    """Where tracks get their sound from, at the session's rate."""

    def channels(self, media_id: int) -> int: ...

    def frames(self, media_id: int) -> int: ...

    def read(self, media_id: int, start: int, frames: int) -> Audio:
        """(channels, frames), C-contiguous; silence outside the media."""
        ...


class Late:
    """A delay that may change. It remembers more than it needs, so that a longer delay still reads sound."""

    def __init__(self, channels: int) -> None:
        self.ring = np.zeros((channels, RING_FRAMES), np.float32)
        self.at = np.zeros(1, np.int64)

    def __call__(self, x: Audio, frames_late: int) -> Audio:
        if frames_late >= self.ring.shape[1]:
            wider = np.zeros((self.ring.shape[0], 1 << frames_late.bit_length()), np.float32)
            wider[:, -self.ring.shape[1] :] = np.roll(self.ring, -int(self.at[0]), axis=1)
            self.ring, self.at = wider, np.zeros(1, np.int64)
        y = np.empty_like(x)
        mix.delay(x, y, self.ring, self.at, frames_late)
        return y

    def clone(self) -> "Late":
        twin = Late.__new__(Late)
        twin.ring, twin.at = self.ring.copy(), self.at.copy()
        return twin


class Glide:
    """The state of a gain that glides."""

    def __init__(self) -> None:
        self.state = np.zeros(mix.GLIDE_STATE)

    def clone(self) -> "Glide":
        twin = Glide()
        twin.state = self.state.copy()
        return twin


Key = tuple[str, ...]


class Rack:
    """Everything that has a state, by the names of the objects it belongs to: what an edit leaves, stays."""

    def __init__(self) -> None:
        self.held: dict[Key, Processor | Late | Glide] = {}
        self.used: set[Key] = set()

    def processor(self, step: Step, channels: int, context: Context) -> Processor:
        name = ("step", step.id, step.kind, str(channels), str(context.rate))
        self.used.add(name)
        found = self.held.get(name)
        if isinstance(found, Processor):
            found.configure(step.settings, context)
            return found
        made = processor_named(step.kind)(step.settings, channels, context)
        self.held[name] = made
        return made

    def late(self, channels: int, *name: str) -> Late:
        full = ("late", str(channels), *name)
        self.used.add(full)
        found = self.held.get(full)
        if not isinstance(found, Late):
            found = self.held[full] = Late(channels)
        return found

    def glide(self, *name: str) -> Glide:
        full = ("glide", *name)
        self.used.add(full)
        found = self.held.get(full)
        if not isinstance(found, Glide):
            found = self.held[full] = Glide()
        return found

    def drop_unused(self) -> None:
        """Forget what the last compilation did not ask for: what is taken out and put back starts afresh."""
        self.held = {name: state for name, state in self.held.items() if name in self.used or name[-1] in LISTENING}

    def clone(self) -> "Rack":
        twin = Rack()
        twin.held = {name: state.clone() for name, state in self.held.items()}
        return twin


@dataclass(frozen=True)
class Scope:
    """What is compared: a step, or a whole strip's path."""

    strip_id: str = MAIN_ID
    step_id: str | None = None


@dataclass(frozen=True)
class Audition:
    """How a plan is listened to. `matched_db` goes on *before*, so that *after* is always what will be rendered."""

    scope: Scope = Scope()
    listening: Listening = "after"
    matched_db: float = 0.0
    solo: bool = True


@dataclass
class StepNode:
    step: Step
    processor: Processor
    late: Late
    late_by: int
    #: Change of peak level over the last block, for steps whose telemetry does not say what they do.
    moved_db: float = 0.0

    def process(self, x: Audio) -> Audio:
        if self.step.bypass:
            self.processor.telemetry = Telemetry()
            self.moved_db = 0.0
            return self.late(x, self.late_by) if self.late_by else x
        y = self.processor.process(x)
        if not len(self.processor.telemetry.reduction_db):
            entered = gain_to_db(float(mix.peak(x)))
            self.moved_db = gain_to_db(float(mix.peak(y))) - entered if entered > SOUNDING_DB else 0.0
        return y

    @property
    def change_db(self) -> float:
        """The largest change of gain in the last block, negative where it fell."""
        told = self.processor.telemetry.reduction_db
        return -float(told[np.abs(told).argmax()]) if len(told) else self.moved_db

    @property
    def door(self) -> str | None:
        """Where the door stands, for a step that has one."""
        row = self.processor.telemetry.rows.get("door")
        return None if row is None or not len(row) else DOORS[int(row[-1])]

    def before(self, x: Audio) -> Audio:
        """The input, as late as the output."""
        return self.late(x, self.late_by) if self.late_by else x


@dataclass
class Meter:
    """Sample peaks of a strip's block after trim and after the fader, in dBFS."""

    in_db: float
    out_db: float


@dataclass
class Node:
    """One strip at work."""

    strip: Strip
    channels: int
    rate: int
    steps: list[StepNode]
    inputs: list[tuple["Node", Late]]
    trim: Glide
    fader: Glide
    late: Late
    heard: bool
    latency_in: int = 0
    output: Audio = field(default_factory=lambda: np.zeros((2, 0), np.float32))
    meter: Meter = field(default_factory=lambda: Meter(-160.0, -160.0))

    @property
    def path_latency(self) -> int:
        return sum(step.late_by for step in self.steps)

    @property
    def latency(self) -> int:
        return self.latency_in + self.path_latency

    def gains(self) -> tuple[float, float]:
        """Left and right: equal power for a mono track, balance for a stereo strip (see `Strip`)."""
        level = 0.0 if not self.heard or self.strip.level_db <= LEVEL_OFF_DB else db_to_gain(self.strip.level_db)
        angle = (self.strip.pan + 1.0) * math.pi / 4.0
        left, right = math.cos(angle), math.sin(angle)
        if self.channels == 2:
            left, right = (1.0, 1.0) if self.strip.pan == 0.0 else (min(1.0, math.sqrt(2) * left), min(1.0, math.sqrt(2) * right))
        return level * left, level * right

    def gather(self, media: Media, start: int, frames: int, inputs: Sequence[Audio]) -> Audio:
        """What enters the path: media, or the sum of the inputs aligned to the latest, then the trim."""
        if self.strip.media_id is not None:
            x = media.read(self.strip.media_id, start - round(self.strip.start_s * self.rate), frames)
        else:
            x = np.zeros((self.channels, frames), np.float32)
            for (node, late), given in zip(self.inputs, inputs, strict=True):
                by = self.latency_in - node.latency
                mix.accumulate(late(given, by) if by or node.latency else given, x)
        trim = db_to_gain(self.strip.trim_db)
        if trim != 1.0 or self.trim.state[mix.PRIMED]:
            y = np.empty_like(x)
            mix.place(x, y, trim, trim, glide_part(self.rate), self.trim.state)
            return y
        return x

    def place(self, x: Audio) -> Audio:
        """Level and pan, to stereo."""
        y = np.empty((2, x.shape[1]), np.float32)
        mix.place(x, y, *self.gains(), glide_part(self.rate), self.fader.state)
        return y


@dataclass
class Plan:
    """The compiled session. Blocks start on ticks and are whole ticks long."""

    session: Session
    media: Media
    rack: Rack
    audition: Audition
    nodes: list[Node]
    generations: list[list[Node]]

    @property
    def latency_frames(self) -> int:
        return self.nodes[-1].latency

    def node(self, strip_id: str) -> Node:
        return next(node for node in self.nodes if node.strip.id == strip_id)

    def render(self, start: int, frames: int, pool: ThreadPoolExecutor | None = None) -> Audio:
        """The next block: what the listener hears, (2, frames), `latency_frames` late. Blocks must follow each other."""
        tap: list[Audio] = []
        for generation in self.generations:
            if pool is None or len(generation) == 1:
                for node in generation:
                    self._run(node, start, frames, tap)
            else:
                list(pool.map(lambda node: self._run(node, start, frames, tap), generation))
        return tap[0] if tap else self.nodes[-1].output

    def _run(self, node: Node, start: int, frames: int, tap: list[Audio]) -> None:
        scope, listening = self.audition.scope, self.audition.listening
        x = node.gather(self.media, start, frames, [child.output for child, _ in node.inputs])
        entering, in_peak = x, gain_to_db(float(mix.peak(x)))
        in_scope = scope.strip_id == node.strip.id
        for step in node.steps:
            y = step.process(x)
            if in_scope and scope.step_id == step.step.id:
                key = step.processor.heard if step.processor.listens and not step.step.bypass else None
                if listening == "key" and key is not None:
                    self._alone(node, self.rack.late(node.channels, "key")(key, step.late_by), tap)
                x = self._compare(node, y if step.step.bypass else step.before(x), y, listening, tap)
            else:
                if step.late_by and not step.step.bypass:
                    step.before(x)  # remembered, so that a bypass finds its past
                x = y
        if node.path_latency:
            entering = node.late(entering, node.path_latency)
        if in_scope and scope.step_id is None:
            x = self._compare(node, entering, x, listening, tap)
        node.output = node.place(x)
        node.meter = Meter(in_peak, gain_to_db(float(mix.peak(node.output))))

    def _compare(self, node: Node, before: Audio, after: Audio, listening: Listening, tap: list[Audio]) -> Audio:
        """What goes on from the scope. *Taken* goes straight to the ear, at the strip's level and pan."""
        if listening == "before":
            y = np.empty_like(before)
            gain = db_to_gain(self.audition.matched_db)
            mix.place(before, y, gain, gain, glide_part(node.rate), self.rack.glide("matched").state)
            return y
        if listening == "taken":
            self._alone(node, before - after, tap)
        return after

    def _alone(self, node: Node, x: Audio, tap: list[Audio]) -> None:
        """Straight to the ear, at the strip's level and pan."""
        heard = np.empty((2, x.shape[1]), np.float32)
        mix.place(x, heard, *node.gains(), 1.0, self.rack.glide("taken").state)
        tap.append(self.rack.late(2, "taken")(heard, self.latency_frames - node.latency))


def structure_of(session: Session, audition: Audition) -> tuple[object, ...]:
    """What cannot change without a crossfade; all else glides."""
    strips = tuple(
        (
            strip.id,
            strip.output,
            strip.media_id,
            strip.start_s,
            *(
                (step.id, step.kind, step.bypass, processor_named(step.kind).latency_of(step.settings, session.rate_hz))
                for step in strip.path.steps
            ),
        )
        for strip in session.strips
    )
    return strips, audition.scope, audition.listening


def audible(session: Session, strip: Strip, solo: bool) -> bool:
    """Whether mute and solo let a strip through. Solo is decided at the tracks: buses pass what reaches them."""
    if strip.mute:
        return False
    if not solo or strip.kind != "track" or not any(other.solo for other in session.strips):
        return True
    at: Strip | None = strip
    while at is not None:
        if at.solo and at.kind != "main":
            return True
        at = session.strip(at.output) if at.output else None
    return not any(other.solo for other in session.strips if other.kind != "main")


def compile_plan(session: Session, media: Media, rack: Rack, audition: Audition = Audition(), only: str | None = None) -> Plan:
    """Compile a session, or only the strips that feed the strip `only`, taking over whatever state the rack holds."""
    context = Context(rate=session.rate_hz, tempo_bpm=session.tempo_bpm)
    nodes: list[Node] = []
    generations: list[list[Node]] = []

    def visit(strip: Strip) -> tuple[Node, int]:
        found = [visit(child) for child in session.feeding(strip.id)]
        channels = media.channels(strip.media_id) if strip.media_id is not None else (1 if strip.kind == "track" else 2)
        steps = []
        for step in strip.path.steps:
            processor = rack.processor(step, channels, context)
            late_by = processor.latency_of(step.settings, session.rate_hz)
            steps.append(StepNode(step, processor, rack.late(channels, "step", step.id), late_by))
        node = Node(
            strip=strip,
            channels=channels,
            rate=session.rate_hz,
            steps=steps,
            inputs=[(child, rack.late(2, "feed", child.strip.id, strip.id)) for child, _ in found],
            trim=rack.glide("trim", strip.id),
            fader=rack.glide("fader", strip.id),
            late=rack.late(channels, "strip", strip.id),
            heard=audible(session, strip, audition.solo),
            latency_in=max((child.latency for child, _ in found), default=0),
        )
        depth = max((depth for _, depth in found), default=-1) + 1
        nodes.append(node)
        while len(generations) <= depth:
            generations.append([])
        generations[depth].append(node)
        return node, depth

    rack.used.clear()
    visit(session.strip(only or MAIN_ID))
    rack.drop_unused()
    return Plan(session, media, rack, audition, nodes, generations)


def floor_tick(frame: int) -> int:
    """The tick at or before a frame."""
    return frame // TICK_FRAMES * TICK_FRAMES


def ceil_tick(frame: int) -> int:
    """The tick at or after a frame."""
    return -(-frame // TICK_FRAMES) * TICK_FRAMES


def preroll_start(start: int, rate: int) -> int:
    """Where rendering begins so that `start` is reached settled."""
    return max(0, floor_tick(start - round(PREROLL_S * rate)))


def session_frames(session: Session, media: Media) -> int:
    """Length of the longest track, at least one second."""
    ends = [
        round(strip.start_s * session.rate_hz) + media.frames(strip.media_id)
        for strip in session.strips
        if strip.media_id is not None
    ]
    return max([session.rate_hz, *ends])
