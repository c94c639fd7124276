"""What every processor declares and does."""

import copy
import math
from abc import ABC, abstractmethod
from dataclasses import asdict, dataclass, field
from typing import Any, ClassVar, Literal, Self

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field
from pydantic_core import PydanticUndefined

from saltanvil.dsp.envelope import clean, needs_cleaning
from saltanvil.dsp.kernel import TICK_FRAMES

Audio = NDArray[np.float32]
Scale = Literal["linear", "log"]

#: Time in which a moved setting covers 1 - 1/e of the way: short enough to feel direct, too long to click.
GLIDE_MS = 8.0


class Settings(BaseModel):
    """Base of every settings model: frozen, no unknown names, no NaN."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)


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
) -> Any:
    """A number on a scale. `ticks` are values worth a mark; `off_at` reads "off"; `when` names the settings (and
    their values) for which the rule has a say."""
    extra = {"label": label, "unit": unit, "group": group, "scale": scale, "ticks": list(ticks)}
    return Field(
        default,
        ge=low,
        le=high,
        description=help,
        json_schema_extra={**extra, "off_at": off_at, "when": when or {}},  # type: ignore[dict-item]
    )


def choice(default: Any, label: str, group: str, help: str, *, when: dict[str, list[str]] | None = None) -> Any:
    """One of a few words (a Literal), or a switch (a bool)."""
    extra = {"label": label, "unit": "", "group": group, "when": when or {}}
    return Field(default, description=help, json_schema_extra=extra)  # type: ignore[arg-type]


@dataclass(slots=True)
class Telemetry:
    """What a step did in its last block, one value a tick.

    reduction_db: the largest change of gain, positive where it falls; detector_db: loudest level at the detector.
    Empty where a processor has neither. rows: what else a processor has to show, by name.
    """

    reduction_db: NDArray[np.float32] = field(default_factory=lambda: np.empty(0, np.float32))
    detector_db: NDArray[np.float32] = field(default_factory=lambda: np.empty(0, np.float32))
    rows: dict[str, NDArray[np.float32]] = field(default_factory=dict)


@dataclass(frozen=True)
class Start:
    """A starting point: settings for a task, and what to listen for when they are then moved."""

    name: str
    listen: str
    settings: dict[str, Any]


@dataclass(frozen=True)
class Context:
    """What a processor may need to know of the session."""

    rate: int = 48000
    tempo_bpm: float = 120.0


class Stateful:
    """A part of a processor with arrays, or parts of its own, as its state."""

    def clone(self) -> Self:
        """A copy with a state of its own, that goes on from here."""
        twin = copy.copy(self)
        for name, value in vars(self).items():
            if isinstance(value, np.ndarray):
                setattr(twin, name, value.copy())
            elif isinstance(value, Stateful):
                setattr(twin, name, value.clone())
        return twin


class Processor(Stateful, ABC):
    """One kind of treatment at work on one signal.

    x and y are float32 `(channels, frames)`, C-contiguous, channels 1 or 2. Any division into blocks gives the same
    samples; a setting changed by `configure` glides from the next tick on.
    """

    kind: ClassVar[str]
    label: ClassVar[str]
    settings_model: ClassVar[type[Settings]]
    #: Pictures of the editor, the first two of them shown at first.
    pictures: ClassVar[tuple[str, ...]] = ("bite", "spectrum")
    starts: ClassVar[tuple[Start, ...]] = ()
    #: The settings that stand for all where several of the kind are shown side by side.
    main: ClassVar[tuple[str, ...]] = ()
    #: Whether a detector listens, so that its key can be heard.
    listens: ClassVar[bool] = False
    #: Whether that detector may listen to another sound.
    keyed: ClassVar[bool] = False
    #: Whether something is measured of it over the passage and kept beside its settings.
    matched: ClassVar[bool] = False

    def __init__(self, settings: Settings, channels: int, context: Context) -> None:
        self.channels = channels
        self.context = context
        self.telemetry = Telemetry()
        #: What the detector heard in the last block, not delayed.
        self.heard: Audio | None = None
        self._phase = 0
        self.configure(settings, context)

    @abstractmethod
    def configure(self, settings: Settings, context: Context) -> None:
        """Take new settings; state and sound carry on."""

    def process(self, x: Audio, key: Audio | None = None) -> Audio:
        """Treat a block and return a new array, `latency_of` the settings late. `key` replaces what the detector hears.

        What is not a number is taken as silence, and what is beyond all sense is held to +80 dBFS.
        """
        if needs_cleaning(x):
            x = clean(x)
        y = self.treat(x, None if key is None else sensible(key))
        self._phase = (self._phase + x.shape[1]) & (TICK_FRAMES - 1)
        return y

    @abstractmethod
    def treat(self, x: Audio, key: Audio | None) -> Audio:
        """`process` for finite sound."""

    def trace(self, rows: int, frames: int) -> NDArray[np.float32]:
        """(rows, ticks that a block of this many frames touches), to be filled by a kernel."""
        return np.zeros((rows, -(-(self._phase + frames) // TICK_FRAMES)), np.float32)

    @classmethod
    def latency_of(cls, settings: Settings, rate: int) -> int:
        """By how many frames the output is late, for given settings."""
        return 0

    @classmethod
    def low_latency_settings(cls, settings: Settings) -> Settings:
        """The settings for playing along: lookahead and oversampling off, as little latency as the processor can do."""
        return settings

    @classmethod
    def loudness_gain_db(cls, settings: Settings) -> float | None:
        """The gain by which it is to leave as loud as it enters, guessed before it is measured; None where it is not to."""
        return None

    @classmethod
    def held_by(cls, settings: Settings, gain_db: float) -> Settings:
        """The settings that hold the loudness by a gain that was measured."""
        return settings

    @classmethod
    def structural_key(cls, settings: Settings) -> tuple[object, ...]:
        """What of the settings cannot glide: another form starts with a state of its own and is faded over to."""
        return ()

    @classmethod
    def curve(cls, settings: Settings, levels_db: NDArray[np.float64]) -> NDArray[np.float64] | None:
        """Output level for each input level, where the processor has a static curve."""
        return None

    @classmethod
    def response(cls, settings: Settings, frequencies_hz: NDArray[np.float64], rate: int) -> NDArray[np.float64] | None:
        """Gain in dB at the frequencies, where the processor is a filter."""
        return None

    @classmethod
    def linear_gain_db(cls, settings: Settings) -> float:
        """Gain of sound that the processor otherwise leaves alone."""
        return 0.0

    @classmethod
    def output_ceiling_db(cls, settings: Settings) -> float | None:
        """Level at which its ceiling leaves, where it has one."""
        return None

    @classmethod
    def key_response(cls, settings: Settings, frequencies_hz: NDArray[np.float64], rate: int) -> NDArray[np.float64] | None:
        """Gain in dB of the filter that the detector listens through; None where there is none."""
        return None


def sensible(x: Audio) -> Audio:
    """x without what is not a number, held to +80 dBFS; x itself where that changes nothing."""
    return clean(x) if needs_cleaning(x) else x


def glide_part(rate: int) -> float:
    """Share of the way a gliding setting covers each tick."""
    return 1.0 - math.exp(-TICK_FRAMES * 1000.0 / (GLIDE_MS * rate))


KINDS_OF_SETTING = {"number": "number", "integer": "number", "enum": "choice", "boolean": "switch"}


def describe(processor: type[Processor]) -> dict[str, Any]:
    """A processor as plain data: its settings with label, unit, range, scale, default and help, and a JSON schema."""
    schema = processor.settings_model.model_json_schema()
    settings = []
    fields = sorted(processor.settings_model.model_fields.items(), key=lambda field: field[0].startswith("key_"))
    for name, info in fields:  # the key filter comes last
        found = schema["properties"][name]
        extra = info.json_schema_extra if isinstance(info.json_schema_extra, dict) else {}
        default = None if info.default is PydanticUndefined else info.default
        settings.append(
            {
                "name": name,
                "type": extra.get("type") or KINDS_OF_SETTING["enum" if "enum" in found else found["type"]],
                "minimum": found.get("minimum"),
                "maximum": found.get("maximum"),
                "options": found.get("enum", []),
                "default": default,
                "help": info.description,
                "scale": extra.get("scale", "linear"),
                "ticks": extra.get("ticks", []),
                "off_at": extra.get("off_at"),
                **{key: extra[key] for key in ("label", "unit", "group", "when")},
            }
        )
    return {
        "kind": processor.kind,
        "label": processor.label,
        "summary": (processor.__doc__ or "").strip().split("\n\n")[0],
        "pictures": list(processor.pictures),
        "listens": processor.listens,
        "keyed": processor.keyed,
        "main": list(processor.main),
        "starts": [asdict(start) for start in processor.starts],
        "settings": settings,
        "schema": schema,
    }
