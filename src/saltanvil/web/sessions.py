"""Routes of sessions and their edits."""

from collections.abc import Sequence
from dataclasses import asdict
from typing import Annotated, Literal

from fastapi import APIRouter, Query
from pydantic import AfterValidator, BaseModel, Field

from saltanvil.engine.render import Cancelled
from saltanvil.engine.time import session_frames
from saltanvil.processors import processor_named
from saltanvil.processors.descriptor import SettingValue
from saltanvil.session.apply import AnyEdit
from saltanvil.session.automation import Automation
from saltanvil.session.blend import full_sum_db
from saltanvil.session.document.base import Rate
from saltanvil.session.document.path import SlotNumber
from saltanvil.session.document.session import Session
from saltanvil.session.edits.base import Batch
from saltanvil.session.edits.slots import StoreSlot
from saltanvil.session.key_sources import KeyGroup, key_groups
from saltanvil.session.settings import differing, resolve
from saltanvil.session.slot_differences import SlotsCompared, compared
from saltanvil.session.slots import SlotOwner, whole
from saltanvil.store.parts import Part
from saltanvil.store.sessions import HistoryEntry, Version
from saltanvil.studies.left_out import left_out
from saltanvil.studies.match.match import is_matched
from saltanvil.studies.moving import MovingValue
from saltanvil.studies.routing import Routing, notices_of
from saltanvil.web.jobs import Job, JobView
from saltanvil.web.services import Number, Served, Services

router = APIRouter(prefix="/api/sessions", tags=["sessions"])

Tab = Annotated[str | None, Field(max_length=64)]
MAX_BATCH_DEPTH, MAX_EDITS = 8, 500


class SessionRow(BaseModel):
    id: int
    name: str
    changed_at: float
    deleted: bool
    length_s: float
    media_bytes: int


class VersionView(BaseModel):
    """A session as it stands. `revision` grows with every change.

    since: of an answer that goes on from a revision which the asker has: then `session.strips`, `plates`, `resolved` and `sums`
    tell of the strips that changed only, `routing` only if it did, and `strip_ids` names all strips in order. None: everything.
    notices: what the last edit did besides what it was for, or what was left out when the session was read. plates: what
    each step's plate says of its settings, by its id. resolved: the settings that a step runs with otherwise than its
    document says, by its id and their names. sums: what a split by copies does to sound that its lanes leave as it is, in dB, by
    its id; -160 where they cancel. compensated: the steps whose loudness is held; measuring: those that are being measured.
    """

    id: int
    revision: int
    can_undo: bool
    can_redo: bool
    length_s: float
    since: int | None
    strip_ids: list[str]
    session: Session
    routing: Routing | None
    notices: list[str]
    undo: str | None
    redo: str | None
    plates: dict[str, str]
    resolved: dict[str, dict[str, SettingValue]]
    sums: dict[str, float]
    moving: list[MovingValue]
    compensated: list[str]
    measuring: list[str]


class NewSession(BaseModel):
    name: str = Field(min_length=1, max_length=120)
    rate_hz: Rate = 48000
    tempo_bpm: float = Field(default=120.0, ge=20.0, le=300.0)
    beats_in_bar: int = Field(default=4, ge=1, le=16)


def bounded(edit: AnyEdit) -> AnyEdit:
    """An edit within bounds: so many edits in one, and so deep in each other."""

    def count(part: AnyEdit, depth: int) -> int:
        if depth > MAX_BATCH_DEPTH:
            raise ValueError(f"batches stand in each other more than {MAX_BATCH_DEPTH} deep; send a flat one")
        return 1 + sum(count(inner, depth + 1) for inner in part.edits) if isinstance(part, Batch) else 1

    if count(edit, 0) > MAX_EDITS:
        raise ValueError(f"these are more than {MAX_EDITS} edits; send them in parts")
    return edit


