"""Copies of steps under new names, made from an edit's `seed`: a redo makes the same names again."""

from collections.abc import Iterator, Sequence
from itertools import count
from typing import Annotated

from pydantic import Field

from saltanvil.session.document.base import new_id
from saltanvil.session.document.path import Path, Step
from saltanvil.session.document.session import Place

Seed = Annotated[str, Field(min_length=1, max_length=24, pattern=r"^[A-Za-z0-9_-]+$", default_factory=new_id)]


def names_from(seed: str) -> Iterator[str]:
    return (f"{seed}-{number}" for number in count())


def with_new_ids(steps: Sequence[Step], names: Iterator[str], new_names: dict[str, str] | None = None) -> list[Step]:
    """Copies of steps under new names, whatever lies in their lanes too. Keys among them go from copy to copy.

    new_names: takes the new name of each old one.
    """
    new: dict[str, str] = {} if new_names is None else new_names

    def copied(old: Sequence[Step]) -> list[Step]:
        result = []
        for step in old:
            new[step.id] = next(names)
            lanes = []
            for lane in step.lanes:
                new[lane.id] = next(names)
                path = Path(steps=copied(lane.path.steps))
                lanes.append(lane.model_copy(update={"id": new[lane.id], "path": path, "output": None}))
            result.append(step.model_copy(update={"id": new[step.id], "lanes": lanes}))
        return result

    copies = copied(steps)
    for step in Path(steps=copies).walk():
        if step.key is not None:
            of_step, of_lane = step.key.step_id, step.key.lane_id
            step.key = step.key.model_copy(
                update={"step_id": new.get(of_step or "", of_step), "lane_id": new.get(of_lane or "", of_lane)}
            )
    return copies


def replace_step(place: Place, *steps: Step) -> None:
    """Put steps in the place of one."""
    place.path.steps = [*place.path.steps[: place.index], *steps, *place.path.steps[place.index + 1 :]]
