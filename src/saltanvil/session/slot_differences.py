"""What differs between the slots of a step, a lane or a strip."""

from collections.abc import Iterator, Mapping
from typing import Any, Literal

from pydantic import BaseModel

from saltanvil.processors import processor_named
from saltanvil.processors.descriptor import SettingValue, descriptors_of
from saltanvil.session.address import PART_DESCRIPTORS
from saltanvil.session.document.base import Id, Part
from saltanvil.session.document.path import Key, Lane, Path, SlotNumber, Step
from saltanvil.session.document.session import Session
from saltanvil.session.edits.slots import content_path
from saltanvil.session.slots import LANE_OWN, SlotOwner, owner_of, slots_of, version_of


class Difference(BaseModel):
    """One row: a setting that is not the same in all versions, with its value in each of them that has it.

    of, id, name: its address; None where it is no single value. label: which step or lane, and which setting.
    """

    label: str
    of: Literal["step", "lane"] | None
    id: Id | None
    name: str | None
    values: dict[SlotNumber, SettingValue | None]


class SlotsCompared(BaseModel):
    """The versions of one scope side by side. heard: the slot that is on, as it is now."""

    on: SlotNumber | None
    slots: list[SlotNumber]
    changed: bool
    differences: list[Difference]


Cells = dict[tuple[str, str, str | None], tuple[str, SettingValue]]


def cells_of(content: Step | Lane | Path, owner_id: str) -> Iterator[tuple[tuple[str, str, str | None], str, SettingValue]]:
    """Every value of a version: its address (of, id, name), its label and the value. The owner goes by `owner_id` in all."""
    if isinstance(content, Lane):
        for name, described in PART_DESCRIPTORS["lane"].items():
            if name not in LANE_OWN:
                yield ("lane", owner_id, name), described.label, getattr(content, name)
    if isinstance(content, Step):
        yield from step_cells(content, owner_id, "")
    else:
        yield from path_cells(content_path(content), "")


def path_cells(path: Path, before: str) -> Iterator[tuple[tuple[str, str, str | None], str, SettingValue]]:
    order = ", ".join(processor_named(step.kind).label for step in path.steps) or "no steps"
    yield ("", before, None), f"{before}Steps", order
    for step in path.steps:
        yield from step_cells(step, step.id, f"{before}{processor_named(step.kind).label}: ")


def step_cells(step: Step, name_of: str, before: str) -> Iterator[tuple[tuple[str, str, str | None], str, SettingValue]]:
    for name, described in {**PART_DESCRIPTORS["step"], **descriptors_of(type(step.settings))}.items():
        holder: Any = step if name in PART_DESCRIPTORS["step"] else step.settings
        value = getattr(holder, name)
        yield ("step", name_of, name), f"{before}{described.label}", list(value) if isinstance(value, tuple) else value
    if step.key is not None:
        yield ("key", name_of, None), f"{before}Key", key_text(step.key)
    if step.envelopes:
        yield ("step", f"{name_of} over time", None), f"{before}Over time", envelopes_text(step)
    for lane in step.lanes:
        for name, described in PART_DESCRIPTORS["lane"].items():
            if name not in LANE_OWN:
                yield ("lane", lane.id, name), f"{before}{lane.name} {described.label}", getattr(lane, name)
        yield from path_cells(lane.path, f"{before}{lane.name}: ")


def envelopes_text(step: Step) -> str:
    """Which settings of a step move, and between which values."""
    known = {**PART_DESCRIPTORS["step"], **descriptors_of(type(step.settings))}
    parts = []
    for name, envelope in sorted(step.envelopes.items()):
        values = [*(point.value for point in envelope.points), *envelope.sections.values()] or [0.0]
        label = known[name.partition(".")[0]].label
        parts.append(f"{label} {min(values):g} to {max(values):g}, {len(values)} values{' (off)' if envelope.bypass else ''}")
    return "; ".join(parts)


def key_text(key: Key) -> str:
    source = next((name for name in (key.strip_id, key.step_id, key.lane_id) if name is not None), "own strip")
    return f"{source}, {key.at} its path, {key.trim_db:g} dB"


def compared(session: Session, of: SlotOwner, name: str) -> SlotsCompared:
    """What differs between the versions of a scope. Raises NotFound."""
    owner = owner_of(session, of, name)
    slots = slots_of(owner)
    if slots is None:
        return SlotsCompared(on=None, slots=[], changed=False, differences=[])
    active = version_of(owner)
    versions: dict[int, Step | Lane | Path] = dict(slots.kept)
    changed = slots.on is not None and not same(versions[slots.on], active)
    if slots.on is not None:
        versions[slots.on] = active
    live = {*content_path(owner).ids(), name}
    cells = {number: {key: (label, value) for key, label, value in cells_of(one, name)} for number, one in versions.items()}
    keys = list(dict.fromkeys(key for row in cells.values() for key in row))
    differences = []
    for key in keys:
        row: Mapping[int, tuple[str, SettingValue] | None] = {number: cells[number].get(key) for number in sorted(cells)}
        values = {number: None if cell is None else cell[1] for number, cell in row.items()}
        if all(value == next(iter(values.values())) for value in values.values()):
            continue
        label = next(cell[0] for cell in row.values() if cell is not None)
        kind, part_id, setting = key
        settable = setting is not None and kind in ("step", "lane") and part_id in live
        differences.append(
            Difference(
                label=label,
                of=kind if settable else None,
                id=part_id if settable else None,
                name=setting if settable else None,
                values=values,
            )
        )
    return SlotsCompared(on=slots.on, slots=sorted(slots.kept), changed=changed, differences=differences)


def same(one: Part, other: Part) -> bool:
    """Whether two versions are alike but for what was measured of them."""

    def plain(part: Part) -> Any:
        return without_matches(part.model_dump(mode="json"))

    return bool(plain(one) == plain(other))


def without_matches(data: Any) -> Any:
    if isinstance(data, list):
        return [without_matches(item) for item in data]
    if isinstance(data, dict):
        return {name: without_matches(item) for name, item in data.items() if name != "match"}
    return data
