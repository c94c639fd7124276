"""Edits of splits and their lanes, and the gestures that put steps into lanes and take them out again.

Whatever an edit makes is named after its `seed`, so that a redo makes the same names again.
"""

from collections.abc import Sequence
from typing import Any, Literal

from pydantic import Field

from saltanvil.dsp.units import gain_to_db
from saltanvil.processors.split import BAND_STARTS, Dividers, SplitMode, SplitSettings
from saltanvil.session.blend import blend_gains
from saltanvil.session.document.base import Id, Name, new_id
from saltanvil.session.document.path import Lane, Path, Step
from saltanvil.session.document.session import Place, Session, Strip
from saltanvil.session.edits.base import MAX_INDEX, Edit, EditRefused
from saltanvil.session.edits.copies import Seed, names_from, replace_step, with_new_ids
from saltanvil.session.edits.strips import AddStrip
from saltanvil.session.levels import OFF_DB

#: Names of bands, from the lowest; a band named otherwise keeps its name.
BAND_NAMES = {
    2: ("Low", "High"),
    3: ("Low", "Mid", "High"),
    4: ("Low", "Low mid", "High mid", "High"),
    5: ("Low", "Low mid", "Mid", "High mid", "High"),
    6: ("Low", "Low mid", "Mid", "High mid", "High", "Top"),
}
GIVEN_NAMES = {name for names in BAND_NAMES.values() for name in names}
LANE_NAMES: dict[SplitMode, tuple[str, str]] = {
    "copies": ("Untreated", "Treated"),
    "mid/side": ("Mid", "Side"),
    "left/right": ("Left", "Right"),
    "bands": ("Low", "High"),
}


def alike(one: Sequence[Step], other: Sequence[Step]) -> bool:
    """Whether two rows of steps treat the sound alike, whatever they are called."""
    return len(one) == len(other) and all(
        a.kind == b.kind
        and a.bypass == b.bypass
        and a.settings == b.settings
        and a.envelopes == b.envelopes
        and a.key == b.key
        and len(a.lanes) == len(b.lanes)
        and all(alike(x.path.steps, y.path.steps) for x, y in zip(a.lanes, b.lanes, strict=True))
        for a, b in zip(one, other, strict=True)
    )


def split_of(session: Session, step_id: str) -> tuple[Place, Step, SplitSettings]:
    place = session.step(step_id)
    if place.step.split is None:
        raise EditRefused(f"this step is a {place.step.kind} and has no lanes; choose a split")
    return place, place.step, place.step.split


def with_settings(step: Step, lanes: Sequence[Lane], **moved: Any) -> Step:
    """A split with other lanes and settings, under the same name. What was measured of it holds no longer."""
    assert step.split is not None
    settings = SplitSettings.model_validate({**step.split.model_dump(), **moved})
    dividers = len(settings.dividers_hz) if settings.by == "bands" else 0
    envelopes = {
        name: envelope
        for name, envelope in step.envelopes.items()
        if not name.startswith("dividers_hz.") or int(name.partition(".")[2]) < dividers
    }
    return Step(
        id=step.id, kind=step.kind, bypass=step.bypass, low_latency=step.low_latency, settings=settings, lanes=list(lanes),
        envelopes=envelopes,
    )  # fmt: skip


class AddLane(Edit):
    """One more lane of a split by copies, empty: the whole once more.

    A blend is for two lanes: it ends, and what it gave its lanes goes into their levels, so that they sound as before.
    """

    op: Literal["add_lane"] = "add_lane"
    step_id: Id
    name: Name | None = None
    seed: Seed

    def change(self, session: Session) -> None:
        place, step, settings = split_of(session, self.step_id)
        if settings.by != "copies":
            raise EditRefused(f"a split by {settings.by} has the lanes it has; add a divider for one more band")
        added = Lane(id=self.seed, name=self.name or f"Lane {len(step.lanes) + 1}")
        lanes = step.lanes
        if step.blended:
            lanes = [
                lane.model_copy(update={"level_db": min(max(lane.level_db + gain_to_db(gain), OFF_DB), 24.0)})
                for lane, gain in zip(lanes, blend_gains(settings, step.match), strict=True)
            ]
        replace_step(place, with_settings(step, [*lanes, added], blend=False))


