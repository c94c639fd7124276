"""What can move over time, and what levers and envelopes make of values."""

from collections.abc import Iterable, Mapping
from typing import Any, TypeVar

from pydantic import BaseModel

from saltanvil.processors import Settings
from saltanvil.processors.split import MIN_RATIO
from saltanvil.session.address import PART_DESCRIPTORS, Address, descriptor, owner_of, value
from saltanvil.session.document.automation import Automated, Lever, LeverTarget, Owner, SettingName
from saltanvil.session.document.base import NotFound
from saltanvil.session.document.path import Step
from saltanvil.session.document.session import Session
from saltanvil.session.envelopes import Course, MovedCourse, Scale, apply_curve, course_of

A = TypeVar("A", bound=Automated)
M = TypeVar("M", bound=BaseModel)
#: Switches that may move over time, and on what; a bypass is faded.
MOVING_SWITCHES: dict[str, tuple[Owner, ...]] = {"mute": ("strip", "lane", "send"), "bypass": ("step", "lane")}


def switched(address: Address) -> bool:
    """Whether it is a switch that may move over time: its envelope holds 0 or 1."""
    return address.of in MOVING_SWITCHES.get(address.name, ())


def automation_refusal(session: Session, address: Address) -> str | None:
    """Why a value cannot move over time; None if it can. Raises NotFound."""
    setting = descriptor(session, address)
    if switched(address):
        return None
    if setting.moves == "latency":
        return f"{setting.label} changes the latency, which must stay the same throughout; it cannot move over time"
    if setting.moves == "structure":
        return f"{setting.label} changes how the sound is routed or divided; it cannot move over time"
    if setting.type != "number" or setting.moves != "glides":
        return f"{setting.label} does not glide: it is chosen for the whole song and cannot move over time"
    return None


def scale_of(session: Session, address: Address) -> Scale:
    return Scale.of(descriptor(session, address))


def automated(session: Session, address: Address) -> Automated:
    """The object that holds a value's envelope. Raises NotFound."""
    owner = owner_of(session, address)
    if not isinstance(owner, Automated):
        raise NotFound(f"a {address.of} has nothing that moves over time")
    return owner


def beat_s(session: Session) -> float:
    return 60.0 / session.tempo_bpm


class Automation:
    """What levers and envelopes make of a session's values: where each stands, and the course of those that move."""

    def __init__(self, session: Session) -> None:
        self.session = session
        self._levers = {lever.id: lever for _, lever in session.all_levers()}
        self._targets: dict[tuple[Owner, str | None], dict[SettingName, list[tuple[Lever, LeverTarget]]]] = {}
        for lever in self._levers.values():
            for target in lever.targets:
                by_name = self._targets.setdefault((target.of, target.id), {})
                by_name.setdefault(target.name, []).append((lever, target))
        self._off: set[str] | None = None

    def levers_over(self, address: Address) -> list[tuple[Lever, LeverTarget]]:
        """The levers that move a value, each with how far."""
        return self._targets.get((address.of, address.id), {}).get(address.name, [])

    def still(self, address: Address) -> float:
        """Where a number stands by the document and its levers, as if nothing moved over time. Raises NotFound."""
        base = float(value(self.session, address))  # type: ignore[arg-type]
        return self._moved(address, base)

    def _moved(self, address: Address, base: float) -> float:
        shares = self.levers_over(address)
        if not shares:
            return base
        scale = scale_of(self.session, address)
        result = base
        for lever, target in shares:
            share = float(apply_curve(self._standing(lever), target.bend))  # type: ignore[arg-type]
            result = scale.moved(result, target.by, share) if share else result
        return base if result == base else scale.clamp(result)

    def _standing(self, lever: Lever) -> float:
        return self._moved(Address(of="lever", id=lever.id, name="value"), lever.value)

    def course(self, address: Address) -> Course | None:
        """The course of a value, by its own envelope or else by a lever that moves; None where it stands. Raises NotFound."""
        owner = owner_of(self.session, address)
        envelope = owner.envelopes.get(address.name) if isinstance(owner, Automated) else None
        shares = self.levers_over(address)
        if envelope is None and not shares:
            return None
        session = self.session
        base, scale = float(value(session, address)), scale_of(session, address)  # type: ignore[arg-type]
        if envelope is not None and not envelope.bypass and not self.off(address):
            result = course_of(envelope, base, scale, session.sections, beat_s(session))
            if result is not None:
                return result
        parts: list[tuple[Course | float, float, float]] = []
        for lever, target in shares:
            own = self.course(Address(of="lever", id=lever.id, name="value"))
            parts.append((self._standing(lever) if own is None else own, target.by, target.bend))
        return MovedCourse(base, parts, scale) if any(isinstance(part, Course) for part, _, _ in parts) else None

    def off(self, address: Address) -> bool:
        """Whether the envelopes there are switched off, for the strip or the whole session."""
        if self.session.envelopes_off:
            return True
        if self._off is None:
            self._off = set()
            for strip in self.session.strips:
                if strip.envelopes_off:
                    self._off |= {strip.id, *strip.path.ids()}
                    self._off |= {send.id for send in strip.sends} | {lever.id for lever in strip.path.levers}
        return address.id in self._off

    def moving(self, of: Owner, name: str, part: Automated) -> dict[SettingName, Course]:
        """The courses of an object's values. name: of the object; of a key, that of its step."""
        names = {*part.envelopes, *self._targets.get((of, name), ())}
        result: dict[SettingName, Course] = {}
        for setting in sorted(names):
            course = self.course(Address(of=of, id=name, name=setting))
            if course is not None:
                result[setting] = course
        return result

    def standing(self, of: Owner, name: str) -> dict[SettingName, float]:
        """An object's values that levers move, where they stand."""
        return {setting: self.still(Address(of=of, id=name, name=setting)) for setting in self._targets.get((of, name), ())}

    def now(self, of: Owner, name: str, part: A) -> A:
        """An object with its levers counted in; itself if none moves it. Of a step, its settings."""
        values = self.standing(of, name)
        return with_values(part, values) if values else part

    def addresses(self) -> list[Address]:
        """Every value that moves over time or is under a lever."""
        result = [Address(of=of, id=name, name=setting) for (of, name), settings in self._targets.items() for setting in settings]
        for of, name, part in automated_parts(self.session):
            result += [Address(of=of, id=name, name=setting) for setting in part.envelopes]
        return list(dict.fromkeys(result))


