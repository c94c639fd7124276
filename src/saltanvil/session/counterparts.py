"""Which step of one path stands for which of another.

Steps that were added on several strips at once stand for each other, as their names tell. Of the others it is the one of the same
kind with as many of that kind before it.
"""

from collections.abc import Iterable

from saltanvil.session.document.base import MAX_ID
from saltanvil.session.document.path import Lane, Path, Step
from saltanvil.session.document.session import Session


def counterpart(path: Path, other: Path, step_id: str) -> Step | None:
    """The step of another path that stands for one of this path; in lanes, that in the same lane of the split that stands for its
    split. None if there is none."""
    rows = row_with(path, other, step_id)
    if rows is None:
        return None
    steps, others = rows
    return alike_in(steps, others, next(step for step in steps if step.id == step_id))


def counterparts(session: Session, step_id: str, strips: Iterable[str]) -> list[Step]:
    """What stands for a step on other strips. Raises NotFound."""
    path = session.step(step_id).strip.path
    twins = (counterpart(path, session.strip(strip_id).path, step_id) for strip_id in strips)
    return [twin for twin in twins if twin is not None and twin.id != step_id]


def counterpart_lane(path: Path, other: Path, lane_id: str) -> Lane | None:
    """The lane of another path that stands for one of this path."""
    for step in path.walk():
        for number, lane in enumerate(step.lanes):
            if lane.id == lane_id:
                split = counterpart(path, other, step.id)
                return split.lanes[number] if split is not None and number < len(split.lanes) else None
    return None


def row_with(path: Path, other: Path, step_id: str) -> tuple[list[Step], list[Step]] | None:
    """The steps of the path or lane that a step lies in, and those of the one that stands for it."""
    if any(step.id == step_id for step in path.steps):
        return path.steps, other.steps
    for step in path.steps:
        for number, lane in enumerate(step.lanes):
            if any(inner.id == step_id for inner in lane.path.walk()):
                split = alike_in(path.steps, other.steps, step)
                if split is None or number >= len(split.lanes):
                    return None
                return row_with(lane.path, split.lanes[number].path, step_id)
    return None


def alike_in(steps: list[Step], others: list[Step], step: Step) -> Step | None:
    origins, others_origins = ({origin(one.id): one for one in row} for row in (steps, others))
    twin = others_origins.get(origin(step.id))
    if twin is not None and sort_of(twin) == sort_of(step):
        return twin
    before = sum(sort_of(one) == sort_of(step) and origin(one.id) not in others_origins for one in steps[: steps.index(step)])
    alike = [one for one in others if sort_of(one) == sort_of(step) and origin(one.id) not in origins]
    return alike[before] if before < len(alike) else None


def name_on(strip: int, step_id: str) -> str | None:
    """What the step is called that is added on another strip together with one; None if that would be too long."""
    name = f"{origin(step_id)}_{strip}"
    return name if len(name) <= MAX_ID else None


def origin(step_id: str) -> str:
    """What steps that were added together have in common."""
    name, _, number = step_id.rpartition("_")
    return name if name and number.isdecimal() else step_id


def sort_of(step: Step) -> tuple[str, str]:
    return step.kind, "" if step.split is None else step.split.by
