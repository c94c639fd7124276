"""State, declared apart from scratch, tables and coefficients, so that a play can be saved and gone back to cheaply."""

from typing import Any, ClassVar, Self

import numpy as np


class Stateful:
    """Something that sound moves on. All its other attributes are never changed in place, only replaced.

    state: what it has become by the sound so far: arrays, lists of numbers, and parts with a state of their own.
    heads: of these arrays of the state only so many at the front of the last axis are remembered; what lies behind is scratch.
    scratch: arrays that every block writes before it reads them; their contents mean nothing.
    rings: long memories written along an index that belongs to the state, with room for what is saved and gone back over:
    going back to the index is enough, as what was written beyond it is written anew.
    replaced: what sound moves too, but seldom and not in place: shared by all copies until then.
    """

    state: ClassVar[tuple[str, ...]] = ()
    heads: ClassVar[dict[str, int]] = {}
    scratch: ClassVar[tuple[str, ...]] = ()
    rings: ClassVar[tuple[str, ...]] = ()
    replaced: ClassVar[tuple[str, ...]] = ()

    @property
    def fresh(self) -> bool:
        """Whether it is as new, so that nothing of it has to be kept."""
        return False

    def clone(self, apart: bool = False) -> Self:
        """A copy with a state of its own, that goes on from here. It shares scratch, so that both belong to one thread.

        apart: with rings of its own, so that both can be used in turn; otherwise only one of them may go on.
        """
        twin = object.__new__(type(self))
        members = twin.__dict__
        members.update(self.__dict__)
        for name in self.state:
            value = members[name]
            if type(value) is not np.ndarray:
                members[name] = copied(value, apart)
            elif value.size:
                members[name] = value.copy()
        if apart:
            for name in self.rings:
                members[name] = members[name].copy()
        return twin

    def become(self, other: "Stateful") -> None:
        """Take the state of another of the same kind, which is used up."""
        self.__dict__.update(other.__dict__)


def copied(value: Any, apart: bool) -> Any:
    if isinstance(value, Stateful):
        return value.clone(apart)
    if isinstance(value, list):
        return value.copy()
    if isinstance(value, dict):
        return {name: copied(part, apart) for name, part in value.items()}
    return value if value is None else value.copy()
