"""What was measured to hold the loudness, apart from the steps it belongs to."""

from collections.abc import Mapping

from saltanvil.session.document.path import Match
from saltanvil.session.document.session import Session, Strip
from saltanvil.session.sharing import forked


def matches_of(session: Session) -> dict[str, Match]:
    """By the steps' ids."""
    return {step.id: step.match for strip in session.strips for step in strip.path.walk() if step.match is not None}


def with_matches(session: Session, matches: Mapping[str, Match]) -> Session:
    """A version with those matches, where their steps are still there; strips without any are shared."""
    if not matches:
        return session
    return session.model_copy(update={"strips": [matched(strip, matches) for strip in session.strips]})


def matched(strip: Strip, matches: Mapping[str, Match]) -> Strip:
    if all(matches.get(step.id, step.match) == step.match for step in strip.path.walk()):
        return strip
    strip = forked(strip)
    for step in strip.path.walk():
        step.match = matches.get(step.id, step.match)
    return strip