class EditRequest(BaseModel):
    """gesture: edits of one drag carry the same word and are undone together; tab: who asks; number: of the move that this stores
    (see the socket's `move`); since: the revision it has, if the answer may leave out what did not change."""

    edit: Annotated[AnyEdit, AfterValidator(bounded)]
    gesture: str | None = Field(default=None, max_length=64)
    tab: Tab = None
    number: int | None = Field(default=None, ge=0, le=1 << 53)
    since: int | None = None


class TabRequest(BaseModel):
    tab: Tab = None
    since: int | None = None


class UndoRequest(TabRequest):
    """part: what the edit is to be about; null: the last edit, whatever it is about."""

    part: Part | None = None


def view(services: Services, version: Version, notices: Sequence[str] = (), since: Version | None = None) -> VersionView:
    """since: the version that the asker has."""
    session = version.session
    old, new = services.routing(version.id, session)
    routing: Routing | None = new
    strips = session.strips
    if since is not None:
        # What stayed is the same object (see `session.sharing`); what moves all strips is told with all of them.
        known = {id(strip) for strip in since.session.strips} if own(session) == own(since.session) else set()
        strips = [strip for strip in strips if id(strip) not in known]
        routing = None if old is not None and old[0] is since.session and old[1] == new else new
    steps = [step for strip in strips for step in strip.path.walk()]
    automation = Automation(session)
    frames = session_frames(session, services.media.at_rate(session.rate_hz))
    return VersionView(
        id=version.id, revision=version.revision, can_undo=version.can_undo, can_redo=version.can_redo,
        length_s=frames / session.rate_hz, since=since.revision if since is not None else None,
        strip_ids=[strip.id for strip in session.strips],
        session=session if since is None else session.model_copy(update={"strips": strips}),
        routing=routing, notices=list(notices), undo=version.undo, redo=version.redo,
        plates={step.id: processor_named(step.kind).summary(resolve(session, step, automation=automation)) for step in steps},
        resolved={step.id: now for step in steps if (now := dict(differing(session, step, True, automation)))},
        sums={step.id: full_sum_db(step, split) for step in steps if (split := step.split) is not None and split.by == "copies"},
        moving=services.moving(version.id, session),
        compensated=[step.id for strip in session.strips for step in strip.path.walk() if is_matched(step)],
        measuring=services.matches.measuring(version.id),
    )  # fmt: skip


def own(session: Session) -> dict[str, object]:
    """What a session holds besides its strips."""
    return {name: value for name, value in session if name != "strips"}


def answer(services: Services, before: Version, version: Version, since: int | None, notices: Sequence[str] = ()) -> VersionView:
    """What an edit, an undo or a redo made of the version before it. since: the revision that the asker has."""
    follows = since == before.revision and version.revision <= before.revision + 1  # the same where nothing changed
    return view(services, version, notices, before if follows else None)


@router.get("")
def list_sessions(services: Served) -> list[SessionRow]:
    return [SessionRow(**asdict(row)) for row in services.sessions.listed()]


@router.post("", status_code=201)
def new_session(services: Served, question: NewSession) -> VersionView:
    session = Session(
        name=question.name, rate_hz=question.rate_hz, tempo_bpm=question.tempo_bpm, beats_in_bar=question.beats_in_bar
    )
    return view(services, services.sessions.version(services.sessions.create(session)))


class NewDemo(BaseModel):
    name: Literal["Low Water", "Harbour Walk"]


@router.post("/demo", status_code=202)
def new_demo(services: Served, question: NewDemo) -> JobView:
    """A demo session as it first was, made anew: takes a while. The job's `session_id` is that of the session once it is done."""

    def work(job: Job) -> None:
        from saltanvil.demo.make import make_one

        def progress(fraction: float) -> None:
            if job.cancelled():
                raise Cancelled
            job.progress(fraction)

        job.session_id = make_one(question.name, services.sessions, services.media, progress)

    return services.jobs.start(0, "demo", question.name, work).view()


@router.get("/{session_id}")
def get_session(services: Served, session_id: Number) -> VersionView:
    version = services.sessions.version(session_id)
    services.matches.check(session_id)
    return view(services, version, version.notices)