class RemoveLane(Edit):
    """Take a lane out of a split by copies; a band goes with its divider."""

    op: Literal["remove_lane"] = "remove_lane"
    lane_id: Id

    def change(self, session: Session) -> None:
        _, step, lane = session.lane(self.lane_id)
        assert step.split is not None
        if step.split.by == "bands":
            index = step.lanes.index(lane)
            RemoveDivider(step_id=step.id, index=max(0, index - 1), keep=1 if index == 0 else 0).change(session)
            return
        if step.split.by != "copies" or len(step.lanes) == 1:
            raise EditRefused("this lane cannot go alone; take the split apart instead")
        left = [other for other in step.lanes if other.id != lane.id]
        replace_step(session.step(step.id), with_settings(step, left))


class AddDivider(Edit):
    """One more divider: the band it falls into becomes two, each with that band's treatment."""

    op: Literal["add_divider"] = "add_divider"
    step_id: Id
    frequency_hz: float = Field(ge=20.0, le=20000.0)
    seed: Seed

    def change(self, session: Session) -> None:
        place, step, settings = split_of(session, self.step_id)
        if settings.by != "bands":
            raise EditRefused(f"a split by {settings.by} has no dividers")
        if len(step.lanes) == max(BAND_STARTS):
            raise EditRefused(f"a split has at most {max(BAND_STARTS)} bands; put another split into one of them")
        index = sum(hz < self.frequency_hz for hz in settings.dividers_hz)
        dividers = [*settings.dividers_hz]
        dividers.insert(index, self.frequency_hz)
        names = names_from(self.seed)
        cut = step.lanes[index]
        new_lane = cut.model_copy(
            update={"id": next(names), "path": Path(steps=with_new_ids(cut.path.steps, names)), "output": None, "solo": False}
        )
        lanes = [*step.lanes[: index + 1], new_lane, *step.lanes[index + 1 :]]
        replace_step(place, with_settings(step, named(lanes), dividers_hz=dividers))


class RemoveDivider(Edit):
    """Two bands become one. It keeps the treatment of the lower (keep 0) or the upper (keep 1) band, or of the one
    that has any; the other band's steps, if they differ, stay behind them, bypassed."""

    op: Literal["remove_divider"] = "remove_divider"
    step_id: Id
    index: int = Field(ge=0, le=MAX_INDEX)
    keep: Literal[0, 1] = 0

    def change(self, session: Session) -> None:
        place, step, settings = split_of(session, self.step_id)
        dividers = [*settings.dividers_hz]
        if self.index >= len(dividers) or settings.by != "bands":
            raise EditRefused("there is no such divider; it may have been removed")
        if len(dividers) == 1:
            raise EditRefused("a split by bands has at least two; take it apart instead")
        pair = step.lanes[self.index : self.index + 2]
        keep = self.keep if pair[self.keep].path.steps else 1 - self.keep
        kept, gone = pair[keep], pair[1 - keep]
        lane = kept.model_copy(update={"path": Path(steps=put_aside(kept.path.steps, gone.path.steps))})
        lanes = [*step.lanes[: self.index], lane, *step.lanes[self.index + 2 :]]
        del dividers[self.index]
        replace_step(place, with_settings(step, named(lanes), dividers_hz=dividers))


def put_aside(kept: Sequence[Step], gone: Sequence[Step]) -> list[Step]:
    """Steps that stay, and behind them, bypassed, those that would be lost."""
    if alike(kept, gone):
        return list(kept)
    return [*kept, *(step.model_copy(update={"bypass": True}) for step in gone)]


def named(lanes: Sequence[Lane]) -> list[Lane]:
    """Bands by their names, where they were not given names of their own."""
    return [
        lane.model_copy(update={"name": name}) if lane.name in GIVEN_NAMES else lane
        for lane, name in zip(lanes, BAND_NAMES[len(lanes)], strict=True)
    ]


