"""The course of a setting over the session: what an envelope says at any time, its faces, and how a hand's moves are thinned.

    value |      o------o            hold      the value stays until the next point
          |     /        `.          linear    straight, on the setting's own scale
          |  o-'           `--o      curve     bent: early or late
          +----------------------> session time

Section values are points too: the value stays over a section, and a ramp centred on each border leads to the next.
"""

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from saltanvil.processors.descriptor import Descriptor
from saltanvil.session.document.automation import Breakpoint, Envelope, PointShape
from saltanvil.session.document.session import Section

Values = NDArray[np.float64]
#: How strongly a curve is bent at most: its first half covers 1 - 1/(1 + e^4) of the way.
MAX_BEND = 8.0
#: Points that lie nearer to each other than this are at one place: a jump.
SAME_S = 1e-9
#: Bends that are tried for a recorded move.
BENDS = np.round(np.linspace(-1.0, 1.0, 41), 2)
#: Straight pieces that stand for a curve where it is drawn.
PIECES = 24


@dataclass(frozen=True)
class Scale:
    """A setting's own scale and its limits; on it values are interpolated and levers add."""

    low: float
    high: float
    log: bool = False

    @classmethod
    def of(cls, setting: Descriptor) -> "Scale":
        """A switch goes from 0 to 1."""
        if setting.minimum is None or setting.maximum is None:
            return cls(0.0, 1.0)
        return cls(setting.minimum, setting.maximum, setting.scale == "log" and setting.minimum > 0.0)

    def to_place(self, value: Values) -> Values:
        return np.log(np.maximum(value, 1e-12)) if self.log else value

    def to_value(self, place: Values) -> Values:
        return np.exp(place) if self.log else place

    def clamp(self, value: float) -> float:
        return min(max(value, self.low), self.high)

    def moved(self, value: float, by: float, share: float = 1.0) -> float:
        """A value moved by a distance (a factor on a logarithmic scale), or by a share of it; not held to the limits."""
        return value * by**share if self.log else value + by * share

    def distance(self, before: float, after: float) -> float:
        """What `moved` takes to come from one value to the other."""
        return after / before if self.log else after - before

    @property
    def nothing(self) -> float:
        """The distance that moves nothing."""
        return 1.0 if self.log else 0.0


def apply_curve(share: Values, bend: Values | float) -> Values:
    """A way from 0 to 1 with its ends where they were: an exponential, straight where bend is 0, early where it is above."""
    strength = np.asarray(-MAX_BEND * np.asarray(bend, np.float64))
    safe = np.where(np.abs(strength) < 1e-6, 1.0, strength)
    return np.where(np.abs(strength) < 1e-6, share, np.expm1(safe * share) / np.expm1(safe))


class Course:
    """A value for every time. breaks_s: times at which it turns or jumps, in order."""

    breaks_s: Values

    def at(self, times_s: Values) -> Values:
        """(n,) values for (n,) session times in seconds; before the first point and after the last it stays."""
        raise NotImplementedError

    def value(self, at_s: float) -> float:
        return float(self.at(np.array([at_s]))[0])

    def line(self) -> tuple[Values, Values]:
        """Times and values of a line that is straight on the setting's scale, to be drawn; a jump is two points at one time."""
        raise NotImplementedError

    def extent(self, start_s: float, end_s: float) -> tuple[float, float]:
        """The least and the largest value from start_s up to end_s."""
        times, _ = self.line()
        inside = times[(times > start_s) & (times < end_s)]
        just_before = np.maximum(inside - 1e-6, start_s)
        values = self.at(np.concatenate([[start_s, max(start_s, end_s - 1e-6)], inside, just_before]))
        return float(values.min()), float(values.max())

    def fingerprint(self) -> tuple[object, ...]:
        raise NotImplementedError


