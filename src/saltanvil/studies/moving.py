"""What of a session moves over time or is under a lever: its course as a line to be drawn, and what it does over a passage."""

from dataclasses import dataclass

from saltanvil.session.address import Address, descriptor, owner_of, strip_at, value
from saltanvil.session.automation import Automation, scale_of
from saltanvil.session.document.automation import Owner
from saltanvil.session.document.base import NotFound
from saltanvil.session.document.session import Session
from saltanvil.session.envelopes import apply_curve
from saltanvil.session.levers import parts_of
from saltanvil.session.sharing import shared
from saltanvil.session.wording import named, worded

#: Figures of a line that is only drawn and read off.
DIGITS = 6


@dataclass(frozen=True)
class LeverShare:
    """A lever over a value: what the value is with the lever at 0 % and at 100 %, all others as they stand."""

    lever_id: str
    name: str
    low: float
    high: float


@dataclass(frozen=True)
class MovingValue:
    """A value that moves over time or is under a lever.

    owner: whose it is; label: what it is; base: the document's value; still: with its levers, as if nothing moved; times_s,
    values: its course as a line that is straight on the setting's scale, empty where it stands; face: of its envelope, if it has
    one; on: whether that sounds.
    """

    of: Owner
    id: str | None
    name: str
    owner: str
    label: str
    base: float
    still: float
    times_s: list[float]
    values: list[float]
    face: str | None
    on: bool
    levers: list[LeverShare]


def moving_values(session: Session, before: tuple[Session, list[MovingValue]] | None = None) -> list[MovingValue]:
    """All of them, in the order of the document. before: those of an earlier version, whose courses hold on strips that are the
    same objects."""
    automation = Automation(session)
    known: dict[tuple[Owner, str | None, str], MovingValue] = {}
    if before is not None and shared(session) == shared(before[0]):
        known = {(known_value.of, known_value.id, known_value.name): known_value for known_value in before[1]}
    strips = {id(strip) for strip in before[0].strips} if before is not None else set()
    result = []
    for address in automation.addresses():
        known_value = known.get((address.of, address.id, address.name))
        try:
            if known_value is not None and id(strip_at(session, address)) in strips:
                result.append(known_value)
                continue
            setting, base = descriptor(session, address), float(value(session, address))  # type: ignore[arg-type]
            course = automation.course(address)
            owner = owner_of(session, address)
        except NotFound:
            continue
        envelope = getattr(owner, "envelopes", {}).get(address.name)
        times, values = course.line() if course is not None else ((), ())
        result.append(
            MovingValue(
                of=address.of, id=address.id, name=address.name, **names_of(session, address, setting.label), base=base,
                still=base if setting.type == "switch" else automation.still(address),
                times_s=[round(float(at_s), DIGITS) for at_s in times],
                values=[float(f"{number:.{DIGITS}g}") for number in values],
                face=None if envelope is None else "sections" if envelope.sections else "points",
                on=envelope is not None and not envelope.bypass and not automation.off(address),
                levers=shares_of(session, automation, address, base),
            )
        )  # fmt: skip
    return result


def names_of(session: Session, address: Address, label: str) -> dict[str, str]:
    """Whose a value is, and what it is; a lever's value goes by the lever's own name."""
    if address.of == "lever":
        strip, lever = session.lever(address.id or "")
        return {"owner": "Session" if strip is None else strip.name, "label": lever.name}
    return {"owner": named(address, session), "label": label}


def shares_of(session: Session, automation: Automation, address: Address, base: float) -> list[LeverShare]:
    shares = automation.levers_over(address)
    if not shares:
        return []
    scale, result = scale_of(session, address), []
    for lever, target in shares:
        others = base
        for other, moved in shares:
            if other is not lever:
                at = automation.still(Address(of="lever", id=other.id, name="value"))
                others = scale.moved(others, moved.by, float(apply_curve(at, moved.bend)))  # type: ignore[arg-type]
        ends = (scale.clamp(others), scale.clamp(scale.moved(others, target.by)))
        result.append(LeverShare(lever.id, lever.name, *(float(f"{end:.{DIGITS}g}") for end in ends)))
    return result


@dataclass(frozen=True)
class MovedOver:
    """A value over a passage, in words: `Drive: 0 to 6 dB`, with the address."""

    of: Owner
    id: str | None
    name: str
    text: str


def moved_over(
    session: Session, strip_id: str, step_id: str | None, lane_id: str | None, start_s: float, end_s: float
) -> list[MovedOver]:
    """What moves over a passage of a step, a lane, or (neither) a strip and all that is on it."""
    automation = Automation(session)
    parts: set[tuple[Owner, str]] = set(parts_of(session.strip(strip_id)))
    if step_id is not None:
        inside = {lane.id for lane in session.step(step_id).step.lanes}
        parts = {part for part in parts if part[1] == step_id or part[1] in inside}
    elif lane_id is not None:
        parts = {part for part in parts if part == ("lane", lane_id)}
    result = []
    for address in automation.addresses():
        course = automation.course(address) if (address.of, address.id) in parts else None
        if course is None:
            continue
        low, high = course.extent(start_s, end_s)
        if low == high:
            continue
        setting = descriptor(session, address)
        ends = (worded(bool(low), setting), worded(bool(high), setting)) if setting.type == "switch" else (
            worded(float(f"{low:.3g}"), setting), worded(float(f"{high:.3g}"), setting)
        )  # fmt: skip
        unit = "" if setting.type == "switch" or not setting.unit else f" {setting.unit}"
        whose = f"{named(address, session)}: " if step_id is None else ""
        result.append(
            MovedOver(
                address.of, address.id, address.name, f"{whose}{setting.label} over this passage {ends[0]} to {ends[1]}{unit}"
            )
        )
    return result
