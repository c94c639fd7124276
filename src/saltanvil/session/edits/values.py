"""Edits of values: any setting, level or switch of a session, and how it is delivered."""

from collections.abc import Container, Iterable, Sequence
from typing import Literal

from pydantic import Field, JsonValue

from saltanvil.session.address import Address, Moved, descriptor, put, strip_at, value
from saltanvil.session.counterparts import counterpart_lane, counterparts
from saltanvil.session.delivery import Delivery
from saltanvil.session.document.base import MAX_STRIPS, Id
from saltanvil.session.document.path import Step
from saltanvil.session.document.session import Place, Session
from saltanvil.session.edits.base import MAX_VALUES, Edit


class Set(Edit):
    """New values for any addresses of the session.

    A setting moved in a linked lane moves by as much in the same step of the other linked lanes, one of a linked step in the
    others, and one of a step or lane in its counterparts on the `strips`, unless `alone`. All that move by as much stop where the
    first of them comes to its limit, so that their distances stay. same: on the strips they take the same value instead.
    """

    op: Literal["set"] = "set"
    values: list[Moved] = Field(min_length=1, max_length=MAX_VALUES)
    alone: bool = False
    strips: list[Id] = Field(default_factory=list, max_length=MAX_STRIPS)
    same: bool = False

    @property
    def targets(self) -> frozenset[object]:
        return frozenset([*(moved.address for moved in self.values), *self.strips])

    def moved_strips(self, session: Session) -> frozenset[str]:
        strips = (strip_at(session, moved.address) for moved in self.moves(session))
        return frozenset(strip.id for strip in strips if strip is not None)

    def moves(self, session: Session) -> list[Moved]:
        """All values that it moves."""
        if self.alone:
            return [*self.values]
        named = {moved.address for moved in self.values}
        return [one for moved in self.values for one in self.with_followers(session, moved, named)]

    def with_followers(self, session: Session, moved: Moved, named: Container[Address]) -> list[Moved]:
        """A move with those that follow it in linked lanes, in linked steps and on other strips, as far as all of them can go.
        named: what follows nothing."""
        if descriptor(session, moved.address).analysed:  # it was found in the sound of that strip
            return [moved]
        equal, relative = followers(session, moved)
        (equal if self.same else relative).extend(on_strips(session, moved, self.strips))
        others = [address for address in dict.fromkeys(relative) if address not in named]
        alike = [address for address in dict.fromkeys(equal) if address not in named and address not in relative]
        moves = moves_by_as_much(session, moved, others)
        return [*moves, *(Moved(**address.model_dump(), value=moved.value) for address in alike)]

    def change(self, session: Session) -> None:
        put(session, self.moves(session))


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


def followers(session: Session, moved: Moved) -> tuple[list[Address], list[Address]]:
    """The addresses that take the same value as one that is moved, and those that move by as much: of linked steps and lanes."""
    if moved.of != "step" or moved.name == "low_latency":
        return [], []
    place = session.step(moved.id or "")
    equal: list[Step] = []
    relative = linked_steps(session, place)
    link = session.link_of(place.step.id)
    if link is not None and (link.settings is None or moved.field in link.settings):
        names = {*link.step_ids} - {place.step.id}
        tied = (
            step for strip in session.strips for step in strip.path.walk() if step.id in names and step.kind == place.step.kind
        )
        (relative if link.relative else equal).extend(tied)
    return addresses_in(equal, moved), addresses_in(relative, moved)


def on_strips(session: Session, moved: Moved, strips: Sequence[str]) -> list[Address]:
    """What stands, on other strips, for a value of a step or a lane."""
    if moved.of == "lane":
        strip, _, lane = session.lane(moved.id or "")
        twins = (counterpart_lane(strip.path, session.strip(other).path, lane.id) for other in strips)
        return [Address(of="lane", id=twin.id, name=moved.name) for twin in twins if twin is not None]
    return [] if moved.of != "step" else addresses_in(counterparts(session, moved.id or "", strips), moved)


def addresses_in(steps: Iterable[Step], moved: Moved) -> list[Address]:
    return [Address.of_step(step, moved.name) for step in steps if has_place(step, moved)]


def has_place(step: Step, moved: Moved) -> bool:
    """Whether a step has as many dividers as the one that is moved."""
    return moved.place is None or (step.split is not None and moved.place < len(step.split.dividers_hz))


def moves_by_as_much(session: Session, moved: Moved, others: Sequence[Address]) -> list[Moved]:
    """A move and the same change of other values, of which all stop where the first comes to its limit. What is no number is the
    same in all."""
    if not others:
        return [moved]
    described = descriptor(session, moved.address)
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
