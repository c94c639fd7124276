"""Edits of envelopes: drawn, typed, given by section, moved as a whole, recorded by hand.

Edits name single points and sections, so that two tabs that draw the same envelope lose nothing of each other.
"""

from collections.abc import Callable, Sequence
from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from saltanvil.session.address import Address, Moved, descriptor, owner_of, value
from saltanvil.session.automation import automated, automation_refusal, beat_s, scale_of, switched
from saltanvil.session.document.automation import MAX_POINT_S, MAX_POINTS, Breakpoint, Envelope, Owner, SettingName
from saltanvil.session.document.base import Id
from saltanvil.session.document.session import Session
from saltanvil.session.edits.base import Batch, Edit, EditRefused
from saltanvil.session.edits.copies import Seed, names_from
from saltanvil.session.edits.values import Set
from saltanvil.session.envelopes import (
    Course,
    PointCourse,
    Scale,
    as_points,
    as_sections,
    course_of,
    curved,
    replaced,
    shifted,
    thinned,
)

#: Values that a hand writes in one go: ten minutes at thirty a second.
MAX_SAMPLES = 20_000
#: By how much a thinned recording may differ from the moves, as a share of the setting's scale.
TOLERANCE = 0.01
#: At so many times the course of a stretch is looked at that is thinned, and between two of its points.
SAMPLES_THINNED, SAMPLES_BETWEEN = 1000, 16
#: How long what is recorded takes to come back to what was there before, in seconds.
GLIDE_S = 0.2

Time = Annotated[float, Field(ge=0.0, le=MAX_POINT_S)]


class EnvelopeEdit(Edit):
    """An edit of one value's envelope."""

    of: Owner
    id: Id | None = None
    name: SettingName

    @property
    def address(self) -> Address:
        return Address(of=self.of, id=self.id, name=self.name)

    def before(self, session: Session) -> Envelope | None:
        """What is there. Raises NotFound, and EditRefused if the value cannot move over time."""
        refusal = automation_refusal(session, self.address)
        if refusal is not None:
            raise EditRefused(refusal)
        return automated(session, self.address).envelopes.get(self.name)

    def put(self, session: Session, envelope: Envelope | None) -> None:
        """Give the value that envelope."""
        owner = automated(session, self.address)
        rest = {name: envelope for name, envelope in owner.envelopes.items() if name != self.name}
        owner.envelopes = rest if envelope is None else {**rest, self.name: envelope}

    def checked_value(self, session: Session, number: float) -> float:
        """A value within the setting's limits, as it is stored. Raises EditRefused."""
        if switched(self.address):
            if number not in (0.0, 1.0):
                raise EditRefused(f"{descriptor(session, self.address).label} is on (1) or off (0)")
            return number
        setting, scale = descriptor(session, self.address), scale_of(session, self.address)
        if not scale.low <= number <= scale.high:
            raise EditRefused(f"{setting.label} goes from {scale.low:g} to {scale.high:g} {setting.unit}".rstrip())
        return number

    def checked_point(self, session: Session, point: Breakpoint) -> Breakpoint:
        self.checked_value(session, point.value)
        return point.model_copy(update={"shape": "hold", "bend": 0.0}) if switched(self.address) else point

    def base(self, session: Session) -> float:
        return float(value(session, self.address))  # type: ignore[arg-type]

    def course(self, session: Session, envelope: Envelope | None) -> Course:
        """Of an envelope, or where there is none, of the document's value."""
        base, scale = self.base(session), scale_of(session, self.address)
        result = None if envelope is None else course_of(envelope, base, scale, session.sections, beat_s(session))
        return result or PointCourse([Breakpoint(id="base", at_s=0.0, value=base)], scale)


class SetEnvelope(EnvelopeEdit):
    """The whole of an envelope; null takes it away."""

    op: Literal["set_envelope"] = "set_envelope"
    envelope: Envelope | None

    def change(self, session: Session) -> None:
        self.before(session)
        if self.envelope is not None:
            for point in self.envelope.points:
                self.checked_value(session, point.value)
            for number in self.envelope.sections.values():
                self.checked_value(session, number)
        self.put(session, self.envelope)


