"""What makes a session whole: one main, names unique, every output, send and key from and to what exists, no loop."""

from dataclasses import dataclass
from typing import Self

from saltanvil.processors import processor_named
from saltanvil.session.address import Address
from saltanvil.session.automation import automated_parts, automation_refusal
from saltanvil.session.document.base import MAIN_ID
from saltanvil.session.document.path import Key
from saltanvil.session.document.session import Session, Strip
from saltanvil.session.graph import Graph
from saltanvil.session.levers import check_levers


def checked(session: Session) -> Session:
    """The session itself. Raises ValueError, naming the object and the reason, if it is not whole."""
    by_id = {strip.id: strip for strip in session.strips}
    if len(by_id) != len(session.strips):
        raise ValueError("two strips have the same id")
    part_ids = [part_id for strip in session.strips for part_id in (*strip.path.ids(), *(send.id for send in strip.sends))]
    parts = set(part_ids)
    if len(parts) != len(part_ids):
        raise ValueError("two steps, lanes or sends have the same id")
    if sum(strip.kind == "main" for strip in session.strips) != 1 or MAIN_ID not in by_id or by_id[MAIN_ID].kind != "main":
        raise ValueError("a session has exactly one main")
    for strip in session.strips:
        check_targets(strip, by_id)
    sources = KeySources.of(session)
    for strip, step, key in session.keyed_steps():
        if key not in sources:
            label = processor_named(step.kind).label.lower()
            raise ValueError(f"the key of the {label} on {strip.name!r} comes from what does not exist; choose another")
    sections = {section.id for section in session.sections}
    for strip in session.strips:
        for step in strip.path.walk():
            if step.match_over.section_id is not None and step.match_over.section_id not in sections:
                label = processor_named(step.kind).label.lower()
                raise ValueError(f"the {label} on {strip.name!r} is matched over a section that does not exist; choose another")
    for of, name, part in automated_parts(session):
        for setting in part.envelopes:
            refusal = automation_refusal(session, Address(of=of, id=name, name=setting))
            if refusal is not None:
                raise ValueError(refusal)
    check_levers(session)
    loop = Graph(session).loop
    if loop:
        raise ValueError(f"this would close a loop: {loop}")
    return session


def check_targets(strip: Strip, by_id: dict[str, Strip]) -> None:
    """Raises ValueError if a strip feeds what takes no input."""
    if strip.kind == "main" and next(strip.targets(), None) is not None:
        raise ValueError("the main feeds no other strip")
    for target in strip.targets():
        if target not in by_id:
            raise ValueError(f"{strip.name!r} feeds a strip that does not exist; choose a bus or the main")
        if by_id[target].kind == "track":
            raise ValueError(
                f"{strip.name!r} cannot feed {by_id[target].name!r}: a track takes no input; choose a bus or the main"
            )


@dataclass(frozen=True)
class KeySources:
    """What keys can be taken from, by its ids."""

    strips: set[str]
    steps: set[str]
    lanes: set[str]

    @classmethod
    def of(cls, session: Session) -> Self:
        paths = [strip.path for strip in session.strips]
        return cls(
            {strip.id for strip in session.strips},
            {step.id for path in paths for step in path.walk()},
            {lane.id for path in paths for lane in path.lanes()},
        )

    def __contains__(self, key: Key) -> bool:
        named = ((key.strip_id, self.strips), (key.step_id, self.steps), (key.lane_id, self.lanes))
        return all(name is None or name in known for name, known in named)
