"""What is kept, as JSON text with the version of its format: documents, edits, presets and path files.

Older formats are migrated step by step, newer ones are refused, and a field that this program does not know is left out and
named, so that it never makes a session or a preset vanish.

format 1 (until 2026-11): no version in the text; `set_session`, `set_strip`, `set_send`, `set_lane`, `set_step`, `dissolve`
format 2 (until 2026-11): one `set` for any address, `remove_split`, matches with what they were measured over
format 3 (until 2026-11): settings and their values by other names (`RENAMED`, `REWORDED`)
format 4 (until 2026-11): slots of steps, lanes and paths
format 5 (until 2026-11): envelopes and levers
format 6 (until 2026-12): how a delivery is set up
format 7: printed tracks, linked steps
"""

import json
from collections.abc import Callable, Iterator
from typing import Any, TypeVar

from pydantic import BaseModel

from saltanvil.errors import UserError, reason
from saltanvil.processors import Settings, processor_named
from saltanvil.session.apply import EDIT
from saltanvil.session.delivery import Delivery
from saltanvil.session.document.automation import Automated, Breakpoint, Envelope, Lever, LeverTarget
from saltanvil.session.document.base import Part
from saltanvil.session.document.path import Key, Lane, Match, Path, Step, Stretch
from saltanvil.session.document.session import Printed, Section, Send, Session, Strip
from saltanvil.session.edits.base import Edit
from saltanvil.session.validate import checked

FORMAT = 7
#: Settings that have another name since format 3, and words of theirs that have.
RENAMED = {
    "attack_return_db": "restore_attacks_db", "drive_back": "compensate_drive", "lean": "low_end_weight", "liven": "lift_attacks",
    "mark_db": "warn_above_db",
}  # fmt: skip
REWORDED = {
    ("release_mode", "leaning"): "low-end weighted", ("output", "rising"): "not held", ("output", "by hand"): "manual gain",
    ("peaks", "sample"): "sample peak",
}  # fmt: skip
#: The kind of a preset that holds steps and splits.
PATH = "path"
#: Eight splits within each other, with slots, come to about ninety.
MAX_JSON_DEPTH = 200
TOO_DEEP = "its values lie within each other too deep; it is damaged"

Data = dict[str, Any]
T = TypeVar("T")


class Unreadable(UserError, ValueError):
    """What was kept cannot be read; the message says why and what to do."""


# ---- writing -------------------------------------------------------------------------------------------------------------


def written(model: BaseModel) -> str:
    """JSON text of a document, an edit, settings or a path, with the version of the format."""
    return json.dumps({"format": FORMAT, **model.model_dump(mode="json")}, separators=(",", ":"), allow_nan=False)


# ---- reading -------------------------------------------------------------------------------------------------------------


def read_session(text: str, name: str) -> tuple[Session, list[str]]:
    """A session, and what was left out of it. name: what it is called in an error. Raises Unreadable."""
    what = f"the session {name!r}"
    data = migrated(data_of(text, what), what)
    return validated(what, lambda: checked(Session.model_validate(data)), data, Session)


def read_edit(text: str) -> Edit:
    """An edit of the history. Raises Unreadable."""
    what = "an edit of the history"
    data = migrated(data_of(text, what), what, edit_from_1)
    return validated(what, lambda: EDIT.validate_python(data), data, None)[0]


def read_preset(kind: str, text: str, name: str) -> tuple[Settings | Path, list[str]]:
    """Settings of a processor, or (kind `path`) steps, and what was left out of them. Raises Unreadable."""
    what = f"the preset {name!r}"
    data = migrated(data_of(text, what), what, settings=kind != PATH)
    if kind == PATH:
        return validated(what, lambda: without_outputs(Path.model_validate(data)), data, Path)
    model = validated(what, lambda: processor_named(kind), data, None)[0].settings_model
    return validated(what, lambda: model.model_validate(data), data, model)


def read_path(text: str) -> Path:
    """A path file. Here an unknown field is an error: it was written by hand, and is more likely a slip. Raises Unreadable."""
    what = "the path"
    data = migrated(data_of(text, what), what)
    return validated(what, lambda: Path.model_validate(data), data, None)[0]


def without_outputs(path: Path) -> Path:
    """The path without buses of the session it came from."""
    for lane in path.lanes():
        lane.output = None
    return path


def too_deep(data: Any) -> bool:
    """Whether values lie within each other deeper than any part of a document: what goes through them calls itself."""
    level = [data]
    for _ in range(MAX_JSON_DEPTH):
        inner: list[Any] = []
        for value in level:
            if isinstance(value, dict):
                inner += value.values()
            elif isinstance(value, list):
                inner += value
        level = [value for value in inner if isinstance(value, dict | list)]
        if not level:
            return False
    return True


def data_of(text: str, what: str) -> Data:
    try:
        data = json.loads(text)
    except ValueError as error:
        raise Unreadable(f"{what} cannot be read: it is not JSON text ({error})") from error
    except RecursionError as error:
        raise Unreadable(f"{what} cannot be read: {TOO_DEEP}") from error
    if too_deep(data):
        raise Unreadable(f"{what} cannot be read: {TOO_DEEP}")
    if not isinstance(data, dict):
        raise Unreadable(f"{what} cannot be read: it is not a JSON object")
    return data


