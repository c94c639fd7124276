"""Every change of a document is one of these edits; applying one yields the changed document."""

from typing import Annotated

from pydantic import Field, TypeAdapter

from saltanvil.errors import reason
from saltanvil.session.document.base import NotFound
from saltanvil.session.document.session import Session
from saltanvil.session.edits.base import Batch, Edit, EditRefused, drop_dangling_references
from saltanvil.session.edits.envelopes import (
    ChangeEnvelope,
    MoveRange,
    RecordEnvelope,
    SetEnvelope,
    ShiftEnvelope,
    ThinRange,
    TurnEnvelope,
)
from saltanvil.session.edits.lanes import (
    AddDivider,
    AddLane,
    CopyToLanes,
    Divide,
    LanesToBuses,
    RemoveDivider,
    RemoveLane,
    RemoveSplit,
)
from saltanvil.session.edits.levers import AddLever, LearnLever, RemoveLever, SetLever, UnlearnLever
from saltanvil.session.edits.links import LinkSteps, UnlinkSteps
from saltanvil.session.edits.recordings import PrintStrip, ReplaceMedia, UnprintStrip
from saltanvil.session.edits.sections import AddSection, RemoveSection, SetSection, SetSections
from saltanvil.session.edits.slots import ClearSlot, SetVersion, StoreSlot, SwitchSlot
from saltanvil.session.edits.steps import AddStep, MoveStep, RemoveStep, SetKey, SetMatchOver, SetPath
from saltanvil.session.edits.strips import AddSend, AddStrip, MoveStrip, RemoveSend, RemoveStrip, SetOutput, SetRate
from saltanvil.session.edits.together import OnStrips
from saltanvil.session.edits.values import Set, SetDelivery
from saltanvil.session.sharing import forked, forked_for, revalidated
from saltanvil.session.validate import checked

AnyEdit = Annotated[
    Set | SetRate | SetDelivery | SetSections | AddSection | SetSection | RemoveSection | SetMatchOver
    | AddStrip | RemoveStrip | MoveStrip | SetOutput | PrintStrip | UnprintStrip | ReplaceMedia
    | AddSend | RemoveSend | SetKey
    | AddStep | RemoveStep | MoveStep | SetPath | OnStrips | LinkSteps | UnlinkSteps
    | AddLane | RemoveLane | AddDivider | RemoveDivider | Divide | RemoveSplit | CopyToLanes | LanesToBuses
    | SetEnvelope | ChangeEnvelope | ShiftEnvelope | TurnEnvelope | MoveRange | ThinRange | RecordEnvelope
    | AddLever | RemoveLever | SetLever | LearnLever | UnlearnLever
    | StoreSlot | SwitchSlot | ClearSlot | SetVersion
    | Batch,
    Field(discriminator="op"),
]  # fmt: skip
Batch.model_rebuild(_types_namespace={"AnyEdit": AnyEdit})
EDIT: TypeAdapter[AnyEdit] = TypeAdapter(AnyEdit)


def apply(session: Session, edit: Edit) -> Session:
    """A changed version, which shares the strips that the edit left alone.

    Where the edit takes away what a key was taken from, the detector listens to its own signal from then on.

    Raises EditRefused, naming the object and the reason, if the edit or what it leads to is not valid.
    """
    try:
        moved = edit.moved_strips(session)
        if moved is not None:  # the session is whole as it was: nothing came or went
            changed = forked_for(session, moved)
            edit.model_copy(deep=True).change(changed)
            return revalidated(changed, session)
        changed = forked(session)
        edit.model_copy(deep=True).change(changed)
        drop_dangling_references(changed)
        return checked(revalidated(changed, session))
    except NotFound as error:
        raise EditRefused(str(error)) from error
    except EditRefused:
        raise
    except ValueError as error:
        raise EditRefused(reason(error)) from error
