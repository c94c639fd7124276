"""Holding the loudness: a blend's two sides matched, an output's gain found, and what a lane lost given back."""

import math
from collections.abc import Callable, Container, Iterator
from concurrent.futures import ThreadPoolExecutor

import numpy as np
from numpy.typing import NDArray

from saltanvil.engine.audition import Scope
from saltanvil.engine.cache import SegmentCache
from saltanvil.engine.media import Media
from saltanvil.engine.scope import Compared, ScopeRenderer
from saltanvil.engine.time import session_frames
from saltanvil.measure.figures import match_db
from saltanvil.measure.loudness import OFFSET_LUFS, hop_energies, integrated_lufs
from saltanvil.processors import processor_named
from saltanvil.session.apply import apply
from saltanvil.session.blend import shares
from saltanvil.session.document import Match, Session, Step, Strip
from saltanvil.session.edits import Edit
from saltanvil.session.graph import Graph

#: Positions at which the gain of the sum is found; between them it is drawn straight in decibels.
POSITIONS = 41
#: A sum that would need more than this is taken as cancelling; a side that would, as all but silent.
MOST_SUM_DB = 12.0
MOST_MATCH_DB = 40.0
#: A match that moves by less is left as it is.
WORTH_DB = 0.01

Audio = NDArray[np.float32]
Energies = NDArray[np.float64]


def match_of(untreated: Audio, treated: Audio, rate: int) -> Match:
    """The match of two aligned sides over a passage, each (channels, frames), by integrated loudness (BS.1770-5).

    The energy of a mix a u + b t in each 10 ms is a^2 U + 2 a b X + b^2 T, so the three energies (X from the sum of
    the two, by polarisation) tell the gated loudness at every position without rendering it.
    """
    untreated, treated = np.ascontiguousarray(untreated), np.ascontiguousarray(treated)
    u, t = hop_energies(untreated, rate), hop_energies(treated, rate)
    both = hop_energies(untreated + treated, rate)
    cross = 0.5 * (both - u - t)
    own, other = integrated_lufs(u), integrated_lufs(t)
    if not math.isfinite(own):
        return Match(refused="The untreated side is silent in this passage, so there is nothing to match; choose another one.")
    if not math.isfinite(other):
        return Match(refused="The treated side is silent in this passage: a mute, or a gate that stays shut?")
    matched = own - other
    if abs(matched) > MOST_MATCH_DB:
        return Match(refused=f"The two sides lie {abs(matched):.0f} dB apart: too far for a match. Set the lane's level first.")
    scale = 10.0 ** (matched / 20.0)
    gains = []
    for position in np.linspace(0.0, 1.0, POSITIONS):
        a, b = shares("steady", float(position))
        mix = np.maximum(a * a * u + 2.0 * a * b * scale * cross + (b * scale) ** 2 * t, 0.0)
        gain = loudness_gain_db(mix, own)
        if gain is None or gain > MOST_SUM_DB:
            return Match(
                matched_db=matched,
                refused=f"At {100 * position:.0f} % the two sides all but cancel. Turn the polarity of one lane, "
                "or take another law: no match is used.",
            )
        gains.append(round(gain, 4))
    return Match(matched_db=round(matched, 4), gains_db=gains)


def loudness_gain_db(mix: Energies, wanted_lufs: float) -> float | None:
    """The gain that brings energies to a loudness; None for silence. The absolute gate moves with it, hence the rounds."""
    gain = 0.0
    for _ in range(4):
        found = integrated_lufs(mix * 10.0 ** (gain / 10.0))
        if not math.isfinite(found):
            total = float(mix.mean())
            if total <= 0.0:
                return None
            found = OFFSET_LUFS + 10.0 * math.log10(total) + gain
        gain += wanted_lufs - found
        if abs(wanted_lufs - found) < 1e-4:
            break
    return gain


def settled(
    session: Session,
    media: Media,
    cancelled: Callable[[], bool] = lambda: False,
    pool: ThreadPoolExecutor | None = None,
) -> Session:
    """The session with every match that was never measured, found over everything; itself where none is missing."""
    missing = {step.id for _, step in held_steps(session) if step.match is None}
    if not missing:
        return session
    session, cache, end = session.model_copy(deep=True), SegmentCache(), session_frames(session, media)
    matches_of(session, lambda version: ScopeRenderer(version, media, cache, 0, end, cancelled, pool), missing)
    return session


def held_match(found: Compared, step: Step, rate: int) -> Match:
    """The match of an output that is held, from what its step does at present: exact, as its gain comes last."""
    guessed, held = processor_named(step.kind).loudness_gain_db(step.settings), step.loudness_gain_db
    assert guessed is not None and held is not None
    if not found.before.any():
        return Match(
            guessed_db=round(guessed, 4), refused="Nothing enters in this passage, so the gain is a guess; choose another one."
        )
    return Match(matched_db=round(held - match_db(found.before, found.after, rate), 4), guessed_db=round(guessed, 4))


def held_steps(session: Session) -> Iterator[tuple[Strip, Step]]:
    """Every blend under the steady law and every output that is held, those first that others hear."""
    graph = Graph(session)
    for point in graph.order:
        step = graph.steps.get(point.id)
        if point.kind != "step" or step is None or step.bypass:
            continue
        if step.loudness_gain_db is not None or (step.blended and step.split is not None and step.split.law == "steady"):
            yield graph.strip_of[point], step


def matches_of(
    session: Session, renderer: Callable[[Session], ScopeRenderer], only: Container[str] | None = None
) -> dict[str, Match]:
    """The match of every steady blend and held output that does not have it yet, by the step's id.

    renderer: makes one over the passage for a version of the session. The session is changed on the way, as one match
    is heard by the next. only: leaves all others as they are.
    """
    found: dict[str, Match] = {}
    for strip, step in list(held_steps(session)):
        if only is not None and step.id not in only:
            continue
        if step.loudness_gain_db is not None:
            match = held_match(renderer(session).compare(Scope(strip.id, step.id)), step, session.rate_hz)
        else:
            untreated, treated = renderer(session).sides(strip.id, step.id)
            match = match_of(untreated, treated, session.rate_hz)
        if not alike(match, step.match):
            step.match = found[step.id] = match
    return found


def alike(one: Match, other: Match | None) -> bool:
    if other is None or one.refused != other.refused or len(one.gains_db) != len(other.gains_db):
        return False
    pairs = zip(
        [one.matched_db, one.guessed_db, *one.gains_db], [other.matched_db, other.guessed_db, *other.gains_db], strict=True
    )
    return all(abs(a - b) < WORTH_DB for a, b in pairs)


def louder_by_db(session: Session, strip_id: str, edit: Edit, renderer: Callable[[Session], ScopeRenderer]) -> float:
    """How much louder an edit makes a strip over the passage, with its matches found anew. Nothing is kept.

    Raises EditRefused.
    """
    changed, _ = apply(session, edit)
    matches_of(changed, renderer)
    one, other = (renderer(version).compare(Scope(strip_id)).after for version in (session, changed))
    return match_db(one, other, session.rate_hz)


def given_back_db(found: Compared, level_db: float, rate: int) -> float:
    """The level at which a lane leaves as loud as it enters: an aim, found on the passage. found: the lane's scope."""
    return level_db - match_db(found.before, found.after, rate)
