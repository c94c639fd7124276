"""Where sound goes and why it does not: silence explained, keys named, latency with its causes. From the document alone."""

from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache

from saltanvil.engine.latency import Latencies
from saltanvil.processors import Settings, processor_named
from saltanvil.processors.descriptor import descriptors_of
from saltanvil.session.automation import Automation
from saltanvil.session.document.base import MAIN_ID, NotFound
from saltanvil.session.document.path import Key, Path, Step
from saltanvil.session.document.session import Send, Session, Strip
from saltanvil.session.edits.slots import content_path
from saltanvil.session.graph import Graph, NodeId
from saltanvil.session.levels import OFF_DB, passes_solo
from saltanvil.session.settings import resolve
from saltanvil.session.slots import slotted


@dataclass(frozen=True)
class LatencyCause:
    """A step that makes what comes after it late."""

    strip_id: str
    step_id: str
    name: str
    latency_ms: float


@dataclass(frozen=True)
class StripRouting:
    """latency_ms: how late it is from the sources on; path_ms: what its own path adds; causes: the steps that make it so.
    silent: why it is silent, if it is; keys: the steps that listen to it or to something in it."""

    latency_ms: float
    path_ms: float
    causes: list[LatencyCause]
    silent: str | None
    keys: list[str]


@dataclass(frozen=True)
class Routing:
    """low_latency_ms: the total with low latency throughout. silent_sends, silent_keys: why nothing comes through, by the
    send's or the keyed step's id. low_latency_changes: what low latency changes in a step, by its id, if anything."""

    latency_ms: float
    low_latency_ms: float
    strips: dict[str, StripRouting]
    silent_sends: dict[str, str]
    silent_keys: dict[str, str]
    low_latency_changes: dict[str, str]


def routing_of(session: Session) -> Routing:
    graph = Graph(session)
    late = Latencies(graph)
    quick = Latencies(graph, low_latency=True)
    ms = 1000.0 / session.rate_hz
    main = NodeId("end", MAIN_ID)
    silences = Silences(session)
    strips = {}
    for strip in session.strips:
        causes = [LatencyCause(c.strip_id, c.step_id, c.name, c.frames * ms) for c in late.causes(strip.id)]
        strips[strip.id] = StripRouting(
            late.latency_frames[NodeId("end", strip.id)] * ms, late.path(strip.id) * ms, causes, silences.of(strip),
            [keyed_name(other, step) for other, step in keyed_by(session, {strip.id, *strip.path.ids()})],
        )  # fmt: skip
    sends = {send.id: why for strip in session.strips for send in strip.sends if (why := silences.of_send(strip, send))}
    keys = {step.id: why for strip, step, key in session.keyed_steps() if (why := silences.of_key(graph, strip, key))}
    changes = {
        step.id: text for strip in session.strips for step in strip.path.walk() if (text := low_latency_change(session, step))
    }
    return Routing(late.latency_frames[main] * ms, quick.latency_frames[main] * ms, strips, sends, keys, changes)


def routing_after(session: Session, before: tuple[Session, Routing] | None) -> Routing:
    """`routing_of`, or that of an earlier version which is the same: most edits move values that have no part in it."""
    if before is not None:
        old, routing = before
        if len(old.strips) == len(session.strips) and old.low_latency == session.low_latency and old.levers == session.levers:
            strips = zip(old.strips, session.strips, strict=True)
            if all(one is other or facts(old, one) == facts(session, other) for one, other in strips):
                return routing
    return routing_of(session)


def facts(session: Session, strip: Strip) -> tuple[object, ...]:
    """All of a strip that has a part in routing."""
    automation = Automation(session)

    def path_facts(path: Path) -> list[object]:
        return [step_facts(step) for step in path.steps]

    def step_facts(step: Step) -> tuple[object, ...]:
        kind, settings = processor_named(step.kind), resolve(session, step, automation=automation)
        own, quick = kind.latency_of(settings, session.rate_hz), kind.low_latency_settings(settings)
        late = own, kind.latency_of(quick, session.rate_hz), step.low_latency, low_latency_change(session, step)
        lanes = [(lane.id, lane.name, lane.muted, lane.mute, lane.output, path_facts(lane.path)) for lane in step.lanes]
        return step.id, step.kind, step.bypassed, late, step.key, lanes

    sends = [(send.id, send.target, send.pre, send.muted, send.level_db <= OFF_DB) for send in strip.sends]
    switches = strip.mute, strip.muted, strip.solo, strip.level_db <= OFF_DB, strip.media_id is None
    return strip.id, strip.name, strip.kind, strip.output, switches, sends, path_facts(strip.path), strip.path.levers


