"""Holding the loudness: a blend's two sides matched, an output's gain found.

A match is a function of the document alone: it is measured over the stretch that the step names (the whole song, unless it
says otherwise), as a file would contain it, and carries a fingerprint of all that was heard, so that an edit of anything
else leaves it alone. Matches are found from the sources on, as one is heard by the next.
"""

import math
from collections.abc import Callable, Iterator
from concurrent.futures import Executor
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from saltanvil.engine.audition import RENDERED
from saltanvil.engine.cache import fingerprint, fingerprints
from saltanvil.engine.compile import compile_plan
from saltanvil.engine.media import Media
from saltanvil.engine.nodes.split import PlacedNode, SplitNode
from saltanvil.engine.nodes.step import StepNode
from saltanvil.engine.plan import Plan
from saltanvil.engine.rack import Rack
from saltanvil.engine.render import render_nodes
from saltanvil.engine.structure import LANE_MOVES
from saltanvil.measure.figures import louder_db
from saltanvil.measure.loudness import OFFSET_LUFS, LoudnessMeter, integrated_lufs
from saltanvil.processors import processor_named
from saltanvil.session.apply import apply
from saltanvil.session.blend import shares
from saltanvil.session.document.path import Match, Step, Stretch
from saltanvil.session.document.session import Session, Strip
from saltanvil.session.edits.base import Edit
from saltanvil.session.graph import Graph, NodeId
from saltanvil.session.matches import with_matches
from saltanvil.studies.scope.passage import MeasuredPassage

#: Positions at which the gain of the sum is found; between them it is drawn straight in decibels.
POSITIONS = 41
#: A sum that would need more than this is taken as cancelling; a side that would, as all but silent.
MAX_SUM_DB = 12.0
MAX_MATCH_DB = 40.0
MIN_STRETCH_S = 0.02

Audio = NDArray[np.float32]
Energies = NDArray[np.float64]

SILENT_HERE = "Nothing enters over this stretch, so the gain is a guess; choose another one."


@dataclass(frozen=True)
class Matched:
    """A step whose loudness is held: a steady blend, or an output. key: fingerprint of all that its match depends on.

    start, stop: the frames it is measured over.
    """

    strip: Strip
    step: Step
    start: int
    stop: int
    key: str

    @property
    def current(self) -> bool:
        return self.step.match is not None and self.step.match.key == self.key


def is_matched(step: Step) -> bool:
    """Whether something is measured of a step: the loudness of a blend under the steady law, or of an output that is held."""
    if step.bypassed:
        return False
    if processor_named(step.kind).loudness_gain_db(step.settings) is not None:
        return True
    return step.blended and step.split is not None and step.split.law == "steady"


def matched_steps(session: Session) -> list[tuple[Strip, Step]]:
    """Those first that others depend on."""
    graph = Graph(session)
    steps = [(graph.strip_of[node], graph.steps[node.id]) for node in graph.order if node.kind == "step"]
    return [(strip, step) for strip, step in steps if is_matched(step)]