class ChangeEnvelope(EnvelopeEdit):
    """Points put or removed, values of sections, the ramp between them, the bypass. What is not given stays; an envelope that is
    not there is made.

    clear: a stretch of time from which points are taken before others are put. sections: null takes a section's value away.
    """

    op: Literal["change_envelope"] = "change_envelope"
    put_points: list[Breakpoint] = Field(default_factory=list, max_length=MAX_POINTS)
    remove: list[Id] = Field(default_factory=list, max_length=MAX_POINTS)
    clear: tuple[Time, Time] | None = None
    sections: dict[Id, float | None] = Field(default_factory=dict)
    ramp_beats: float | None = Field(default=None, ge=0.0, le=64.0)
    bypass: bool | None = None

    @property
    def targets(self) -> frozenset[object]:
        points = {("point", point.id) for point in self.put_points} | {("point", name) for name in self.remove}
        sections = {("section", name) for name in self.sections}
        others = {("ramp", self.ramp_beats is None), ("bypass", self.bypass is None), ("clear", self.clear is None)}
        return frozenset({self.address, *points, *sections, *others})

    def change(self, session: Session) -> None:
        envelope = self.before(session) or Envelope()
        points, sections = envelope.points, dict(envelope.sections)
        if self.clear is not None:
            start, end = self.clear
            points = [point for point in points if not start <= point.at_s <= end]
        if self.put_points or self.remove:
            put = {point.id: self.checked_point(session, point) for point in self.put_points}
            points = replaced(points, put, self.remove)
        known = {section.id for section in session.sections}
        for name, number in self.sections.items():
            if number is None:
                sections.pop(name, None)
            elif name not in known:
                raise EditRefused("there is no such section; it may have been removed")
            else:
                sections[name] = self.checked_value(session, number)
        if points and sections:
            raise EditRefused("this setting has a value for each section; turn them into points to draw between them")
        changed = Envelope(
            points=points,
            sections=sections,
            ramp_beats=envelope.ramp_beats if self.ramp_beats is None else self.ramp_beats,
            bypass=envelope.bypass if self.bypass is None else self.bypass,
        )
        self.put(session, changed if points or sections else None)


class ShiftEnvelope(EnvelopeEdit):
    """The whole of an envelope moved, as far as all of it can go. by: in the setting's unit, or on a
    logarithmic scale a factor."""

    op: Literal["shift_envelope"] = "shift_envelope"
    by: float

    @property
    def targets(self) -> frozenset[object]:
        return frozenset({self.address})

    def change(self, session: Session) -> None:
        envelope, scale = self.before(session), scale_of(session, self.address)
        if envelope is None:
            raise EditRefused("there is no envelope to be moved; it may have been removed")
        if switched(self.address) or (scale.log and self.by <= 0.0):
            raise EditRefused("this cannot be moved by that much")
        self.put(session, shifted(envelope, self.by, scale))


class TurnEnvelope(EnvelopeEdit):
    """The other face: section values as points that sound alike, or points as each section's mean."""

    op: Literal["turn_envelope"] = "turn_envelope"
    to: Literal["points", "sections"]
    seed: Seed

    def change(self, session: Session) -> None:
        envelope = self.before(session)
        if not session.sections:
            raise EditRefused("there are no sections; make some on the timeline first")
        course = self.course(session, envelope)
        envelope = envelope or Envelope()
        if self.to == "sections":
            changed = as_sections(envelope, course, scale_of(session, self.address), session.sections)
            if switched(self.address):
                changed.sections = {name: float(round(number)) for name, number in changed.sections.items()}
            self.put(session, changed)
            return
        names = names_from(self.seed)
        turned = as_points(envelope, self.base(session), session.sections, beat_s(session), lambda: next(names))
        self.put(session, turned if envelope.sections else envelope)


