"""Edits of values: any setting, level or switch of a session, and how it is delivered."""

from typing import Literal

from pydantic import Field, JsonValue

from saltanvil.session.address import Address, Moved, descriptor, put, strip_at, value
from saltanvil.session.delivery import Delivery
from saltanvil.session.document.path import Step
from saltanvil.session.document.session import Place, Session
from saltanvil.session.edits.base import MAX_VALUES, Edit


class Set(Edit):
    """New values for any addresses of the session.

    A setting moved in a linked lane moves by as much in the same step of the other linked lanes, unless `alone`. All of them
    stop where the first of them comes to its limit, so that their distances stay.
    """

    op: Literal["set"] = "set"
    values: list[Moved] = Field(min_length=1, max_length=MAX_VALUES)
    alone: bool = False

    @property
    def targets(self) -> frozenset[object]:
        return frozenset(moved.address for moved in self.values)

    def moved_strips(self, session: Session) -> frozenset[str]:
        strips = (strip_at(session, moved.address) for moved in self.values)
        return frozenset(strip.id for strip in strips if strip is not None)

    def change(self, session: Session) -> None:
        moves: list[Moved] = []
        for moved in self.values:
            moves.extend([moved] if self.alone else linked_moves(session, moved))
        put(session, moves)


class SetDelivery(Edit):
    """Parts of how a delivery is set up, by their names (see `delivery.Delivery`); the others stay."""

    op: Literal["set_delivery"] = "set_delivery"
    values: dict[str, JsonValue] = Field(min_length=1, max_length=len(Delivery.model_fields))

    @property
    def targets(self) -> frozenset[object]:
        return frozenset(self.values)

    def change(self, session: Session) -> None:
        before = session.delivery.model_dump(mode="json")
        session.delivery = Delivery.model_validate({**before, **self.values})


def linked_moves(session: Session, moved: Moved) -> list[Moved]:
    """A move with those that follow it in linked lanes, as far as all of them can go."""
    if moved.of != "step" or moved.name == "low_latency":
        return [moved]
    place = session.step(moved.id or "")
    followers = linked_steps(session, place)
    if not followers:
        return [moved]
    described = descriptor(session, moved.address)
    others = [Address.of_step(step, moved.name) for step in followers]
    if (
        isinstance(moved.value, bool)
        or not isinstance(moved.value, int | float)
        or described.minimum is None
        or described.maximum is None
    ):
        return [moved, *(Moved(**address.model_dump(), value=moved.value) for address in others)]
    low, high = described.minimum, described.maximum
    if not low <= moved.value <= high:
        return [moved]  # refused with the limits when it is put
    own = [float(value(session, address)) for address in (moved.address, *others)]  # type: ignore[arg-type]
    if described.scale == "log":
        ratio = min(max(moved.value / own[0], *(low / number for number in own)), *(high / number for number in own))
        new = [number if ratio == 1.0 else number * ratio for number in own]
    else:
        change = min(max(moved.value - own[0], *(low - number for number in own)), *(high - number for number in own))
        new = [number + change for number in own]
    return [
        Moved(**address.model_dump(), value=number if number == was else min(max(float(f"{number:.6g}"), low), high))
        for address, number, was in zip((moved.address, *others), new, own, strict=True)
    ]


def linked_steps(session: Session, place: Place) -> list[Step]:
    """The steps that stand for this one in the other linked lanes: of the same kind, and as many of that kind before."""
    if place.lane is None or not place.lane.linked:
        return []
    step = place.step
    count = sum(other.kind == step.kind for other in place.path.steps[: place.index])
    result = []
    for lane in session.lane(place.lane.id)[1].lanes:
        alike = [other for other in lane.path.steps if other.kind == step.kind]
        if lane.linked and lane.id != place.lane.id and len(alike) > count:
            result.append(alike[count])
    return result
