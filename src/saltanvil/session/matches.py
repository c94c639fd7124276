"""What was measured to hold the loudness, apart from the steps it belongs to."""

from collections.abc import Mapping

from saltanvil.session.document import Match, Session


def matches_of(session: Session) -> dict[str, Match]:
    """By the steps' ids."""
    return {step.id: step.match for strip in session.strips for step in strip.path.walk() if step.match is not None}


def with_matches(session: Session, matches: Mapping[str, Match]) -> Session:
    """A copy with those matches, where their steps are still there; the session itself if there are none."""
    if not matches:
        return session
    session = session.model_copy(deep=True)
    for strip in session.strips:
        for step in strip.path.walk():
            if step.id in matches:
                step.match = matches[step.id]
    return session
