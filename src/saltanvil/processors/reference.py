"""A processor as plain data: for the API, the editor's rules, the command line and the reference page."""

from typing import Any

from pydantic import BaseModel

from saltanvil.processors.aims import Aim, LevelAim
from saltanvil.processors.base import Picture, Processor, Start
from saltanvil.processors.descriptor import Descriptor, SettingValue, descriptors_of


class StartReference(BaseModel):
    """A starting point and what to listen for when its settings are then moved; aims: what it sets by a figure of the passage, in
    words."""

    name: str
    listen: str
    settings: dict[str, SettingValue]
    aims: list[str]


class AimReference(BaseModel):
    """A figure that can be asked for, the settings that reach it, the usual one first, and a usual target."""

    name: str
    label: str
    unit: str
    settings: list[str]
    target: float
    low: float
    high: float


def aim_reference(aim: Aim | LevelAim) -> AimReference:
    return AimReference(
        name=aim.name, label=aim.label, unit=aim.unit, settings=list(aim.settings), target=aim.target, low=aim.low, high=aim.high
    )


class ProcessorReference(BaseModel):
    """summary, about: what it is, when it is used and what to listen for; aliases: other words it is searched for by; pictures:
    of its editor, the first two shown at first; listens: whether it has a detector; keyed: whether that may listen to another
    sound, needs_key: whether it must; main: the settings that stand for all where several are shown side by side; aims: what can
    be asked of it; shows_gate: whether its plate shows the state of its gate while it plays; level_line: the setting drawn across
    the level picture; settings_schema: JSON schema of its settings."""

    kind: str
    label: str
    aliases: list[str]
    summary: str
    about: str
    pictures: list[Picture]
    listens: bool
    keyed: bool
    matched: bool
    needs_key: bool
    shows_gate: bool
    level_line: str | None
    main: list[str]
    starts: list[StartReference]
    aims: list[AimReference]
    settings: list[Descriptor]
    settings_schema: dict[str, Any]


def start_reference(processor: type[Processor], start: Start) -> StartReference:
    aims = {aim.name: aim for aim in processor.aims}
    settings = descriptors_of(processor.settings_model)
    return StartReference(
        name=start.name, listen=start.listen, settings=start.settings,
        aims=[
            f"{settings[setting].label} ({aims[figure].label} {target:g} {aims[figure].unit})"
            for figure, target, setting in start.aims
        ],
    )  # fmt: skip


def reference_of(processor: type[Processor]) -> ProcessorReference:
    return ProcessorReference(
        kind=processor.kind, label=processor.label, aliases=list(processor.aliases),
        summary=(processor.__doc__ or "").strip().split("\n\n")[0], about=processor.about,
        pictures=list(processor.pictures), listens=processor.listens, keyed=processor.keyed, matched=processor.matched,
        needs_key=processor.needs_key, shows_gate=processor.shows_gate, level_line=processor.level_line,
        main=list(processor.main),
        starts=[start_reference(processor, start) for start in processor.starts],
        aims=[aim_reference(aim) for aim in processor.aims],
        settings=list(descriptors_of(processor.settings_model).values()),
        settings_schema=processor.settings_model.model_json_schema(),
    )  # fmt: skip