def low_latency_change(session: Session, step: Step) -> str | None:
    """What low latency changes in a step, and what it saves; None where it changes nothing."""
    result = low_latency_moves(step.kind, step.settings, session.rate_hz)
    return f"{result} {'saved' if session.low_latency or step.low_latency else 'less'}" if result is not None else None


@lru_cache(1024)
def low_latency_moves(name: str, settings: Settings, rate: int) -> str | None:
    kind = processor_named(name)
    quick = kind.low_latency_settings(settings)
    if quick == settings:
        return None
    own, new = settings.model_dump(), quick.model_dump()
    described = descriptors_of(kind.settings_model)
    moved = [
        f"{described[name].label.lower()} {worded(value)} becomes {worded(new[name])}"
        for name, value in own.items() if new[name] != value
    ]  # fmt: skip
    saved = (kind.latency_of(settings, rate) - kind.latency_of(quick, rate)) * 1000.0 / rate
    return f"{', '.join(moved)}: {saved:.1f} ms"


def worded(value: object) -> str:
    if isinstance(value, bool):
        return "on" if value else "off"
    return f"{value:g}" if isinstance(value, float) else str(value)


# ---- keys ------------------------------------------------------------------------------------------------------------


def keyed_by(session: Session, names: set[str]) -> Iterator[tuple[Strip, Step]]:
    """The steps on other strips that listen to a strip, a step or a lane of those names."""
    for strip, step, key in session.keyed_steps():
        if strip.id not in names and names & {key.strip_id, key.step_id, key.lane_id}:
            yield strip, step


def keyed_name(strip: Strip, step: Step) -> str:
    return f"the {processor_named(step.kind).label.lower()} on {strip.name}"


def source_name(session: Session, key: Key) -> str:
    """What a key is taken from, in words."""
    where = "" if key.at == "after" else " before its path"
    if key.step_id is not None:
        place = session.step(key.step_id)
        label = processor_named(place.step.kind).label.lower()
        return f"{place.strip.name} {key.at} its {label}"
    if key.lane_id is not None:
        strip, _, lane = session.lane(key.lane_id)
        return f"the lane {lane.name} of {strip.name}{where}"
    return f"its own strip{where or ' after its path'}" if key.strip_id is None else f"{session.strip(key.strip_id).name}{where}"


def notices_of(before: Session, after: Session) -> list[str]:
    """What an edit did to keys, where that is not what it was for: sources gone, sources muted."""
    notices = []
    old = {step.id: (strip, step, key) for strip, step, key in before.keyed_steps()}
    new = {step.id: step for strip in after.strips for step in strip.path.walk()}
    for step_id, (strip, step, key) in old.items():
        if step_id in new and new[step_id].key is None and not exists(after, key):
            was = f"{source_name(before, key)} was the key of {keyed_name(strip, step)}"
            now = "does nothing without one" if processor_named(step.kind).needs_key else "listens to its own sound now"
            notices.append(f"{was}, which {now}. Undo brings it back.")
    was_muted = {strip.id for strip in before.strips if strip.mute}
    for strip in after.strips:
        if strip.mute and strip.id not in was_muted:
            names = {strip.id, *strip.path.ids()}
            follow = [keyed_name(*result) for result in keyed_by(after, names) if result[1].key and result[1].key.mutes]
            hold = [keyed_name(*result) for result in keyed_by(after, names) if result[1].key and not result[1].key.mutes]
            if hold:
                notices.append(f"{strip.name} is muted and still keys {joined(hold)}.")
            if follow:
                notices.append(f"{strip.name} is muted, and so is the key of {joined(follow)}.")
    notices.extend(lost_in_slots(before, after))
    return [sentence[0].upper() + sentence[1:] for sentence in notices]


def lost_in_slots(before: Session, after: Session) -> Iterator[str]:
    """What a slot that was switched to could not bring back: keys from what was removed meanwhile."""
    was_on = {(of, name): slots.on for of, name, slots in slotted(before)}
    for of, name, slots in slotted(after):
        if slots.on is None or slots.on == was_on.get((of, name)):
            continue
        old_slots = next((old for kind, known, old in slotted(before) if (kind, known) == (of, name)), None)
        for step in content_path(old_slots.kept[slots.on]).walk() if old_slots is not None and slots.on in old_slots.kept else ():
            if step.key is not None and not exists(after, step.key):
                label = processor_named(step.kind).label.lower()
                yield f"the key of the {label} in slot {slots.on} came from what was removed; it listens to its own sound now."


def exists(session: Session, key: Key) -> bool:
    try:
        source_name(session, key)
    except NotFound:
        return False
    return True