class MoveRange(EnvelopeEdit):
    """The points of a stretch of time moved in time and value, scaled about their mean, or copied.

    by_s: later by so much; by: further by so much, on a logarithmic scale times; scale: of their distances from their mean.
    What lay where they come to is replaced.
    """

    op: Literal["move_range"] = "move_range"
    start_s: Time
    end_s: Time
    by_s: float = 0.0
    by: float | None = None
    scale: float = Field(default=1.0, ge=-20.0, le=20.0)
    copy_points: bool = False
    seed: Seed

    @property
    def targets(self) -> frozenset[object]:
        return frozenset({self.address, (self.start_s, self.end_s, self.copy_points)})

    def change(self, session: Session) -> None:
        envelope, scale = self.before(session), scale_of(session, self.address)
        chosen = [] if envelope is None else [point for point in envelope.points if self.start_s <= point.at_s <= self.end_s]
        if envelope is None or not chosen:
            raise EditRefused("there are no points in that stretch")
        if chosen[0].at_s + self.by_s < 0.0:
            raise EditRefused("the points would lie before the session begins")
        by = scale.nothing if self.by is None else self.by
        if scale.log and by <= 0.0:
            raise EditRefused("on this scale values are moved by a factor above 0")
        places = scale.to_place(np.array([point.value for point in chosen]))
        places = places.mean() + (places - places.mean()) * self.scale
        names = names_from(self.seed)
        moved = [
            point.model_copy(
                update={
                    "id": next(names) if self.copy_points else point.id,
                    "at_s": point.at_s + self.by_s,
                    "value": scale.clamp(float(f"{scale.moved(float(number), by):.9g}")),
                }
            )
            for point, number in zip(chosen, scale.to_value(places), strict=True)
        ]
        gone = {point.id for point in chosen} if not self.copy_points else set()
        gone |= {point.id for point in envelope.points if moved[0].at_s <= point.at_s <= moved[-1].at_s and point not in chosen}
        left = [point for point in envelope.points if point.id not in gone]
        points = sorted([*left, *moved], key=lambda point: point.at_s)
        self.put(session, envelope.model_copy(update={"points": points}))


class ThinRange(EnvelopeEdit):
    """The points of a stretch as the fewest that stay within a tolerance of its course. tolerance: as a share of the setting's
    scale. Where no fewer would do, nothing changes."""

    op: Literal["thin_range"] = "thin_range"
    start_s: Time
    end_s: Time
    tolerance: float = Field(default=TOLERANCE, ge=0.0, le=0.2)
    seed: Seed

    def change(self, session: Session) -> None:
        envelope, scale = self.before(session), scale_of(session, self.address)
        chosen = [] if envelope is None else [point for point in envelope.points if self.start_s <= point.at_s <= self.end_s]
        if envelope is None or not chosen:
            raise EditRefused("there are no points in that stretch")
        course, names = self.course(session, envelope), names_from(self.seed)
        # Just before a point too, where the course may jump.
        times = {time for point in chosen for time in (max(point.at_s - 1e-6, chosen[0].at_s), point.at_s)}
        times |= set(np.linspace(chosen[0].at_s, chosen[-1].at_s, SAMPLES_THINNED).tolist())
        places = np.array([point.at_s for point in chosen])
        within = np.linspace(places[:-1], places[1:], SAMPLES_BETWEEN).ravel()  # short ways are looked at as closely as long ones
        at = np.unique(np.concatenate([np.array(sorted(times)), within]))
        samples = list(zip(at.tolist(), course.at(at).tolist(), strict=True))
        thin = recorded(samples, scale, self.tolerance, switched(self.address), lambda: next(names))
        if len(thin) >= len(chosen):
            return
        thin[-1] = thin[-1].model_copy(update={"shape": chosen[-1].shape, "bend": chosen[-1].bend})
        left = [point for point in envelope.points if point not in chosen]
        points = sorted([*left, *thin], key=lambda point: point.at_s)
        self.put(session, envelope.model_copy(update={"points": points}))