class PointCourse(Course):
    """Through points. Values are held to the setting's limits."""

    def __init__(self, points: Sequence[Breakpoint], scale: Scale) -> None:
        assert points
        self.scale = scale
        self.breaks_s = np.array([point.at_s for point in points])
        self.values = np.clip(np.array([point.value for point in points]), scale.low, scale.high)
        self.shapes: list[PointShape] = [point.shape for point in points]
        self._hold = np.array([point.shape == "hold" for point in points])
        self._bend = np.array([point.bend if point.shape == "curve" else 0.0 for point in points])
        self._places = scale.to_place(self.values)

    def at(self, times_s: Values) -> Values:
        after = np.searchsorted(self.breaks_s, times_s, side="right")
        one = np.clip(after - 1, 0, len(self.values) - 1)
        other = np.clip(after, 0, len(self.values) - 1)
        one = np.where(after == 0, 0, one)
        flat = (one == other) | (after == 0) | self._hold[one] | (self.values[one] == self.values[other])
        if flat.all():
            return np.asarray(self.values[one])
        length = np.maximum(self.breaks_s[other] - self.breaks_s[one], SAME_S)
        share = apply_curve(np.clip((times_s - self.breaks_s[one]) / length, 0.0, 1.0), self._bend[one])
        places = self._places[one] + (self._places[other] - self._places[one]) * share
        return np.where(flat, self.values[one], np.clip(self.scale.to_value(places), self.scale.low, self.scale.high))

    def line(self) -> tuple[Values, Values]:
        times: list[float] = []
        values: list[float] = []
        for index, (at_s, value) in enumerate(zip(self.breaks_s.tolist(), self.values.tolist(), strict=True)):
            times.append(at_s)
            values.append(value)
            if index + 1 == len(self.values):
                break
            next_s = float(self.breaks_s[index + 1])
            if self._hold[index] and next_s > at_s:
                times.append(next_s)
                values.append(value)
            elif self._bend[index]:
                between = np.linspace(at_s, next_s, PIECES + 1)[1:-1]
                times += between.tolist()
                values += self.at(between).tolist()
        return np.array(times), np.array(values)

    def fingerprint(self) -> tuple[object, ...]:
        return ("points", self.breaks_s.tolist(), self.values.tolist(), self.shapes, self._bend.tolist())


class MovedCourse(Course):
    """A value moved by levers of which at least one moves itself. parts: each lever's course or present value, how far it moves
    the setting, and how that way is bent."""

    def __init__(self, base: float, parts: Sequence[tuple[Course | float, float, float]], scale: Scale) -> None:
        self.base, self.parts, self.scale = base, list(parts), scale
        moving = [part for part, _, _ in parts if isinstance(part, Course)]
        self.breaks_s = np.unique(np.concatenate([course.breaks_s for course in moving]))

    def at(self, times_s: Values) -> Values:
        places = np.full(len(times_s), float(self.scale.to_place(np.array([self.base]))[0]))
        still = np.ones(len(times_s), bool)
        for part, by, bend in self.parts:
            value = part.at(times_s) if isinstance(part, Course) else np.full(len(times_s), part)
            share = apply_curve(value, bend)
            still &= share == 0.0
            places += share * (math.log(by) if self.scale.log else by)
        return np.where(still, self.base, np.clip(self.scale.to_value(places), self.scale.low, self.scale.high))

    def line(self) -> tuple[Values, Values]:
        """Where a lever's way is bent, or several add, the line is drawn in pieces; jumps stay jumps."""
        times: list[float] = []
        values: list[float] = []
        for start, end in zip(self.breaks_s.tolist(), [*self.breaks_s[1:].tolist(), None], strict=True):
            if end is None:
                times.append(start)
                values.append(self.value(start))
                break
            between = np.linspace(start, end, PIECES + 1)
            between[-1] -= min(1e-6, (end - start) / 2)
            times += [*between[:-1].tolist(), end]
            values += self.at(between).tolist()
        return np.array(times), np.array(values)

    def fingerprint(self) -> tuple[object, ...]:
        parts = [(part.fingerprint() if isinstance(part, Course) else part, by, bend) for part, by, bend in self.parts]
        return ("moved", self.base, parts)


# ---- the two faces ---------------------------------------------------------------------------------------------------------


