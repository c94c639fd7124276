"""Every value that can be moved has an address: of what, which object, which setting."""

from collections.abc import Iterable, Mapping
from typing import Any, Self

from pydantic import BaseModel, ConfigDict

from saltanvil.processors import processor_named
from saltanvil.processors.descriptor import Descriptor, SettingValue, descriptors_of
from saltanvil.session.document.automation import Lever, Owner, SettingName
from saltanvil.session.document.base import Id, NotFound, Part
from saltanvil.session.document.path import Key, Lane, Step
from saltanvil.session.document.session import Send, Session, Strip

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
            "name": address.name, "type": "number", "label": f"Divider {address.place + 1}",
            "most": None, "scale": "log", "ticks": [20.0, 100.0, 1000.0, 10000.0],
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
    settings_of: dict[str, tuple[Step, dict[str, Any]]] = {}
    for moved in moves:
        owner = owner_of(session, moved.address)
        descriptor(session, moved.address)
        if not isinstance(owner, Step) or moved.field in PART_DESCRIPTORS["step"]:
            setattr(owner, moved.field, moved.value)
            continue
        _, settings = settings_of.setdefault(owner.id, (owner, owner.settings.model_dump()))
        if moved.place is None:
            settings[moved.field] = moved.value
        else:
            values = list(settings[moved.field])
            values[moved.place] = moved.value
            settings[moved.field] = values
    for step, settings in settings_of.values():
        step.settings = type(step.settings).model_validate(settings)