def automated_parts(session: Session) -> Iterable[tuple[Owner, str, Automated]]:
    """Every object that can have envelopes, with what it is and its name."""
    for _, lever in session.all_levers():
        yield "lever", lever.id, lever
    for strip in session.strips:
        yield "strip", strip.id, strip
        for send in strip.sends:
            yield "send", send.id, send
        for step in strip.path.walk():
            yield "step", step.id, step
            if step.key is not None:
                yield "key", step.id, step.key
            for lane in step.lanes:
                yield "lane", lane.id, lane


def with_values(part: A, values: Mapping[SettingName, float]) -> A:
    """A copy of an object with some of its values as they are at a moment; of a step, of its settings."""
    if isinstance(part, Step):
        own = {name: bool(number >= 0.5) for name, number in values.items() if name in PART_DESCRIPTORS["step"]}
        moved = {name: number for name, number in values.items() if name not in own}
        return moved_copy(part, {**own, "settings": settings_with(part.settings, moved)})
    update = {name: bool(number >= 0.5) if name in MOVING_SWITCHES else number for name, number in values.items()}
    return moved_copy(part, update)


def settings_with(settings: Settings, values: Mapping[SettingName, float]) -> Settings:
    """Settings with some numbers as they are at a moment, which lie within their limits."""
    update: dict[str, Any] = {}
    for name, number in values.items():
        field, dot, index = name.partition(".")
        if dot:
            listed = list(update.get(field, getattr(settings, field)))
            if int(index) < len(listed):
                listed[int(index)] = number
                update[field] = tuple(in_order(listed))
        else:
            update[field] = number
    return moved_copy(settings, update) if update else settings


def moved_copy(model: M, update: Mapping[str, Any]) -> M:
    """`model_copy` for a model without extras, at a fifth of its time: while something moves it is made for every reading."""
    twin = object.__new__(type(model))
    content = {"__dict__": {**model.__dict__, **update}, "__pydantic_fields_set__": model.__pydantic_fields_set__}
    for name, part in {**content, "__pydantic_extra__": None, "__pydantic_private__": None}.items():
        object.__setattr__(twin, name, part)
    return twin


def in_order(dividers: list[float]) -> list[float]:
    """Dividers that keep their distance where their envelopes would cross: the lower one holds."""
    for index in range(1, len(dividers)):
        dividers[index] = max(dividers[index], MIN_RATIO * dividers[index - 1])
    return dividers
