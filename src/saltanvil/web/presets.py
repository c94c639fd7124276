"""Routes of presets, and of curves as text."""

from typing import Annotated, Any, Literal

from fastapi import APIRouter, HTTPException, Query
from pydantic import BaseModel, ConfigDict, Field, field_validator

from saltanvil.errors import reason
from saltanvil.processors import Settings, processor_named
from saltanvil.processors.freecurve import FreeCurveSettings, points_from_text, points_to_csv
from saltanvil.session.document.base import Name
from saltanvil.session.document.path import Path as StepPath
from saltanvil.session.format import PATH, from_2, settings_from_2, without_outputs
from saltanvil.session.slots import without_slots
from saltanvil.session.starts import PATH_STARTS
from saltanvil.store.database import MAX_NUMBER
from saltanvil.store.presets import Kept, Preset
from saltanvil.web.services import Number, Served

router = APIRouter(prefix="/api", tags=["presets"])

FORMAT, VERSION = "salt anvil presets", 3
MAX_PRESETS, MAX_TEXT = 2000, 20_000
#: Presets of every session, and of this one.
OfSession = Annotated[int | None, Query(ge=0, le=MAX_NUMBER)]


class PresetBody(BaseModel):
    """Settings of a processor, or (kind `path`) the steps of a path, under a name."""

    model_config = ConfigDict(extra="forbid")
    kind: str = Field(max_length=40)
    name: Name
    settings: dict[str, Any]

    @field_validator("kind")
    @classmethod
    def known(cls, kind: str) -> str:
        if kind != PATH:
            processor_named(kind)
        return kind

    def checked(self) -> Settings | StepPath:
        """The settings as their processor takes them, or the steps. Raises ValueError, naming the preset and the setting."""
        if self.kind == PATH:
            return without_outputs(StepPath.model_validate(self.settings))
        return processor_named(self.kind).settings_model.model_validate(self.settings)


class PresetView(BaseModel):
    """problem: why it cannot be used, or what was left out of it; one that cannot be used has no settings."""

    id: int
    kind: str
    name: str
    settings: dict[str, Any]
    problem: str | None
    session_id: int | None


class NewPreset(PresetBody):
    """session_id: the session that is to have it; None: every session. replace: one of the same name, if there is one. slots: a
    path with the slots of its steps and lanes, and not only what sounds."""

    session_id: int | None = Field(default=None, ge=0, le=MAX_NUMBER)
    replace: bool = False
    slots: bool = False


class PresetFile(BaseModel):
    """Presets as they are exported: a format, its version, and the presets."""

    model_config = ConfigDict(extra="forbid")
    format: Literal["salt anvil presets"]
    version: int
    presets: list[PresetBody] = Field(max_length=MAX_PRESETS)

    @field_validator("version")
    @classmethod
    def readable(cls, version: int) -> int:
        if not 1 <= version <= VERSION:
            raise ValueError(f"this file is of version {version}; this program reads versions up to {VERSION}: update it")
        return version


class Rename(BaseModel):
    name: Name


class CurveText(BaseModel):
    text: str = Field(max_length=MAX_TEXT)


class CurvePoints(BaseModel):
    points: list[tuple[float, float]] = Field(min_length=2, max_length=16)


def view(preset: Preset) -> PresetView:
    return PresetView(
        id=preset.id, kind=preset.kind, name=preset.name, settings=preset.settings, problem=preset.problem,
        session_id=preset.session_id,
    )  # fmt: skip


@router.get("/presets")
def list_presets(services: Served, kind: str | None = None, session_id: OfSession = None) -> list[PresetView]:
    """Those of every session, and of one."""
    return [view(preset) for preset in services.presets.listed(kind, session_id)]


@router.post("/presets", status_code=201)
def save_preset(services: Served, question: NewPreset) -> PresetView:
    if question.session_id is not None:
        services.sessions.version(question.session_id)
    content = checked(question)
    if isinstance(content, StepPath) and not question.slots:
        content = without_slots(content)
    return view(services.presets.save(Kept(question.kind, question.name, content, question.session_id), question.replace))


@router.get("/presets/file")
def export_presets(
    services: Served,
    kind: str | None = None,
    session_id: OfSession = None,
    ids: Annotated[list[Annotated[int, Field(ge=0, le=MAX_NUMBER)]] | None, Query(max_length=MAX_PRESETS)] = None,
) -> PresetFile:
    """ids: only these."""
    usable = [
        preset for preset in services.presets.listed(kind, session_id) if preset.settings and (ids is None or preset.id in ids)
    ]
    result = [PresetBody(kind=preset.kind, name=preset.name, settings=preset.settings) for preset in usable]
    return PresetFile(format="salt anvil presets", version=VERSION, presets=result)


@router.post("/presets/file", status_code=201)
def import_presets(services: Served, question: PresetFile) -> list[PresetView]:
    """All of them or, if one cannot be used, none."""
    if question.version <= 2:
        for preset in question.presets:
            preset.settings = from_2(preset.settings) if preset.kind == PATH else settings_from_2(preset.settings)
    result = [Kept(preset.kind, preset.name, checked(preset)) for preset in question.presets]
    return [view(preset) for preset in services.presets.save_all(result)]


@router.patch("/presets/{preset_id}")
def rename_preset(services: Served, preset_id: Number, question: Rename) -> PresetView:
    return view(services.presets.rename(preset_id, question.name))


@router.delete("/presets/{preset_id}", status_code=204)
def delete_preset(services: Served, preset_id: Number) -> None:
    """Undoable: `restore` brings it back."""
    services.presets.set_deleted(preset_id, True)


@router.post("/presets/{preset_id}/restore", status_code=204)
def restore_preset(services: Served, preset_id: Number) -> None:
    services.presets.set_deleted(preset_id, False)


@router.post("/curve/read")
def read_curve(question: CurveText) -> CurvePoints:
    """Points of a free curve from CSV or JSON text."""
    try:
        return CurvePoints(points=list(points_from_text(question.text)))
    except ValueError as error:
        raise HTTPException(422, str(error)) from error


@router.post("/curve/csv")
def write_curve(question: CurvePoints) -> CurveText:
    """Points of a free curve as CSV."""
    try:
        return CurveText(text=points_to_csv(FreeCurveSettings(points=tuple(question.points)).points))
    except ValueError as error:
        raise HTTPException(422, reason(error)) from error


class PathStartView(BaseModel):
    """A ready-made path or split, and what to listen for. words: others by which it is searched for."""

    name: str
    listen: str
    path: StepPath
    words: tuple[str, ...]


@router.get("/paths/starts")
def list_path_starts() -> list[PathStartView]:
    return [PathStartView(name=start.name, listen=start.listen, path=start.path, words=start.words) for start in PATH_STARTS]


def checked(preset: PresetBody) -> Settings | StepPath:
    try:
        return preset.checked()
    except ValueError as error:
        raise HTTPException(422, f"preset {preset.name!r}: {reason(error)}") from error
