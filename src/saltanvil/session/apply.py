"""Every change of a document is one of these edits; applying one yields the changed document and the inverse edit."""

from typing import Annotated

from pydantic import Field, TypeAdapter

from saltanvil.session.document import Session, key_sources
from saltanvil.session.edits import (
    AddSend,
    AddStep,
    AddStrip,
    Batch,
    Edit,
    EditRefused,
    MoveStep,
    MoveStrip,
    RemoveSend,
    RemoveStep,
    RemoveStrip,
    SetKey,
    SetOutput,
    SetSections,
    SetSend,
    SetSession,
    SetStep,
    SetStrip,
    reason,
)
from saltanvil.session.lanes import (
    AddDivider,
    AddLane,
    CopyToLanes,
    Dissolve,
    Divide,
    LanesToBuses,
    RemoveDivider,
    RemoveLane,
    SetLane,
    SetPath,
)

AnyEdit = Annotated[
    SetSession | SetSections | AddStrip | RemoveStrip | SetStrip | MoveStrip | SetOutput
    | AddSend | RemoveSend | SetSend | SetKey
    | AddStep | RemoveStep | MoveStep | SetStep | SetPath
    | SetLane | AddLane | RemoveLane | AddDivider | RemoveDivider | Divide | Dissolve | CopyToLanes | LanesToBuses
    | Batch,
    Field(discriminator="op"),
]  # fmt: skip
Batch.model_rebuild(_types_namespace={"AnyEdit": AnyEdit})
EDIT: TypeAdapter[AnyEdit] = TypeAdapter(AnyEdit)


def apply(session: Session, edit: Edit) -> tuple[Session, Edit]:
    """A changed copy and the inverse edit; the given session stays as it is.

    Where the edit takes away what a key was taken from, the detector listens to its own signal from then on; the
    inverse gives the key back.

    Raises EditRefused, naming the object and the reason, if the edit or what it leads to is not valid.
    """
    changed = session.model_copy(deep=True)
    try:
        inverse = edit.model_copy(deep=True).change(changed)
        lost = lost_keys(changed)
        if lost:
            inverse = Batch(edits=[inverse, *(key.change(changed) for key in lost)])
        checked = Session.model_validate(changed.model_dump())
    except LookupError as error:
        raise EditRefused(str(error.args[0])) from error
    except EditRefused:
        raise
    except ValueError as error:
        raise EditRefused(reason(error)) from error
    return checked, inverse


def lost_keys(session: Session) -> list[SetKey]:
    """What lets go of the keys whose source is not there any more."""
    strips = {strip.id for strip in session.strips}
    parts = {part_id for strip in session.strips for part_id in strip.path.ids()}
    return [
        SetKey(step_id=step.id, key=None)
        for _, step, key in session.keyed_steps()
        if any(name not in known for name, known in key_sources(key, strips, parts))
    ]