def section_points(envelope: Envelope, base: float, sections: Sequence[Section], beat_s: float) -> list[Breakpoint]:
    """The breakpoints that section values amount to. base: the value outside of sections; values of sections that are not there
    do not count. Where sections lie over each other the one that begins last holds. A ramp takes at most half of what lies on
    either side of its border."""
    edges = sorted({0.0, *(section.start_s for section in sections), *(section.end_s for section in sections)})
    spans: list[tuple[float, float]] = []
    for edge in edges:
        inside = [section for section in sections if section.start_s <= edge < section.end_s]
        section = max(inside, key=lambda one: one.start_s, default=None)
        value = base if section is None else envelope.sections.get(section.id, base)
        if not spans or spans[-1][1] != value:
            spans.append((edge, value))
    points = [Breakpoint(id="s0", at_s=0.0, value=spans[0][1])]
    half = envelope.ramp_beats * beat_s / 2.0
    for index, ((border, value), (_, before)) in enumerate(zip(spans[1:], spans, strict=False)):
        left = (border - spans[index][0]) / (1.0 if index == 0 else 2.0)
        right = (spans[index + 2][0] - border) / 2.0 if index + 2 < len(spans) else math.inf
        start, end = border - min(half, left), border + min(half, right)
        if end - start <= SAME_S:
            start = end = border
        if start <= points[-1].at_s + SAME_S:
            points[-1] = points[-1].model_copy(update={"shape": "linear"})
        else:
            points[-1] = points[-1].model_copy(update={"shape": "hold"})
            points.append(Breakpoint(id=f"s{2 * index + 1}", at_s=start, value=before, shape="linear"))
        points.append(Breakpoint(id=f"s{2 * index + 2}", at_s=end, value=value))
    return points


def course_of(envelope: Envelope, base: float, scale: Scale, sections: Sequence[Section], beat_s: float) -> Course | None:
    """What an envelope says; None if it says nothing."""
    points = section_points(envelope, base, sections, beat_s) if envelope.sections else envelope.points
    return PointCourse(points, scale) if points else None


def as_points(envelope: Envelope, base: float, sections: Sequence[Section], beat_s: float, new_id: Callable[[], str]) -> Envelope:
    """Section values as breakpoints that sound alike."""
    points = [
        point.model_copy(update={"id": new_id()}) for point in section_points(envelope, base, sections, beat_s)
    ]  # fmt: skip
    return Envelope(points=points, ramp_beats=envelope.ramp_beats, bypass=envelope.bypass)


def as_sections(envelope: Envelope, course: Course, scale: Scale, sections: Sequence[Section]) -> Envelope:
    """One value a section: the mean of the course over it, on the setting's scale."""
    values = {}
    for section in sections:
        times = np.linspace(section.start_s, section.end_s, 513)[:-1] + (section.end_s - section.start_s) / 1024.0
        mean = scale.to_value(np.array([scale.to_place(course.at(times)).mean()]))[0]
        values[section.id] = float(f"{scale.clamp(float(mean)):.6g}")
    return Envelope(sections=values, ramp_beats=envelope.ramp_beats, bypass=envelope.bypass)


# ---- changing --------------------------------------------------------------------------------------------------------------


def shifted(envelope: Envelope, by: float, scale: Scale) -> Envelope:
    """The whole of it moved by a distance on the scale, as far as all of its values can go."""
    values = [*envelope.sections.values(), *(point.value for point in envelope.points)]
    if scale.log:
        by = min(max(by, *(scale.low / value for value in values)), *(scale.high / value for value in values)) if values else by
    elif values:
        by = min(max(by, *(scale.low - value for value in values)), *(scale.high - value for value in values))

    def moved(value: float) -> float:
        return scale.clamp(float(f"{scale.moved(value, by):.9g}"))

    points = [point.model_copy(update={"value": moved(point.value)}) for point in envelope.points]
    sections = {name: moved(value) for name, value in envelope.sections.items()}
    return envelope.model_copy(update={"points": points, "sections": sections})