def joined(names: list[str]) -> str:
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"


# ---- silence ---------------------------------------------------------------------------------------------------------


class Silences:
    """Why strips, sends and keys are silent, as far as the document says it."""

    def __init__(self, session: Session) -> None:
        self.session = session
        self.soloed = [strip.name for strip in session.strips if strip.solo and strip.kind != "main"]
        self._within: dict[str, str | None] = {}

    def of(self, strip: Strip) -> str | None:
        """Why a strip is silent, the nearest cause first."""
        return self.within(strip) or self.leaving(strip) or self.beyond(strip)

    def within(self, strip: Strip) -> str | None:
        """Why nothing comes into a strip."""
        if strip.id not in self._within:
            self._within[strip.id] = None  # there are no loops, but a broken document must not hang
            self._within[strip.id] = self._found_within(strip)
        return self._within[strip.id]

    def _found_within(self, strip: Strip) -> str | None:
        if strip.media_id is not None:
            return None
        if strip.kind == "track":
            return "This track has no sound; drop a file on it."
        feeding = list(self.feeding(strip))
        if not feeding:
            return "Nothing feeds it. Send a strip here, or make it the output of one."
        why = [reason for _, reason in feeding]
        if all(reason is not None for reason in why):
            first, reason = feeding[0]
            return f"Nothing reaches it: {first.name}: {reason}" if len(feeding) == 1 else (
                f"All {len(feeding)} strips that feed it are silent; {first.name}: {reason}"
            )  # fmt: skip
        return None

    def feeding(self, strip: Strip) -> Iterator[tuple[Strip, str | None]]:
        """Every strip that feeds this one, and why it brings nothing, if so."""
        for other in self.session.strips:
            if other.output == strip.id:
                yield other, self.within(other) or self.leaving(other)
            for send in other.sends:
                if send.target == strip.id:
                    yield other, self.of_send(other, send)
            for lane in other.path.lanes():
                if lane.output == strip.id:
                    yield other, self.within(other) or self.leaving(other) or ("The lane is muted." if lane.muted else None)

    def leaving(self, strip: Strip) -> str | None:
        """Why nothing of what comes in leaves."""
        if strip.muted:
            return "Muted."
        if strip.level_db <= OFF_DB and not any(send.pre for send in strip.sends):
            return "Its level is all the way down."
        if not self.heard_alone(strip):
            return f"Silenced by solo on {joined(self.soloed)}."
        return None

    def heard_alone(self, strip: Strip) -> bool:
        return any(passes_solo(self.session, strip, target) for target in strip.targets()) or (
            strip.kind == "main" or not list(strip.targets())
        )

    def beyond(self, strip: Strip) -> str | None:
        """Why what leaves does not get to the main."""
        if strip.kind == "main":
            return None
        ways = [strip.output] if strip.output is not None else []
        ways += [send.target for send in strip.sends if not self.of_send(strip, send)]
        ways += [lane.output for lane in strip.path.lanes() if lane.output is not None]
        if not ways:
            keyed = [keyed_name(*result) for result in keyed_by(self.session, {strip.id, *strip.path.ids()})]
            return f"It feeds nothing and is only the key of {joined(keyed)}." if keyed else "It feeds nothing; choose an output."
        reasons = []
        for target in ways:
            other = self.session.strip(target)
            why = self.leaving(other) or self.beyond(other)
            if why is None:
                return None
            reasons.append(f"{other.name}, on its way to the main, is silent: {why}")
        return reasons[0]

    def of_send(self, strip: Strip, send: Send) -> str | None:
        inside = self.within(strip)
        if inside is not None:
            return inside
        if send.muted:
            return "The send is muted."
        if send.level_db <= OFF_DB:
            return "The send is all the way down."
        if strip.muted:
            return "Muted."
        if not send.pre and strip.level_db <= OFF_DB:
            return "It is taken after the strip's level, which is all the way down."
        if not passes_solo(self.session, strip, send.target):
            return f"Silenced by solo on {joined(self.soloed)}."
        return None

    def of_key(self, graph: Graph, strip: Strip, key: Key) -> str | None:
        """Why a key is silent."""
        point = graph.heard_at(strip, key)
        source = graph.strip_of[point]
        inside = self.within(source)
        if inside is not None:
            return f"{source.name}: {inside}"
        if key.mutes and source.mute:
            return f"{source.name} is muted, and this key follows its mute."
        if key.mutes and key.lane_id is not None and self.session.lane(key.lane_id)[2].mute:
            return "The lane is muted, and this key follows its mute."
        return None
