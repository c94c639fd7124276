"""What every processor declares and does."""

from abc import ABC, abstractmethod
from dataclasses import dataclass, field
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict

from saltanvil.dsp.envelope import clean, needs_cleaning
from saltanvil.dsp.glide import glide_part
from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.dsp.state import Stateful
from saltanvil.dsp.units import db_to_gain, gain_to_db
from saltanvil.processors.aims import Aim
from saltanvil.processors.evidence import Evidence, Fact, Hint

Audio = NDArray[np.float32]


#: What an editor can show; the page has a part for each.
Picture = Literal["bite", "curve", "response", "spectrum", "wave", "envelopes", "bands", "resonances"]


class Settings(BaseModel):
    """Base of every settings model: frozen, no unknown names, no NaN."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)


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
    """A starting point: settings for a task, and what to listen for when they are then moved.

    aims: what some of them reach on the passage as it is applied, one after the other: an aim's name, its target, the setting.
    Where nothing can be measured, the settings stand as they are. reach: how far an aim moves a setting at most, so that a voice
    without an s is not turned down for one.
    """

    name: str
    listen: str
    settings: dict[str, Any]
    aims: tuple[tuple[str, float, str], ...] = ()
    reach: float = 48.0


@dataclass(frozen=True)
class Context:
    """What a processor may need to know of the session."""

    rate: int = 48000
    tempo_bpm: float = 120.0


class Processor(Stateful, ABC):
    """One kind of treatment at work on one signal.

    x and y are float32 `(channels, frames)`, C-contiguous, channels 1 or 2. Any division into blocks gives the same
    samples; a setting changed by `configure` glides from the next tick on.
    """

    kind: ClassVar[str]
    label: ClassVar[str]
    #: When it is used, and what to listen for: two sentences behind the first of its docstring.
    about: ClassVar[str] = ""
    #: Other words of the trade by which it is searched for.
    aliases: ClassVar[tuple[str, ...]] = ()
    settings_model: ClassVar[type[Settings]]
    #: Pictures of the editor, the first two of them shown at first; level and spectrum can be chosen in any.
    pictures: ClassVar[tuple[Picture, ...]] = ("bite", "spectrum")
    starts: ClassVar[tuple[Start, ...]] = ()
    #: Figures that can be asked for, with the settings that reach them.
    aims: ClassVar[tuple[Aim, ...]] = ()
    #: The settings that stand for all where several of the kind are shown side by side.
    main: ClassVar[tuple[str, ...]] = ()
    #: Whether a detector listens, so that its key can be heard.
    listens: ClassVar[bool] = False
    #: Whether that detector may listen to another sound.
    keyed: ClassVar[bool] = False
    #: Whether it does nothing until another sound is chosen for its key.
    needs_key: ClassVar[bool] = False
    #: Whether something is measured of it and kept beside its settings, so that its loudness can be held.
    matched: ClassVar[bool] = False
    #: Every how many ticks settings that move over time are worked out; in between they lie on straight lines.
    grid_ticks: ClassVar[int] = 8
    #: What its settings follow, where they move over time.
    follows: Any = None
    #: Of a kernel: the share of the way that settings cover each tick, or minus the ticks that are left.
    glide: float
    #: The setting that is drawn as a line across the level picture and can be dragged there.
    level_line: ClassVar[str | None] = None
    #: Whether its hints need a change of gain: there are none where nothing was traced.
    reduces: ClassVar[bool] = True
    #: Whether its plate shows the state of its gate (row `gate_state` of the telemetry) while it plays, and not its GR.
    shows_gate: ClassVar[bool] = False

    def __init__(self, settings: Settings, channels: int, context: Context) -> None:
        self.channels = channels
        self.context = context
        self.telemetry = Telemetry()
        self.glides_for(0)
        #: What the detector heard in the last block, not delayed.
        self.detector_input: Audio | None = None
        self._phase = 0
        #: Whether sound has moved it.
        self.started = False
        self.configure(settings, context)
        #: What it was configured with.
        self.configured = settings, context

    def glides_for(self, ticks: int) -> None:
        """How settings get to where they are to be: in even steps over so many ticks from the next block on; 0: as when a hand
        moves them."""
        self.glide = -float(ticks) if ticks else glide_part(self.context.rate)

    def take(self, settings: Settings, context: Context) -> None:
        """`configure`, if they are others than it has."""
        if self.configured[0] is not settings or self.configured[1] != context:
            if self.configured != (settings, context):
                self.configure(settings, context)
            self.configured = settings, context

    @abstractmethod
    def configure(self, settings: Settings, context: Context) -> None:
        """Take new settings; state and sound carry on."""

    def process(self, x: Audio, key: Audio | None = None) -> Audio:
        """Treat a block and return a new array, `latency_of` the settings late. `key` replaces the detector's input.

        What is not a number is taken as silence, and what is beyond all sense is held to +80 dBFS.
        """
        if needs_cleaning(x):
            x = clean(x)
        y = self.treat(x, None if key is None else sanitised(key))
        self._phase = (self._phase + x.shape[1]) & (TICK_FRAMES - 1)
        self.started = True
        return y

    @abstractmethod
    def treat(self, x: Audio, key: Audio | None) -> Audio:
        """`process` for finite sound."""

    def trace(self, rows: int, frames: int) -> NDArray[np.float32]:
        """(rows, ticks that a block of this many frames touches), to be filled by a kernel."""
        return np.zeros((rows, -(-(self._phase + frames) // TICK_FRAMES)), np.float32)

    @classmethod
    @abstractmethod
    def summary(cls, settings: Settings) -> str:
        """What its plate says of the settings that matter most, in a few words."""

    @classmethod
    def remark(cls, settings: Settings) -> str:
        """What its settings say beyond figures, in a sentence beside its picture."""
        return ""

    @classmethod
    def facts(cls, settings: Settings, seen: Evidence) -> list[Fact]:
        """Figures of its own for the ledger."""
        return []

    @classmethod
    def hints(cls, settings: Settings, seen: Evidence) -> list[Hint]:
        """What was measured that its user would want to be told."""
        return []

    @classmethod
    def latency_of(cls, settings: Settings, rate: int) -> int:
        """By how many frames the output is late, for given settings."""
        return 0

    @classmethod
    def returns_after(cls, settings: Settings, context: Context) -> int:
        """For how many frames it may be silent, once its input is, and still sound again: the distance of repeats."""
        return 0

    @classmethod
    def low_latency_settings(cls, settings: Settings) -> Settings:
        """The settings for playing along: lookahead and oversampling off, as little latency as the processor can do."""
        return settings

    @classmethod
    def loudness_gain_db(cls, settings: Settings) -> float | None:
        """The gain that is to hold its loudness, guessed before it is measured; None where its loudness is not held."""
        return None

    @classmethod
    def with_loudness_gain(cls, settings: Settings, gain_db: float) -> Settings:
        """The settings with the gain that holds the loudness, as it was measured."""
        return settings

    @classmethod
    def structural_key(cls, settings: Settings) -> tuple[object, ...]:
        """What of the settings cannot glide: another form starts with a state of its own and is faded over to."""
        return ()

    @classmethod
    def widens(cls, settings: Settings) -> bool:
        """Whether a mono sound becomes stereo here."""
        return False

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
    def detector_name(cls, settings: Settings) -> str | None:
        """What its detector's level is called in the level picture, where it listens to a part of the sound by its nature."""
        return None

    @classmethod
    def output_ceiling_db(cls, settings: Settings) -> float | None:
        """Level at which its ceiling leaves, where it has one."""
        return None

    @classmethod
    def key_response(cls, settings: Settings, frequencies_hz: NDArray[np.float64], rate: int) -> NDArray[np.float64] | None:
        """Gain in dB of the filter that the detector listens through; None where there is none."""
        return None