@router.get("/{session_id}/slots")
def get_slots(services: Served, session_id: Number, of: SlotOwner, id: Annotated[str, Query(max_length=64)]) -> SlotsCompared:
    """The versions of a step, a lane or a strip's path: what differs between them."""
    return compared(services.sessions.version(session_id).session, of, id)


@router.get("/{session_id}/keys")
def get_key_sources(services: Served, session_id: Number, step_id: Annotated[str, Query(max_length=64)]) -> list[KeyGroup]:
    """What the detector of a step can listen to."""
    return key_groups(services.sessions.version(session_id).session, step_id)


@router.post("/{session_id}/duplicate", status_code=201)
def duplicate_session(services: Served, session_id: Number) -> VersionView:
    return view(services, services.sessions.version(services.sessions.duplicate(session_id)))


@router.delete("/{session_id}", status_code=204)
def delete_session(services: Served, session_id: Number) -> None:
    """Undoable: `restore` brings it back as it was."""
    services.sessions.set_deleted(session_id, True)


@router.post("/{session_id}/restore", status_code=204)
def restore_session(services: Served, session_id: Number) -> None:
    services.sessions.set_deleted(session_id, False)


@router.post("/{session_id}/edits")
def edit_session(services: Served, session_id: Number, question: EditRequest) -> VersionView:
    before = services.sessions.version(session_id)
    version = services.edit(session_id, question.edit, question.gesture, question.tab, question.number)
    notices = [*notices_of(before.session, version.session), *left_out(question.edit, version.session)]
    return answer(services, before, version, question.since, notices)


@router.post("/{session_id}/undo")
def undo(services: Served, session_id: Number, question: UndoRequest) -> VersionView:
    before = services.sessions.version(session_id)
    version = services.sessions.undo(session_id, question.part)
    return answer(services, before, services.changed(version, question.tab), question.since)


class HistoryView(BaseModel):
    """The last edits, the newest first. position: how many are in force."""

    position: int
    edits: list[HistoryEntry]


class PlaceRequest(TabRequest):
    position: int = Field(ge=0, le=1 << 53)


class SlotRequest(BaseModel):
    """A place of the history, whose version of a step, a lane or a strip's path goes into a slot."""

    tab: Tab = None
    since: int | None = None
    position: int = Field(ge=0, le=1 << 53)
    of: SlotOwner
    id: str = Field(max_length=64)
    slot: SlotNumber


MAX_HISTORY = 500


@router.get("/{session_id}/history")
def get_history(
    services: Served, session_id: Number, limit: Annotated[int, Query(ge=1, le=MAX_HISTORY)] = MAX_HISTORY
) -> HistoryView:
    edits = services.sessions.history(session_id, limit)
    return HistoryView(position=next((edit.position for edit in edits if not edit.undone), 0), edits=edits)


@router.post("/{session_id}/history")
def go_to(services: Served, session_id: Number, question: PlaceRequest) -> VersionView:
    """Undo or redo to a place of the history."""
    before = services.sessions.version(session_id)
    version = services.changed(services.sessions.go_to(session_id, question.position), question.tab)
    return answer(services, before, version, question.since)


@router.post("/{session_id}/history/slot")
def slot_from_history(services: Served, session_id: Number, question: SlotRequest) -> VersionView:
    """Put what a step, a lane or a path was at a place of the history into a slot, to be compared with what sounds."""
    before = services.sessions.version(session_id)
    then = services.sessions.session_at(session_id, question.position)
    edit = StoreSlot(of=question.of, id=question.id, slot=question.slot, version=whole(then, question.of, question.id))
    version = services.edit(session_id, edit, None, question.tab, None)
    return answer(services, before, version, question.since)


@router.post("/{session_id}/redo")
def redo(services: Served, session_id: Number, question: UndoRequest) -> VersionView:
    before = services.sessions.version(session_id)
    version = services.sessions.redo(session_id, question.part)
    return answer(services, before, services.changed(version, question.tab), question.since)