class RecordEnvelope(EnvelopeEdit):
    """What a hand did while the song played, thinned to the fewest points within a tolerance; it replaces what lay there.

    samples: session time in seconds and value, in order of time. tolerance: as a share of the setting's scale. glide_s: how
    long the value takes to come back to what was there before; 0 jumps. Section values become points first.
    """

    op: Literal["record_envelope"] = "record_envelope"
    samples: list[tuple[Time, float]] = Field(min_length=1, max_length=MAX_SAMPLES)
    tolerance: float = Field(default=TOLERANCE, ge=0.0, le=0.2)
    glide_s: float = Field(default=GLIDE_S, ge=0.0, le=10.0)
    seed: Seed

    def change(self, session: Session) -> None:
        envelope, scale = self.before(session), scale_of(session, self.address)
        course, names = self.course(session, envelope), names_from(self.seed)
        if any(after[0] < before[0] for before, after in zip(self.samples, self.samples[1:], strict=False)):
            raise EditRefused("what was recorded does not stand in order of time")
        if envelope is not None and envelope.sections:
            envelope = as_points(envelope, self.base(session), session.sections, beat_s(session), lambda: next(names))
        elif envelope is None or not envelope.points:
            envelope = Envelope(points=[Breakpoint(id=next(names), at_s=0.0, value=self.base(session))])
        start, end = self.samples[0][0], self.samples[-1][0]
        new = recorded(self.samples, scale, self.tolerance, switched(self.address), lambda: next(names))
        back = end + self.glide_s
        hold = switched(self.address)
        # On either side the value is what it was: just before the first move, and when it has come back.
        entering = Breakpoint(id=next(names), at_s=start, value=course.value(max(start - 1e-6, 0.0)), shape="hold")
        returned = Breakpoint(id=next(names), at_s=back, value=course.value(back), shape=shape_at(envelope, back))
        new[-1] = new[-1].model_copy(update={"shape": "hold" if hold or not self.glide_s else "linear"})
        before = [point for point in envelope.points if point.at_s < start]
        after = [point for point in envelope.points if point.at_s > back]
        points = [*before, *([entering] if start > 0.0 else []), *new, returned, *after]
        if len(points) > MAX_POINTS:
            raise EditRefused(f"an envelope has at most {MAX_POINTS} points; record a shorter stretch or with more tolerance")
        self.put(session, envelope.model_copy(update={"points": points}))


def recorded(
    samples: list[tuple[float, float]], scale: Scale, tolerance: float, hold: bool, new_id: Callable[[], str]
) -> list[Breakpoint]:
    """Samples as points. hold: of a switch: a point wherever it changes."""
    if hold:
        kept = [one for one, before in zip(samples, [None, *samples], strict=False) if before is None or before[1] != one[1]]
        return [Breakpoint(id=new_id(), at_s=at_s, value=float(value >= 0.5), shape="hold") for at_s, value in kept]
    places = scale.to_place(np.array([scale.clamp(value) for _, value in samples]))
    bottom, top = scale.to_place(np.array([scale.low, scale.high])).tolist()
    drawn = [(at_s, float(place)) for (at_s, _), place in zip(samples, places, strict=True)]
    reach = tolerance * (top - bottom)
    thin = curved(thinned(drawn, reach, (bottom, top)), drawn, reach)
    values = scale.to_value(np.array([place for _, place, _ in thin]))
    return [
        Breakpoint(
            id=new_id(), at_s=at_s, value=scale.clamp(float(f"{number:.6g}")), bend=bend, shape="curve" if bend else "linear"
        )
        for (at_s, _, bend), number in zip(thin, values, strict=True)
    ]


def segment_at(envelope: Envelope, at_s: float) -> Breakpoint | None:
    """The point whose way a time lies on."""
    return next((point for point in reversed(envelope.points) if point.at_s <= at_s), None)


def shape_at(envelope: Envelope, at_s: float) -> Literal["hold", "linear", "curve"]:
    point = segment_at(envelope, at_s)
    return "linear" if point is None else "hold" if point.shape == "hold" else "linear"


def by_hand(session: Session, values: list[Moved], strips: Sequence[str] = ()) -> Edit:
    """Values put whatever envelopes say of them, which are taken away. strips: others that they are put on too (see `Set`)."""
    enveloped = [
        SetEnvelope(**moved.address.model_dump(), envelope=None)
        for moved in values
        if moved.name in getattr(owner_of(session, moved.address), "envelopes", {})
    ]
    edit = Set(values=values, strips=[*strips])
    return Batch(edits=[*enveloped, edit]) if enveloped else edit
