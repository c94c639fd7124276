"""Every value that can be moved: its address, its descriptor, and what it amounts to.

An address names of what, which object and which setting: `step 3fa threshold_db`, `lane low level_db`, `send s1 level_db`,
`key 3fa trim_db` (a key by the step that listens), `step 9c dividers_hz.1` (one divider of a split). What a step runs with is
resolved here and nowhere else, in one order: the document's value, levers, the value's own envelope at the time asked for, then
the gain that holds the loudness, then low latency.
"""

from collections.abc import Iterable, Mapping
from typing import Any, Self, TypeVar

from pydantic import BaseModel, ConfigDict

from saltanvil.processors import Settings, processor_named
from saltanvil.processors.descriptor import Descriptor, SettingValue, descriptors_of
from saltanvil.processors.split import MIN_RATIO, SplitSettings
from saltanvil.session.document.automation import Automated, Lever, LeverTarget, Owner, SettingName
from saltanvil.session.document.base import Id, NotFound, Part
from saltanvil.session.document.path import Key, Lane, Step
from saltanvil.session.document.session import Send, Session, Strip
from saltanvil.session.envelopes import Course, MovedCourse, Scale, bent, course_of

#: What is described of the parts of a session themselves; a step's settings are described by its processor.
PARTS: dict[Owner, type[Part]] = {
    "session": Session, "strip": Strip, "send": Send, "step": Step, "lane": Lane, "key": Key, "lever": Lever,
}  # fmt: skip
PART_DESCRIPTORS: dict[Owner, Mapping[str, Descriptor]] = {owner: descriptors_of(part) for owner, part in PARTS.items()}


class Address(BaseModel):
    """Where a value is. id: None for the session's own."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    of: Owner
    id: Id | None = None
    name: SettingName

    @property
    def place(self) -> int | None:
        """Which one of a list, in `dividers_hz.1`."""
        _, dot, index = self.name.partition(".")
        return int(index) if dot else None

    @property
    def field(self) -> str:
        return self.name.partition(".")[0]

    def __str__(self) -> str:
        return " ".join(part for part in (self.of, self.id, self.name) if part is not None)

    @classmethod
    def of_step(cls, step: Step, name: str) -> Self:
        return cls(of="step", id=step.id, name=name)


class Moved(Address):
    """A value for an address."""

    value: SettingValue

    @property
    def address(self) -> Address:
        return Address(of=self.of, id=self.id, name=self.name)


def owner_of(session: Session, address: Address) -> Part:
    """The object a value belongs to. Raises NotFound."""
    if address.of == "session":
        return session
    name = address.id or ""
    if address.of == "strip":
        return session.strip(name)
    if address.of == "send":
        return session.send(name)[1]
    if address.of == "lane":
        return session.lane(name)[2]
    if address.of == "lever":
        return session.lever(name)[1]
    step = session.step(name).step
    if address.of == "step":
        return step
    if step.key is None:
        raise NotFound(f"the {processor_named(step.kind).label.lower()} has no outside key; choose one first")
    return step.key


def strip_at(session: Session, address: Address) -> Strip | None:
    """The strip that holds a value; None for the session's own. Raises NotFound."""
    name = address.id or ""
    match address.of:
        case "session":
            return None
        case "strip":
            return session.strip(name)
        case "send":
            return session.send(name)[0]
        case "lane":
            return session.lane(name)[0]
        case "lever":
            return session.lever(name)[0]
    return session.step(name).strip


def descriptor(session: Session, address: Address) -> Descriptor:
    """What a value is. Raises NotFound, naming what there is instead."""
    owner = owner_of(session, address)
    known = PART_DESCRIPTORS[address.of]
    what = f"a {address.of}"
    if isinstance(owner, Step):
        known = {**known, **descriptors_of(type(owner.settings))}
        what = f"a {owner.kind}"
    result = known.get(address.field)
    if result is None or (address.place is not None and result.type != "dividers"):
        raise NotFound(f"{what} has no setting {address.name!r}; it has {', '.join(sorted(known))}")
    if address.place is None:
        return result
    assert isinstance(owner, Step) and owner.split is not None
    if address.place >= len(owner.split.dividers_hz):
        raise NotFound("there is no such divider; it may have been removed")
    return result.model_copy(
        update={
            "name": address.name, "type": "number", "label": f"Divider {address.place + 1}", "minimum": 20.0,
            "maximum": 20000.0, "scale": "log", "ticks": [20.0, 100.0, 1000.0, 10000.0],
            "default": owner.split.dividers_hz[address.place], "moves": "glides",
        }
    )  # fmt: skip