def mixed_gain_db(gain_db: float, mix: float) -> float:
    """What a gain of the treated sound comes to in the sum with the rest of the untreated. mix: share of the treated."""
    return gain_to_db(1.0 + mix * (db_to_gain(gain_db) - 1.0))


def mixed_db(reduction_db: NDArray[np.float32], mix: float) -> NDArray[np.float32]:
    """What a reduction comes to in the sum of the treated sound and the rest of the untreated. mix: share of the treated."""
    if mix >= 1.0:
        return reduction_db
    left = np.float32(1.0 - mix) + np.float32(mix) * np.float32(10.0) ** (reduction_db / np.float32(-20.0))
    return np.asarray(np.float32(-20.0) * np.log10(np.maximum(left, np.float32(1e-5))))


def sanitised(x: Audio) -> Audio:
    """x without what is not a number, held to +80 dBFS; x itself where that changes nothing."""
    return clean(x) if needs_cleaning(x) else x


def number(value: float, digits: int = 1) -> str:
    """A figure for a plate: without a fraction where there is none."""
    return f"{value:.0f}" if float(value).is_integer() else f"{value:.{digits}f}"


def signed(value: float) -> str:
    return f"{value:+.1f}" if value else "0.0"


def hertz(value: float) -> str:
    return f"{value / 1000:.3g} kHz" if value >= 1000 else f"{value:.0f} Hz"