def thinned(
    samples: Sequence[tuple[float, float]], tolerance: float, within: tuple[float, float] = (-math.inf, math.inf)
) -> list[tuple[float, float]]:
    """Few points (time, place on the scale) whose straight lines stay within the tolerance of all samples, and within the limits
    that all samples keep.

    Each line is drawn on from where the last one ended, for as long as one slope serves all samples since then; so it need not go
    through samples, which stand on the steps of pixels and frames. Known as the swing filter: Elmeleegy et al. (2009), "Online
    piece-wise linear approximation of numerical streams with precision guarantees", section 3. Samples at one time are a jump.
    """
    result = list(samples[:1])
    if not result:
        return result
    start_s, start = last_s, last = samples[0]
    low, high = -math.inf, math.inf

    def slopes(place: float, length: float) -> tuple[float, float]:
        return (max(place - tolerance, within[0]) - start) / length, (min(place + tolerance, within[1]) - start) / length

    def end() -> tuple[float, float]:
        """The line so far, by the slope that comes nearest to its last sample."""
        length = last_s - start_s
        return last_s, start + min(max((last - start) / length, low), high) * length

    for at_s, place in samples[1:]:
        length, beside = at_s - start_s, at_s - last_s <= SAME_S
        if length > SAME_S:
            least, most = slopes(place, length)
            jumps = beside and (abs(place - last) > tolerance or max(low, least) > min(high, most))
        else:
            least, most = -math.inf, math.inf
            jumps = abs(place - start) > tolerance
        if jumps:
            if last_s - start_s > SAME_S:
                result.append(end())
            result.append((at_s, place))
            start_s, start, low, high = at_s, place, -math.inf, math.inf
        elif max(low, least) > min(high, most):
            start_s, start = end()
            result.append((start_s, start))
            low, high = slopes(place, at_s - start_s)
        else:
            low, high = max(low, least), min(high, most)
        last_s, last = at_s, place
    if last_s - start_s > SAME_S:
        result.append(end())
    return result


def curved(
    points: Sequence[tuple[float, float]], samples: Sequence[tuple[float, float]], tolerance: float
) -> list[tuple[float, float, float]]:
    """Points of lines, and the bend of the way from each to the next: where one bent way serves for several lines, the points
    between go. All samples between two points stay within the tolerance; jumps stay."""
    times, places = np.array(samples, np.float64).reshape(-1, 2).T
    result: list[tuple[float, float, float]] = []
    at = 0
    while at + 1 < len(points):
        best, bend = at + 1, 0.0
        for end in range(at + 2, len(points)):
            if min(np.diff([point[0] for point in points[at : end + 1]])) <= SAME_S:
                break  # a jump
            fitted = fitting_bend(points[at], points[end], times, places, tolerance)
            if fitted is None:
                break
            best, bend = end, fitted
        result.append((*points[at], bend))
        at = best
    return [*result, *((at_s, place, 0.0) for at_s, place in points[-1:])]


def fitting_bend(
    start: tuple[float, float], end: tuple[float, float], times: Values, places: Values, tolerance: float
) -> float | None:
    """The bend of BENDS whose way comes nearest to the samples between two points; None if none stays within the tolerance."""
    first, last = np.searchsorted(times, [start[0] + SAME_S, end[0] - SAME_S])
    share = (times[first:last] - start[0]) / (end[0] - start[0])
    ways = start[1] + (end[1] - start[1]) * apply_curve(share[None, :], BENDS[:, None])
    off = np.abs(ways - places[None, first:last]).max(axis=1, initial=0.0)
    best = int(off.argmin())
    return float(BENDS[best]) if off[best] <= tolerance else None


def replaced(points: Sequence[Breakpoint], put: Mapping[str, Breakpoint], remove: Sequence[str]) -> list[Breakpoint]:
    """The points without some and with others in their places or added, in order of time; of two at one time the one that was
    there first stays first."""
    gone = set(remove)
    result = [put.get(point.id, point) for point in points if point.id not in gone]
    known = {point.id for point in points}
    result += [point for name, point in put.items() if name not in known and name not in gone]
    return sorted(result, key=lambda point: point.at_s)
