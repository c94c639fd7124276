"""What of a session decides which nodes a plan has, and where a mono strip becomes stereo."""

from saltanvil.engine.audition import Audition
from saltanvil.engine.compiled import Compiled
from saltanvil.processors import processor_named
from saltanvil.processors.base import Settings
from saltanvil.session.automation import Automation
from saltanvil.session.document.path import Path
from saltanvil.session.document.session import Session, Strip
from saltanvil.session.settings import resolve

#: What of a lane moves its place in the sum.
LANE_MOVES = ("level_db", "mute")


def structure_of(session: Session, audition: Audition, before: Compiled | None = None) -> tuple[object, ...]:
    """What cannot change without a crossfade; all else glides. before: what is known of this version's strips."""
    automation = Automation(session)
    known = {} if before is None else before.structures
    result: dict[str, tuple[Strip, tuple[object, ...]]] = {}
    for strip in session.strips:
        structure = known.get(strip.id)
        if structure is None or structure[0] is not strip:
            sends = [(send.id, send.target) for send in strip.sends]
            path = structural_key(automation, strip.path, audition.live)
            structure = strip, (strip.id, strip.output, strip.media_id, strip.start_s, sends, path)
        result[strip.id] = structure
    if before is not None:
        before.structures = result
    return tuple(structure for _, structure in result.values()), audition.scope, audition.listening


def structural_key(automation: Automation, path: Path, live: bool) -> tuple[object, ...]:
    """What of a path cannot change without a crossfade."""
    session, result = automation.session, list[object]()
    for step in path.steps:
        kind, settings = processor_named(step.kind), resolve(session, step, live, automation=automation)
        lanes = tuple((lane.id, lane.bypassed, lane.output, structural_key(automation, lane.path, live)) for lane in step.lanes)
        key = None if step.key is None else (step.key.strip_id, step.key.step_id, step.key.lane_id, step.key.at)
        latency = kind.latency_of(settings, session.rate_hz)
        result.append(
            (step.id, step.kind, step.bypassed, latency, kind.structural_key(settings), kind.widens(settings), key, lanes)
        )
    return tuple(result)


def widening(path: Path, settings: dict[str, Settings]) -> set[str]:
    """The steps at which a mono sound becomes stereo: those that ask for it, and splits around them.

    What lies in a lane of one side (mid/side, left/right) stays mono.
    """
    result: set[str] = set()
    for step in path.steps:
        if step.split is None:
            if processor_named(step.kind).widens(settings[step.id]):
                result.add(step.id)
        elif step.split.by in ("copies", "bands"):
            inside = set().union(*(widening(lane.path, settings) for lane in step.lanes))
            result |= {step.id, *inside} if inside else set()
    return result