class Matcher:
    """Says what is out of date and measures it. It keeps compiled processors, so that asking again costs little."""

    def __init__(self, media: Media, pool: Executor | None = None) -> None:
        self.media, self.pool = media, pool
        self._rack = Rack()

    def matches(self, session: Session) -> list[Matched]:
        """Every step whose loudness is held, with the key its match must have, those first that others depend on.

        The key of one behind an outdated one is that for the gain it has now, and changes when that one is measured.
        """
        steps = matched_steps(session)
        if not steps:
            return []
        graph = Graph(session)
        points = [NodeId("step", step.id) for _, step in steps]
        plan = compile_plan(session, self.media, self._rack, RENDERED, points)
        result: list[Matched] = []
        names: dict[tuple[int, int], dict[int, str]] = {}
        for strip, step in steps:
            start, stop = self.span(session, graph, step)
            if (start, stop) not in names:
                names[start, stop] = fingerprints(plan, (start, stop, session.rate_hz))
            result.append(Matched(strip, step, start, stop, key_of(plan, step, names[start, stop])))
        return result

    def span(self, session: Session, graph: Graph, step: Step) -> tuple[int, int]:
        """The frames a step is measured over: its stretch, as far as there is any sound at its input."""
        needed = graph.needed([NodeId("step", step.id)])
        strips = [graph.strip_of[node] for node in needed if node.kind == "in"]
        ends = [
            round(strip.start_s * session.rate_hz) + self.media.frames(strip.media_id)
            for strip in strips
            if strip.media_id is not None
        ]
        end = max([0, *ends])
        start, stop = stretch_frames(session, step.match_over, end)
        return start, max(stop, start + round(MIN_STRETCH_S * session.rate_hz))

    def measure(self, session: Session, result: Matched, cancelled: Callable[[], bool] = lambda: False) -> Match:
        """The match of one step; those it depends on must be up to date. Raises Cancelled."""
        step = result.step
        if step.split is not None:
            match = self._blend(session, step, result, cancelled)
        else:
            match = self._output(session, step, result, cancelled)
        return match.model_copy(update={"key": result.key, "over": step.match_over})

    def _blend(self, session: Session, step: Step, result: Matched, cancelled: Callable[[], bool]) -> Match:
        rate = session.rate_hz
        plan = compile_plan(session, self.media, Rack(), RENDERED, [NodeId("step", step.id)])
        split = plan.nodes[NodeId("step", step.id)]
        assert isinstance(split, SplitNode)
        placed, at = split.placed, result.start
        lanes = [NodeId("lane", lane.id) for lane in step.lanes]
        meters: list[LoudnessMeter] = []
        for blocks in render_nodes(session, self.media, lanes, result.start, result.stop, cancelled, self.pool):
            u, t = (
                np.asarray(block * np.float32(node.level)) if node.moving is None else node.leaving(block, at)
                for block, node in zip(blocks, placed, strict=True)
            )
            at += blocks[0].shape[1]
            if not meters:
                meters = [LoudnessMeter(rate, len(u)) for _ in range(3)]
            for meter, x in zip(meters, (u, t, u + t), strict=True):
                meter.add(np.ascontiguousarray(x))
        return match_of_energies(*(np.array(meter.energies) for meter in meters))

    def _output(self, session: Session, step: Step, result: Matched, cancelled: Callable[[], bool]) -> Match:
        # Measured at the guessed gain, whatever gain it has now: the result must not depend on what it was before.
        guessed = processor_named(step.kind).loudness_gain_db(step.settings)
        assert guessed is not None
        session = session.model_copy(deep=True)
        session.step(step.id).step.match = None
        graph = Graph(session)
        nodes = [graph.enters[step.id], NodeId("step", step.id)]
        meters: list[LoudnessMeter] = []
        for blocks in render_nodes(session, self.media, nodes, result.start, result.stop, cancelled, self.pool):
            if not meters:
                meters = [LoudnessMeter(session.rate_hz, len(block)) for block in blocks]
            for meter, x in zip(meters, blocks, strict=True):
                meter.add(x)
        before, after = (np.array(meter.energies) for meter in meters)
        target = integrated_lufs(before)
        if not math.isfinite(target) and before.any():  # below the gate, or too short for it: by the ungated energy
            target = OFFSET_LUFS + 10.0 * math.log10(float(before.mean()))
        gain = loudness_gain_db(after, target) if math.isfinite(target) else None
        if gain is None:
            return Match(guessed_db=round(guessed, 4), refused=SILENT_HERE)
        return Match(matched_db=round(min(max(guessed + gain, -120.0), 120.0), 4), guessed_db=round(guessed, 4))


def stretch_frames(session: Session, over: Stretch, end: int) -> tuple[int, int]:
    """First and last frame of a stretch; end: that of the whole song."""
    if over.section_id is not None:
        section = next(section for section in session.sections if section.id == over.section_id)
        bounds = section.start_s, section.end_s
    elif over.start_s is not None and over.end_s is not None:
        bounds = over.start_s, over.end_s
    else:
        return 0, end
    start, stop = (round(seconds * session.rate_hz) for seconds in bounds)
    return start, stop


def key_of(plan: Plan, step: Step, names: dict[int, str]) -> str:
    """The fingerprint of all that a match depends on. names: of the plan's nodes, for the step's stretch."""
    node = plan.nodes[NodeId("step", step.id)]
    assert isinstance(node, StepNode)
    if isinstance(node, SplitNode):
        sides = [
            (names[id(lane)], placed.level, level_courses(placed)) for lane, placed in zip(node.lanes, node.placed, strict=True)
        ]
        return fingerprint("blend", sides)
    sources = [names[id(source)] for source in node.sources]
    settings = node.processor.with_loudness_gain(node.settings, 0.0)
    moves = None if node.moving is None else node.moving.cache_key()
    return fingerprint("output", sources, step.kind, settings.model_dump_json(), moves, node.heard_key())


def level_courses(placed: PlacedNode) -> list[object]:
    """What tells the course of a lane's own level apart; where the blend stands makes no difference to its match."""
    courses = {} if placed.moving is None else placed.moving.courses
    return [(name, courses[name].fingerprint()) for name in LANE_MOVES if name in courses]


