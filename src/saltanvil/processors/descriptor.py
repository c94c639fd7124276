"""What can be told of a value that can be moved: label, unit, range, scale, default, and how it moves."""

from collections.abc import Mapping
from functools import cache
from types import MappingProxyType
from typing import Any, Literal

from annotated_types import Ge, Le, MaxLen
from pydantic import BaseModel, Field
from pydantic.fields import FieldInfo
from pydantic_core import PydanticUndefined

from saltanvil.dsp.units import NOTE_QUARTERS
from saltanvil.measure.resonances import Resonance

Scale = Literal["linear", "log"]
#: Note values: times counted in the tempo.
Note = Literal["1/64", "1/32", "1/16t", "1/16", "1/16d", "1/8t", "1/8", "1/8d", "1/4t", "1/4", "1/4d", "1/2", "1/1"]
assert set(Note.__args__) == set(NOTE_QUARTERS)  # type: ignore[attr-defined]
#: How a value moves while sound runs. glides: along ticks, without a click, so that it can be automated; at once: takes
#: effect with the next block; latency, structure: plays the old and the new plan for one block and fades between them.
Moves = Literal["glides", "at once", "latency", "structure"]
ValueType = Literal["number", "choice", "switch", "text", "points", "dividers", "resonances"]
#: A number, a switch, a word, the dividers of bands, the points of a curve, or resonances.
SettingValue = bool | float | str | list[float] | list[tuple[float, float]] | list[Resonance]


class Descriptor(BaseModel):
    """One value that can be moved.

    minimum, maximum: of numbers, of each divider, of the frequency of a resonance; most: how many there can be of what is a row;
    options: of choices; words: what is shown for an option, where that is not the option itself; off_at: the number that reads
    "off"; ticks: values worth a mark; when: the settings (and their values as words) for which this one has a say; moves: see
    `Moves`; analysed: whether an analysis of the sound gives it, so that a starting point leaves it as it is.
    """

    name: str
    type: ValueType
    label: str
    unit: str
    group: str
    help: str
    default: SettingValue
    minimum: float | None
    maximum: float | None
    most: int | None
    options: list[str]
    words: dict[str, str]
    scale: Scale
    ticks: list[float]
    off_at: float | None
    when: dict[str, list[str]]
    moves: Moves
    analysed: bool


def rule(
    default: float,
    label: str,
    unit: str,
    low: float,
    high: float,
    group: str,
    help: str,
    *,
    scale: Scale = "linear",
    ticks: tuple[float, ...] = (),
    off_at: float | None = None,
    when: dict[str, list[str]] | None = None,
    moves: Moves = "glides",
) -> Any:
    """A number on a scale (see `Descriptor`)."""
    extra = {"label": label, "unit": unit, "group": group, "scale": scale, "ticks": list(ticks)}
    return Field(
        default,
        ge=low,
        le=high,
        description=help,
        json_schema_extra={**extra, "off_at": off_at, "when": when or {}, "moves": moves},  # type: ignore[dict-item]
    )


def choice(
    default: Any, label: str, group: str, help: str, *, when: dict[str, list[str]] | None = None, moves: Moves = "at once",
    words: dict[str, str] | None = None,
) -> Any:  # fmt: skip
    """One of a few words (a Literal), or a switch (a bool)."""
    extra = {"label": label, "unit": "", "group": group, "when": when or {}, "moves": moves, "words": words or {}}
    return Field(default, description=help, json_schema_extra=extra)  # type: ignore[arg-type]


def described(default: Any, type: ValueType, label: str, unit: str, group: str, help: str, **more: Any) -> Any:
    """A value of another type than number, choice and switch.

    more: limits of the field, `when`, `moves` and `analysed`; low, high: of each of a row, where its own type holds them.
    """
    extra = {
        "label": label, "unit": unit, "group": group, "value_type": type, "when": more.pop("when", {}),
        "moves": more.pop("moves", "at once"), "low": more.pop("low", None), "high": more.pop("high", None),
        "analysed": more.pop("analysed", False),
    }  # fmt: skip
    return Field(default, description=help, json_schema_extra=extra, **more)


@cache
def descriptors_of(model: type[BaseModel]) -> Mapping[str, Descriptor]:
    """The described fields of a model by name, in its order; a key filter's come last."""
    fields = sorted(model.model_fields.items(), key=lambda field: field[0].startswith("key_"))
    return MappingProxyType(
        {name: descriptor_of(name, info) for name, info in fields if isinstance(info.json_schema_extra, dict)}
    )


def descriptor_of(name: str, info: FieldInfo) -> Descriptor:
    extra: dict[str, Any] = dict(info.json_schema_extra)  # type: ignore[arg-type]
    options = list(getattr(info.annotation, "__args__", ())) if type_of(info, extra) == "choice" else []
    most = next((part.max_length for part in info.metadata if isinstance(part, MaxLen)), None)
    return Descriptor(
        name=name, type=type_of(info, extra), label=extra["label"], unit=extra["unit"], group=extra["group"],
        help=info.description or "", default="" if info.default is PydanticUndefined else info.default,
        minimum=extra.get("low", limit_of(info, Ge)), maximum=extra.get("high", limit_of(info, Le)), most=most, options=options,
        words=extra.get("words", {}),
        scale=extra.get("scale", "linear"), ticks=extra.get("ticks", []), off_at=extra.get("off_at"), when=extra["when"],
        moves=extra["moves"], analysed=extra.get("analysed", False),
    )  # fmt: skip


def type_of(info: FieldInfo, extra: dict[str, Any]) -> ValueType:
    if "value_type" in extra:
        result: ValueType = extra["value_type"]
        return result
    if info.annotation is bool:
        return "switch"
    return "number" if info.annotation in (int, float) else "choice"


def limit_of(info: FieldInfo, kind: type[Ge] | type[Le]) -> float | None:
    return next((float(getattr(part, kind.__name__.lower())) for part in info.metadata if isinstance(part, kind)), None)
