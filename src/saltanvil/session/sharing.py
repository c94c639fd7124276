"""Versions of a session share the strips they have in common, so that an edit costs what it changes.

A version is never changed; a fork of it is, and what the fork left as it was is the version's own again afterwards. So
*the same object* means *nothing changed*.
"""

from collections.abc import Container
from typing import TypeVar

from saltanvil.session.document.base import Part
from saltanvil.session.document.path import Lane, Path, Step
from saltanvil.session.document.session import Session, Strip

T = TypeVar("T", bound=Part)
#: The parts of a part that an edit may change in place; everything else is only ever replaced.
FORKED: dict[type[Part], tuple[str, ...]] = {
    Session: ("strips", "levers"),
    Strip: ("path", "sends"),
    Path: ("steps", "levers"),
    Step: ("lanes", "key"),
    Lane: ("path",),
}


def forked(part: T) -> T:
    """A copy that can be changed in place without changing the part itself."""
    twin = part.model_copy()
    for name in FORKED.get(type(part), ()):
        value = getattr(part, name)
        twin.__dict__[name] = [forked(item) for item in value] if isinstance(value, list) else value and forked(value)
    return twin


def forked_for(session: Session, strips: Container[str]) -> Session:
    """`forked`, of which only some strips can be changed."""
    twin = session.model_copy()
    twin.levers = [forked(lever) for lever in session.levers]
    twin.strips = [forked(strip) if strip.id in strips else strip for strip in session.strips]
    return twin


def revalidated(changed: Session, before: Session) -> Session:
    """A changed fork with the strips that stayed as they were shared and the others checked as a whole.

    Raises ValueError if a strip is not valid.
    """
    known = {strip.id: strip for strip in before.strips}
    changed.strips = [
        old if (old := known.get(strip.id)) is strip or old == strip else Strip.model_validate(strip.model_dump())
        for strip in changed.strips
    ]
    return changed


def shared(session: Session) -> tuple[object, ...]:
    """What all strips have in common, for whoever keeps what was made of one: the session's
    own values that sound, and all levers."""
    own = [value for name, value in session if name not in ("strips", "name", "delivery", "links")]
    return own, [(strip.id, strip.path.levers) for strip in session.strips if strip.path.levers]