def migrated(data: Data, what: str, from_1: Callable[[Data], Data] | None = None, settings: bool = False) -> Data:
    """Data of any format in the present one, without the version. settings: it is the settings of a processor."""
    data = dict(data)
    result = data.pop("format", 1)
    if not isinstance(result, int) or isinstance(result, bool) or result < 1:
        raise Unreadable(f"{what} cannot be read: {result!r} is no version of a format")
    if result > FORMAT:
        raise Unreadable(
            f"{what} was kept by a newer Salt Anvil (format {result}; this one reads up to {FORMAT}); update it to open this"
        )
    if result == 1 and from_1 is not None:
        data = from_1(data)
    if result <= 2:
        data = settings_from_2(data) if settings else from_2(data)
    return data


def validated(what: str, read: Callable[[], T], data: Data, model: type[BaseModel] | None) -> tuple[T, list[str]]:
    """What was read, with fields unknown to the model left out of the data first, and their names."""
    left_out = [] if model is None else list(unknown_fields(model, data, ""))
    try:
        return read(), [f"{what}: {name} is not known to this version and was left out." for name in left_out]
    except ValueError as error:
        raise Unreadable(f"{what} cannot be read: {reason(error)}") from error


#: The parts of the document's parts.
CHILDREN: dict[type[BaseModel], dict[str, type[Part]]] = {
    Session: {"sections": Section, "strips": Strip, "levers": Lever, "delivery": Delivery},
    Strip: {"path": Path, "sends": Send, "printed": Printed},
    Printed: {"trim_envelope": Envelope},
    Path: {"steps": Step, "levers": Lever},
    Lever: {"targets": LeverTarget},
    Envelope: {"points": Breakpoint},
    Step: {"lanes": Lane, "match": Match, "match_over": Stretch, "key": Key},
    Lane: {"path": Path},
    Match: {"over": Stretch},
}


#: What the slots of a part hold.
SLOTTED: dict[type[BaseModel], type[Part]] = {Step: Step, Lane: Lane, Path: Path}


def unknown_fields(model: type[BaseModel], data: object, where: str) -> Iterator[str]:
    """Take fields that a model does not have out of the data; yields their names."""
    if not isinstance(data, dict):
        return
    for name in [name for name in data if name not in model.model_fields]:
        del data[name]
        yield f"{where}{name}"
    if model is Step and isinstance(data.get("kind"), str):
        try:
            yield from unknown_fields(processor_named(data["kind"]).settings_model, data.get("settings"), f"{where}settings.")
        except ValueError:
            return  # said when it is validated
    slots = data.get("slots")
    if (version := SLOTTED.get(model)) is not None and isinstance(slots, dict) and isinstance(slots.get("kept"), dict):
        for number, inner in slots["kept"].items():
            yield from unknown_fields(version, inner, f"{where}slots.{number}.")
    envelopes = data.get("envelopes")
    if issubclass(model, Automated) and isinstance(envelopes, dict):
        for name, inner in envelopes.items():
            yield from unknown_fields(Envelope, inner, f"{where}envelopes.{name}.")
    for name, part in CHILDREN.get(model, {}).items():
        inner = data.get(name)
        for index, item in enumerate(inner if isinstance(inner, list) else [inner]):
            yield from unknown_fields(part, item, f"{where}{name}.{index}." if isinstance(inner, list) else f"{where}{name}.")


# ---- format 2 ------------------------------------------------------------------------------------------------------------


def settings_from_2(settings: Data) -> Data:
    """The settings of a processor."""
    return {RENAMED.get(name, name): reworded(name, value) for name, value in settings.items()}


def reworded(name: str, value: object) -> object:
    return REWORDED.get((name, value), value) if isinstance(value, str) else value


def from_2(data: Any) -> Any:
    """A document, an edit or a path of format 2 in format 3: steps and moved values stand anywhere in it."""
    if isinstance(data, list):
        return [from_2(part) for part in data]
    if not isinstance(data, dict):
        return data
    if data.get("of") == "step" and isinstance(data.get("name"), str) and "value" in data:
        return {**data, "name": RENAMED.get(data["name"], data["name"]), "value": reworded(data["name"], data.get("value"))}
    data = {name: from_2(part) for name, part in data.items()}
    if "kind" in data and isinstance(data.get("settings"), dict):
        data["settings"] = settings_from_2(data["settings"])
    return data


# ---- format 1 ------------------------------------------------------------------------------------------------------------


def edit_from_1(data: Data) -> Data:
    """An edit of format 1 in format 2."""
    op = data.get("op")
    if op == "batch":
        return {**data, "edits": [edit_from_1(dict(part)) for part in data.get("edits", [])]}
    if op == "dissolve":
        return {**data, "op": "remove_split"}
    owner, _, of = str(op).partition("_")
    if owner != "set" or of not in ("session", "strip", "send", "lane", "step"):
        return data
    settings = {name: value for name, value in data.items() if name not in ("op", "alone", f"{of}_id") and value is not None}
    routed = (
        [{"op": "set_output", "lane_id": data["lane_id"], "output": settings.pop("output") or None}]
        if "output" in settings
        else []
    )
    settings.update(settings.pop("settings", {}))
    moved = [{"of": of, "id": data.get(f"{of}_id"), "name": name, "value": value} for name, value in settings.items()]
    edits: list[Data] = [{"op": "set", "values": moved, "alone": data.get("alone", False)}] if moved else []
    edits += routed
    return edits[0] if len(edits) == 1 else {"op": "batch", "edits": edits}
