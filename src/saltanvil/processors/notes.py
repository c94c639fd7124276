"""Note values: times counted in the tempo."""

from typing import Literal

from saltanvil.dsp.units import NOTE_QUARTERS

Note = Literal["1/64", "1/32", "1/16t", "1/16", "1/16d", "1/8t", "1/8", "1/8d", "1/4t", "1/4", "1/4d", "1/2", "1/1"]
assert set(Note.__args__) == set(NOTE_QUARTERS)  # type: ignore[attr-defined]
