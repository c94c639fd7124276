"""What has a state: processors, delays and glides by the names of the objects they belong to."""

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp import mix
from saltanvil.dsp.state import Stateful
from saltanvil.engine.automation import Clock
from saltanvil.engine.saved import Saved, StateMemory
from saltanvil.processors import Processor, Settings, processor_named
from saltanvil.processors.base import Context
from saltanvil.session.document.path import Step

Audio = NDArray[np.float32]

#: States that listening needs, whatever the document says.
LISTENING = ("matched", "difference", "difference gain", "key", "lane before")
RING_FRAMES = 1 << 11
NO_RING = np.zeros((0, 0), np.float32)


class DelayLine(Stateful):
    """A delay that may change. It remembers more than it needs, so that a longer delay still reads sound.

    As long as it never delayed it remembers nothing and costs nothing: most delays of a session are never needed.
    """

    state = ("ring", "at")

    def __init__(self, channels: int) -> None:
        self.channels = channels
        self.clear()

    def clear(self) -> None:
        """As if it had never delayed."""
        self.ring, self.at = NO_RING, np.zeros(1, np.int64)

    @property
    def fresh(self) -> bool:
        return not self.ring.size

    def __call__(self, x: Audio, frames_late: int) -> Audio:
        if not self.ring.size and frames_late == 0:
            return x
        self._widen(frames_late)
        y = np.empty_like(x)
        mix.delay(x, y, self.ring, self.at, frames_late)
        return y

    def remember(self, x: Audio, frames_late: int) -> None:
        """As if it had been asked: whoever asks next finds the past."""
        if self.ring.size or frames_late:
            self._widen(frames_late)
            mix.remember(x, self.ring, self.at)

    def _widen(self, frames_late: int) -> None:
        if not self.ring.size:
            self.ring = np.zeros((self.channels, RING_FRAMES), np.float32)
        if frames_late >= self.ring.shape[1]:
            wider = np.zeros((self.ring.shape[0], 1 << frames_late.bit_length()), np.float32)
            wider[:, -self.ring.shape[1] :] = np.roll(self.ring, -int(self.at[0]), axis=1)
            self.ring, self.at = wider, np.zeros(1, np.int64)


class Glide(Stateful):
    """A gain that glides."""

    state = ("values",)

    #: What its values follow, where they move.
    follows: Any = None

    def __init__(self) -> None:
        self.clear()

    def clear(self) -> None:
        """As if it had never been used."""
        self.values = np.zeros(mix.GLIDE_STATE)

    @property
    def fresh(self) -> bool:
        return not self.started

    @property
    def started(self) -> bool:
        return bool(self.values[mix.PRIMED] != 0.0)


Key = tuple[str, ...]
RackState = Processor | DelayLine | Glide


class Rack:
    """Everything that has a state, by the names of the objects it belongs to: what an edit leaves, stays."""

    def __init__(self) -> None:
        self.states: dict[Key, RackState] = {}
        self.used: dict[Key, None] = {}
        self.clock = Clock()
        #: Where the arrays of the states lie, once they have been saved.
        self._stretch: StateMemory | None = None

    def processor(self, step: Step, settings: Settings, channels: int, context: Context, moving: bool = False) -> Processor:
        """settings: those the step runs with. moving: they move over time, so that the node gives them to it."""
        kind = processor_named(step.kind)
        name = ("step", step.id, step.kind, str(channels), str(context.rate), str(kind.structural_key(settings)))
        self.used[name] = None
        result = self.states.get(name)
        if isinstance(result, Processor):
            if not moving:
                result.take(settings, context)
            return result
        state = self.states[name] = kind(settings, channels, context)
        return state

    def delay_line(self, channels: int, *name: str) -> DelayLine:
        full = ("late", str(channels), *name)
        self.used[full] = None
        result = self.states.get(full)
        if not isinstance(result, DelayLine):
            result = self.states[full] = DelayLine(channels)
        return result

    def glide(self, *name: str) -> Glide:
        full = ("glide", *name)
        self.used[full] = None
        result = self.states.get(full)
        if not isinstance(result, Glide):
            result = self.states[full] = Glide()
        return result

    def drop_unused(self) -> None:
        """Forget what the last compilation did not ask for: what is taken out and put back starts afresh."""
        self.states = {name: state for name, state in self.states.items() if name in self.used or name[-1] in LISTENING}

    def clone(self) -> "Rack":
        """Everything in the state it has, to go on beside this one. What is as new is left out."""
        twin = Rack()
        twin.clock = self.clock.clone()
        twin.states = {name: part.clone(apart=True) for name, part in self.states.items() if not part.fresh}
        return twin

    def save(self) -> "SavedRack":
        states = {name: part for name, part in self.states.items() if not part.fresh}
        saved = Saved([self.clock, *states.values()], self._stretch)
        self._stretch = saved.stretch
        return SavedRack(states, saved)

    def go_back(self, then: "SavedRack") -> None:
        """Take the state that was saved. What both hold stays the same object, so that nodes made with this rack go on with it;
        what was as new then is so again."""
        then.saved.restore()
        self._stretch = then.saved.stretch
        for name in list(self.states):
            now, old = self.states[name], then.states.get(name)
            if old is not None:
                now.become(old)
            elif isinstance(now, Processor):
                del self.states[name]
            else:
                now.clear()
        for name, old in then.states.items():
            self.states.setdefault(name, old)


@dataclass
class SavedRack:
    """What a rack held, and what that had become."""

    states: dict[Key, RackState]
    saved: Saved
