"""Which step of one path stands for which of another: of the same kind, and as many of that kind before it."""

from collections.abc import Iterable

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
    before = sum(sort_of(other) == sort_of(step) for other in steps[: steps.index(step)])
    alike = [other for other in others if sort_of(other) == sort_of(step)]
    return alike[before] if before < len(alike) else None


def sort_of(step: Step) -> tuple[str, str]:
    return step.kind, "" if step.split is None else step.split.by