class Divide(Edit):
    """Put steps that stand side by side into a split (or, with none, an empty split at a place).

    By copies they go into the second lane, *treated*, and the blend stands at the untreated end. Otherwise every lane
    gets them, with their settings.
    """

    op: Literal["divide"] = "divide"
    strip_id: Id
    lane_id: Id | None = None
    step_ids: list[Id] = Field(default_factory=list, max_length=64)
    index: int | None = Field(default=None, ge=0, le=MAX_INDEX)
    by: SplitMode = "copies"
    dividers_hz: Dividers = BAND_STARTS[4]
    split_id: Id = Field(default_factory=new_id)
    seed: Seed

    def change(self, session: Session) -> None:
        path = session.path(self.strip_id, self.lane_id)
        places = sorted(index for index, step in enumerate(path.steps) if step.id in self.step_ids)
        if len(places) != len(set(self.step_ids)):
            raise EditRefused("the steps are not all on this path; they may have been moved in another tab")
        if places and places[-1] - places[0] != len(places) - 1:
            raise EditRefused("the steps do not stand side by side; choose those between them too")
        first = places[0] if places else len(path.steps) if self.index is None else min(self.index, len(path.steps))
        steps = [path.steps[index] for index in places]
        names = names_from(self.seed)
        settings = SplitSettings(by=self.by, dividers_hz=self.dividers_hz)
        labels = BAND_NAMES[len(self.dividers_hz) + 1] if self.by == "bands" else LANE_NAMES[self.by]
        lanes = []
        for number, label in enumerate(labels):
            if self.by == "copies":
                own = steps if number == 1 else []
            else:  # the first lane keeps the steps themselves, so that what is chosen stays chosen
                own = steps if number == 0 else with_new_ids(steps, names)
            lanes.append(Lane(id=next(names), name=label, path=Path(steps=own)))
        split = Step(id=self.split_id, kind="split", settings=settings, lanes=lanes)
        path.steps = [*path.steps[:first], split, *path.steps[first + len(steps) :]]


class RemoveSplit(Edit):
    """Take a split apart: one lane's steps take its place, those of the others stay behind them, bypassed.

    Kept is the named lane, else a blend's treated lane, else the first lane with steps.
    """

    op: Literal["remove_split"] = "remove_split"
    step_id: Id
    keep: Id | None = None

    def change(self, session: Session) -> None:
        place, step, _ = split_of(session, self.step_id)
        treated = [lane for lane in step.lanes if lane.path.steps] or step.lanes
        kept = next((lane for lane in step.lanes if lane.id == self.keep), step.lanes[1] if step.blended else treated[0])
        steps = list(kept.path.steps)
        seen = [kept.path.steps]
        for lane in step.lanes:
            if lane.id != kept.id and not any(alike(lane.path.steps, other) for other in seen):
                seen.append(lane.path.steps)
                steps = put_aside(steps, lane.path.steps)
        replace_step(place, *steps)


class CopyToLanes(Edit):
    """Give a step, with its settings, to the other lanes: onto the step that stands for it there, or as a new one."""

    op: Literal["copy_to_lanes"] = "copy_to_lanes"
    step_id: Id
    seed: Seed

    def change(self, session: Session) -> None:
        place = session.step(self.step_id)
        if place.lane is None:
            raise EditRefused("this step stands in no lane; there are no others to copy it to")
        split = session.lane(place.lane.id)[1]
        step = place.step
        number = sum(other.kind == step.kind for other in place.path.steps[: place.index])
        names = names_from(self.seed)
        lanes = []
        for lane in split.lanes:
            steps = list(lane.path.steps)
            same = [index for index, other in enumerate(steps) if other.kind == step.kind]
            if lane.id == place.lane.id:
                pass
            elif step.split is None and len(same) > number:
                steps[same[number]] = steps[same[number]].model_copy(update={"settings": step.settings, "bypass": step.bypass})
            else:
                steps.insert(min(place.index, len(steps)), with_new_ids([step], names)[0])
            lanes.append(lane.model_copy(update={"path": Path(steps=steps)}))
        replace_step(session.step(split.id), split.model_copy(update={"lanes": lanes, "match": None}))


class LanesToBuses(Edit):
    """Send each lane to a bus of its own, which feeds what the strip feeds, instead of summing them."""

    op: Literal["lanes_to_buses"] = "lanes_to_buses"
    step_id: Id
    seed: Seed

    def change(self, session: Session) -> None:
        place, step, _ = split_of(session, self.step_id)
        strip = place.strip
        if strip.output is None:
            raise EditRefused("the main feeds no other strip, so its lanes cannot be mixed on buses")
        at = session.strips.index(strip) + 1
        names = names_from(self.seed)
        for number, lane in enumerate(step.lanes):
            bus = Strip(id=next(names), name=f"{strip.name} {lane.name.lower()}"[:120], kind="bus", output=strip.output)
            AddStrip(strip=bus, index=at + number).change(session)
            lane.output = bus.id
