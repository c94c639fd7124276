"""Rules of levers: what they may move, that none moves itself, and what is left of them when something is taken away."""

from collections.abc import Iterator, Mapping

from saltanvil.session.address import Address, descriptor
from saltanvil.session.automation import automation_refusal, scale_of, switched
from saltanvil.session.document.automation import Lever, LeverTarget, Owner
from saltanvil.session.document.session import Session, Strip


def target_address(target: LeverTarget) -> Address:
    return Address(of=target.of, id=target.id, name=target.name)


def lost_targets(session: Session, strip: Strip | None, lever: Lever) -> list[LeverTarget]:
    """The settings of a lever that are not there any more, or not on its strip."""
    result = []
    reach = None if strip is None else set(parts_of(strip))
    for target in lever.targets:
        if reach is not None and (target.of, target.id) not in reach:
            result.append(target)
            continue
        try:
            descriptor(session, target_address(target))
        except LookupError:
            result.append(target)
    return result


def check_levers(session: Session) -> None:
    """Raises ValueError, naming the lever and the reason, if a lever moves what it cannot, or moves itself."""
    levers = {lever.id: lever for _, lever in session.all_levers()}
    if len(levers) != sum(1 for _ in session.all_levers()):
        raise ValueError("two levers have the same id")
    for strip in session.strips:
        for lane in strip.path.lanes():
            if lane.path.levers:
                raise ValueError(f"the lane {lane.name!r} has levers; they belong to the strip or the session")
    if not levers:
        return
    for owner, lever in session.all_levers():
        check_reach(owner, lever)
        for target in lever.targets:
            check_target(session, lever, target)
    around = loop_of(levers)
    if around:
        raise ValueError(f"this would close a loop of levers: {around}")


def check_reach(strip: Strip | None, lever: Lever) -> None:
    """Raises ValueError if a strip's lever moves what is not on that strip."""
    if strip is not None and not {(target.of, target.id) for target in lever.targets} <= set(parts_of(strip)):
        raise ValueError(f"the lever {lever.name!r} of {strip.name!r} moves what is on that strip; make one for the session")


def check_target(session: Session, lever: Lever, target: LeverTarget) -> None:
    address = target_address(target)
    setting = descriptor(session, address)
    refusal = automation_refusal(session, address)
    if refusal is not None:
        raise ValueError(f"the lever {lever.name!r} cannot move it: {refusal.replace('move over time', 'be moved by a lever')}")
    if switched(address):
        raise ValueError(f"the lever {lever.name!r} cannot move a switch ({setting.label}); it moves what has a scale")
    scale = scale_of(session, address)
    if scale.log and target.by <= 0.0:
        raise ValueError(f"the lever {lever.name!r} moves {setting.label} by a factor, which is above 0")


def parts_of(strip: Strip) -> Iterator[tuple[Owner, str]]:
    """What a strip's levers may move."""
    yield "strip", strip.id
    yield from (("send", send.id) for send in strip.sends)
    yield from (("lever", lever.id) for lever in strip.path.levers)
    for step in strip.path.walk():
        yield "step", step.id
        yield "key", step.id
        yield from (("lane", lane.id) for lane in step.lanes)


def loop_of(levers: Mapping[str, Lever]) -> str:
    """The names on a loop of levers that move each other; empty if there is none."""
    moves = {name: [target.id for target in lever.targets if target.of == "lever"] for name, lever in levers.items()}
    for start in moves:
        trail, ahead = [start], [iter(moves[start])]
        while ahead:
            following = next(ahead[-1], None)
            if following is None:
                ahead.pop()
                trail.pop()
            elif following == start:
                return " moves ".join(levers[name].name for name in [*trail, start])
            elif following in moves and following not in trail:
                trail.append(following)
                ahead.append(iter(moves[following]))
    return ""


def renamed_targets(levers: list[Lever], new: Mapping[str, str], known: set[str]) -> list[Lever]:
    """Levers with their settings under other names; what is neither renamed nor known is dropped."""
    result = []
    for lever in levers:
        targets = [
            target.model_copy(update={"id": new.get(target.id or "", target.id)})
            for target in lever.targets
            if target.id in new or target.id in known
        ]
        result.append(lever.model_copy(update={"targets": targets}))
    return result
