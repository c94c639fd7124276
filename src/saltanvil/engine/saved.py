"""States saved all at once: their arrays lie side by side in one stretch of memory, so that saving them is one copy.

Copying each array of a session by itself costs more than what is in them: the demo has 250, in a hundred objects.
"""

import operator
from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.state import Stateful, copied

#: Of a line of the processor's cache.
ALIGNED = 64
#: Attributes of an object, and a copy of them.
Attributes = tuple[dict[str, Any], dict[str, Any]]
#: Those, and the name of an array among them.
Place = tuple[dict[str, Any], dict[str, Any], str]


class StateMemory:
    """The arrays of many states, moved into one stretch of memory. views: the same arrays, in the order they were given."""

    def __init__(self, arrays: Sequence[NDArray[Any]]) -> None:
        sizes = [-(-array.nbytes // ALIGNED) * ALIGNED for array in arrays]
        begins = np.cumsum([0, *sizes])
        self._memory = np.empty(int(begins[-1]), np.uint8)
        self.views: list[NDArray[Any]] = []
        for array, begin in zip(arrays, begins, strict=False):
            view = self._memory[begin : begin + array.nbytes].view(array.dtype).reshape(array.shape)
            view[...] = array
            self.views.append(view)
        #: Copies that nobody needs any more: memory that is new to the process costs as much as the copy.
        self._spare: list[NDArray[np.uint8]] = []

    def holds(self, arrays: Sequence[NDArray[Any]]) -> bool:
        """Whether it is these that lie in it, and no others."""
        return len(arrays) == len(self.views) and all(map(operator.is_, arrays, self.views))

    def save(self) -> NDArray[np.uint8]:
        copy = self._spare.pop() if self._spare else np.empty_like(self._memory)
        copy[:] = self._memory
        return copy

    def restore(self, copy: NDArray[np.uint8]) -> None:
        self._memory[:] = copy

    def give_back(self, copy: NDArray[np.uint8]) -> None:
        """It is not needed any more."""
        self._spare.append(copy)


class Saved:
    """What objects with a state had become. They stay the objects they are; `restore` once, or `drop`."""

    def __init__(self, owners: Sequence[Stateful], before: StateMemory | None) -> None:
        """before: where their arrays lie, if they were saved before."""
        self._attributes: list[Attributes] = []
        #: Arrays of which only the front is kept, with that.
        self._heads: list[tuple[NDArray[Any], NDArray[Any]]] = []
        places: list[Place] = []
        for owner in owners:
            self._gather(owner, places)
        arrays = [now[name] for now, _, name in places]
        if before is None or not before.holds(arrays):
            before = StateMemory(arrays)
            for (now, then, name), view in zip(places, before.views, strict=True):
                now[name] = then[name] = view
        self.stretch = before
        self._copy: NDArray[np.uint8] | None = before.save()

    def _gather(self, part: Stateful, places: list[Place]) -> None:
        """Not a function inside: one that calls itself holds itself, and with it all that was saved."""
        now = part.__dict__
        then = now.copy()
        self._attributes.append((now, then))
        for name in part.state:
            value = now[name]
            if type(value) is np.ndarray:
                if name in part.heads:
                    front = value[..., : part.heads[name]]
                    self._heads.append((front, front.copy()))
                elif value.size:
                    places.append((now, then, name))
            elif isinstance(value, Stateful):
                self._gather(value, places)
            else:
                then[name] = copied(value, False)

    def restore(self) -> None:
        assert self._copy is not None
        self.stretch.restore(self._copy)
        for now, then in self._attributes:
            now.update(then)
        for front, copy in self._heads:
            front[...] = copy
        self.drop()

    def drop(self) -> None:
        if self._copy is not None:
            self.stretch.give_back(self._copy)
            self._copy = None