def value(session: Session, address: Address) -> SettingValue:
    """The document's value. Raises NotFound."""
    descriptor(session, address)
    owner = owner_of(session, address)
    holder: Any = owner
    if isinstance(owner, Step) and address.field not in PART_DESCRIPTORS["step"]:
        holder = owner.settings
    result = getattr(holder, address.field)
    if address.place is not None:
        return float(result[address.place])
    return list(result) if isinstance(result, tuple) else result


def put(session: Session, moves: Iterable[Moved]) -> None:
    """Change values of a session in place; those of one step together, so that only what they come to must be valid.

    Raises NotFound, or ValueError if the values cannot be taken.
    """
    given: dict[str, tuple[Step, dict[str, Any]]] = {}
    for moved in moves:
        owner = owner_of(session, moved.address)
        descriptor(session, moved.address)
        if not isinstance(owner, Step) or moved.field in PART_DESCRIPTORS["step"]:
            setattr(owner, moved.field, moved.value)
            continue
        _, settings = given.setdefault(owner.id, (owner, owner.settings.model_dump()))
        if moved.place is None:
            settings[moved.field] = moved.value
        else:
            values = list(settings[moved.field])
            values[moved.place] = moved.value
            settings[moved.field] = values
    for step, settings in given.values():
        step.settings = type(step.settings).model_validate(settings)


# ---- what a step runs with -----------------------------------------------------------------------------------------------


def loudness_gain_db(step: Step, settings: Settings | None = None) -> float | None:
    """The gain that holds a step's loudness, as measured or else guessed; None where it is not held. settings: at a moment.

    While its settings move on from what was measured, the measured gain moves by as much as the guess does.
    """
    guessed = processor_named(step.kind).loudness_gain_db(settings or step.settings)
    if guessed is None or step.match is None or step.match.refused is not None:
        return guessed
    return step.match.matched_db + guessed - step.match.guessed_db


# ---- levers and envelopes ------------------------------------------------------------------------------------------------

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
            share = float(bent(self._standing(lever), target.bend))  # type: ignore[arg-type]
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
    held = {"__dict__": {**model.__dict__, **update}, "__pydantic_fields_set__": model.__pydantic_fields_set__}
    for name, part in {**held, "__pydantic_extra__": None, "__pydantic_private__": None}.items():
        object.__setattr__(twin, name, part)
    return twin


def in_order(dividers: list[float]) -> list[float]:
    """Dividers that keep their distance where their envelopes would cross: the lower one holds."""
    for index in range(1, len(dividers)):
        dividers[index] = max(dividers[index], MIN_RATIO * dividers[index - 1])
    return dividers


def resolve(
    session: Session,
    step: Step,
    listening: bool = False,
    at_s: float | None = None,
    automation: Automation | None = None,
) -> Settings:
    """What a step runs with.

    listening: as it sounds in the page, where the session's low latency counts; what is measured and rendered goes
    without it, so that *after* is what a file contains. A step's own low latency belongs to its sound. at_s: the session time
    at which its envelopes are read; None as if nothing moved over time. automation: of the session, if it is at hand.
    """
    automation = automation or Automation(session)
    values = automation.standing("step", step.id)
    if at_s is not None:
        values |= {name: course.value(at_s) for name, course in automation.moving("step", step.id, step).items()}
    settings = settings_with(step.settings, {name: held for name, held in values.items() if name not in MOVING_SWITCHES})
    return settings_of(session, step, settings, listening)


def settings_of(session: Session, step: Step, settings: Settings, listening: bool = False) -> Settings:
    """What a step runs with, from its settings with levers and envelopes counted in: its held loudness, then low latency."""
    kind = processor_named(step.kind)
    gain_db = loudness_gain_db(step, settings)
    if gain_db is not None:
        settings = kind.with_loudness_gain(settings, gain_db)
    if step.low_latency or (listening and session.low_latency):
        settings = kind.low_latency_settings(settings)
    return settings


def resolve_split(session: Session, step: Step, listening: bool = False, at_s: float | None = None) -> SplitSettings:
    """`resolve` for a split."""
    settings = resolve(session, step, listening, at_s)
    assert isinstance(settings, SplitSettings)
    return settings


def differing(
    session: Session, step: Step, listening: bool = False, automation: Automation | None = None
) -> Mapping[str, SettingValue]:
    """The settings that a step runs with otherwise than its document says."""
    resolved = resolve(session, step, listening, automation=automation)
    if resolved is step.settings:
        return {}
    own, now = step.settings.model_dump(mode="json"), resolved.model_dump(mode="json")
    return {name: now[name] for name in own if now[name] != own[name]}