def outdated(session: Session, matcher: Matcher) -> Iterator[Matched]:
    """Those whose match is to be measured, the first of them sure, the ones behind it perhaps."""
    return (result for result in matcher.matches(session) if not result.current)


def adopted(session: Session, matcher: Matcher) -> dict[str, Match]:
    """Matches that an earlier version measured, by step: kept for the session as it is now, until what they heard is edited."""
    return {
        result.step.id: result.step.match.model_copy(update={"key": result.key})
        for result in matcher.matches(session)
        if result.step.match is not None and not result.step.match.key
    }


def with_current_matches(
    session: Session,
    media: Media,
    cancelled: Callable[[], bool] = lambda: False,
    pool: Executor | None = None,
    progress: Callable[[float], None] = lambda share: None,
    point: NodeId | None = None,
) -> Session:
    """The session with every match up to date, or with those that a point's sound depends on; itself where all are. Raises
    Cancelled."""
    matcher = Matcher(media, pool)
    needed = None if point is None else {node.id for node in Graph(session).needed([point]) if node.kind == "step"}
    adopting = adopted(session, matcher)
    if adopting:
        session = with_matches(session, adopting)
    for done in range(2 * len(matched_steps(session)) + 1):
        result = next((one for one in outdated(session, matcher) if needed is None or one.step.id in needed), None)
        if result is None:
            break
        session = with_matches(session, {result.step.id: matcher.measure(session, result, cancelled)})
        progress((done + 1) / (done + 2))
    return session


def match_of_energies(u: Energies, t: Energies, both: Energies) -> Match:
    """The match of two aligned sides, from the energy of each 10 ms of the untreated one, the treated one, and their sum.

    By integrated loudness (BS.1770-5). The energy of a mix a u + b t in each 10 ms is a^2 U + 2 a b X + b^2 T, so the
    three energies (X from the sum of the two, by polarisation) tell the gated loudness at every position without
    rendering it.
    """
    cross = 0.5 * (both - u - t)
    own, other = integrated_lufs(u), integrated_lufs(t)
    if not math.isfinite(own):
        return Match(refused="The untreated side is silent over this stretch, so there is nothing to match; choose another one.")
    if not math.isfinite(other):
        return Match(refused="The treated side is silent over this stretch: a mute, or a gate that stays shut?")
    matched = own - other
    if abs(matched) > MAX_MATCH_DB:
        return Match(refused=f"The two sides lie {abs(matched):.0f} dB apart: too far for a match. Set the lane's level first.")
    scale = 10.0 ** (matched / 20.0)
    gains = []
    for position in np.linspace(0.0, 1.0, POSITIONS):
        a, b = shares("steady", float(position))
        mix = np.maximum(a * a * u + 2.0 * a * b * scale * cross + (b * scale) ** 2 * t, 0.0)
        gain = loudness_gain_db(mix, own)
        if gain is None or gain > MAX_SUM_DB:
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
        result = integrated_lufs(mix * 10.0 ** (gain / 10.0))
        if not math.isfinite(result):
            total = float(mix.mean())
            if total <= 0.0:
                return None
            result = OFFSET_LUFS + 10.0 * math.log10(total) + gain
        gain += wanted_lufs - result
        if abs(wanted_lufs - result) < 1e-4:
            break
    return gain


def louder_by_db(
    session: Session,
    strip_id: str,
    edit: Edit,
    media: Media,
    start: int,
    stop: int,
    cancelled: Callable[[], bool] = lambda: False,
    pool: Executor | None = None,
) -> float:
    """How much louder an edit makes a strip over frames start..stop, with its matches found anew. Nothing is kept.

    Raises EditRefused, Cancelled.
    """
    changed = with_current_matches(apply(session, edit), media, cancelled, pool, point=NodeId("end", strip_id))
    energies = (strip_energies(version, strip_id, media, start, stop, cancelled, pool) for version in (session, changed))
    return louder_db(*energies)


def strip_energies(
    session: Session,
    strip_id: str,
    media: Media,
    start: int,
    stop: int,
    cancelled: Callable[[], bool] = lambda: False,
    pool: Executor | None = None,
) -> NDArray[np.float64]:
    """Weighted energies of what leaves a strip's path over frames start..stop, for its loudness. Raises Cancelled."""
    meter: LoudnessMeter | None = None
    for (block,) in render_nodes(session, media, [NodeId("end", strip_id)], start, stop, cancelled, pool):
        meter = meter or LoudnessMeter(session.rate_hz, len(block))
        meter.add(block)
    return np.array([] if meter is None else meter.energies)


def make_up_level_db(result: MeasuredPassage, level_db: float) -> float:
    """The level at which a lane leaves as loud as it enters. result: of the lane's scope; level_db: its present level."""
    return level_db - result.louder_db
