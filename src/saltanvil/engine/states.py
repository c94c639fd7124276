"""The states of a strip as bytes: what its steps had become at a border between two segments of the song."""

import json
import struct
from typing import Any

import numpy as np

from saltanvil.dsp.state import Stateful
from saltanvil.engine.automation import RESUMED
from saltanvil.engine.plan import Plan
from saltanvil.engine.rack import Glide, RackState
from saltanvil.engine.segments import RenderStore
from saltanvil.processors.base import Processor

#: States so large are kept at each border, and larger ones as much further apart, up to so many segments: a play renders as
#: much before it begins.
SMALL_BYTES, MOST_SEGMENTS = 1 << 18, 8


def packed(states: list[RackState]) -> bytes:
    """States in an order of their own, each None if it is as new."""
    arrays: list[bytes] = []
    described = json.dumps([None if state.fresh else described_state(state, arrays) for state in states]).encode()
    return b"".join([struct.pack("<I", len(described)), described, *arrays])


def described_state(part: Stateful, arrays: list[bytes], whole: bool = False) -> dict[str, Any]:
    """whole: also what moving settings have made of it, which is on its way from one value to the next."""
    result: dict[str, Any] = {"kind": type(part).__name__}
    if isinstance(part, Processor | Glide) and part.follows is not None:
        result["follows"] = True
    if isinstance(part, Processor):
        result["started"] = part.started
        if part.follows is not None:
            whole, result["settings"] = True, part.configured[0].model_dump(mode="json")
    for name in names_of(part, whole):
        value = part.__dict__[name]
        if isinstance(value, np.ndarray) and name in part.heads:
            value = value[..., : part.heads[name]]
        result[f".{name}"] = described_value(value, arrays, whole)
    return result


def names_of(part: Stateful, whole: bool) -> list[str]:
    names = [*part.state, *part.rings, *part.replaced]
    if whole:
        kinds = (np.ndarray, Stateful, bool, int, float)
        names += [
            name
            for name, value in part.__dict__.items()
            if name not in names and name not in part.scratch and isinstance(value, kinds)
        ]
    return names


def described_value(value: Any, arrays: list[bytes], whole: bool) -> Any:
    if isinstance(value, np.ndarray):
        arrays.append(value.tobytes())
        return {"array": value.dtype.str, "shape": value.shape}
    if isinstance(value, Stateful):
        return described_state(value, arrays, whole)
    if isinstance(value, dict):
        return {"parts": {name: described_value(part, arrays, whole) for name, part in value.items()}}
    if isinstance(value, list):
        return {"list": [described_value(part, arrays, whole) for part in value]}
    if isinstance(value, tuple):
        return {"tuple": [described_value(part, arrays, whole) for part in value]}
    return value.item() if isinstance(value, np.generic) else value


def unpack(data: bytes, states: list[RackState]) -> None:
    """Bring states to what they were. Raises ValueError if these are others."""
    length = struct.unpack_from("<I", data)[0]
    described = json.loads(data[4 : 4 + length])
    if len(described) != len(states) or any(
        one is not None and one["kind"] != type(state).__name__ for one, state in zip(described, states, strict=True)
    ):
        raise ValueError("these are states of other steps")
    reader = StateReader(memoryview(data)[4 + length :])
    for one, state in zip(described, states, strict=True):
        if one is not None:
            reader.restore(state, one)


class StateReader:
    """Takes the arrays one after the other."""

    def __init__(self, data: memoryview) -> None:
        self.data, self.at = data, 0

    def restore(self, part: Stateful, described: dict[str, Any]) -> None:
        if isinstance(part, Processor):
            part.started = described["started"]
            if "settings" in described:
                settings = type(part).settings_model.model_validate(described["settings"])
                part.configure(settings, part.context)
                part.configured = settings, part.context
        for name in [name[1:] for name in described if name.startswith(".")]:
            value = self.value(described[f".{name}"], part.__dict__[name])
            if name in part.heads:
                part.__dict__[name][..., : part.heads[name]] = value
            else:
                part.__dict__[name] = value
        if isinstance(part, Processor | Glide) and "follows" in described:
            part.follows = RESUMED

    def value(self, described: Any, before: Any) -> Any:
        if not isinstance(described, dict):
            return described
        if "array" in described:
            dtype, shape = np.dtype(described["array"]), described["shape"]
            count = int(np.prod(shape, dtype=np.int64))
            result = np.frombuffer(self.data, dtype, count, self.at).reshape(shape).copy()
            self.at += result.nbytes
            return result
        if "parts" in described:
            return {name: self.value(part, before[name]) for name, part in described["parts"].items()}
        for kind in (list, tuple):
            if kind.__name__ in described:
                old = before if before is not None and len(before) == len(described[kind.__name__]) else None
                return kind(
                    self.value(part, None if old is None else old[index]) for index, part in enumerate(described[kind.__name__])
                )
        self.restore(before, described)
        return before


def states_of(plan: Plan, strip_id: str) -> dict[int, list[RackState]]:
    """All states of a strip but those of its level and pan, which have no past: by the place of their point among all of the
    strip's, whichever of them a plan needs."""
    places = (point for point in plan.graph.order if plan.graph.strip_of[point].id == strip_id and point.kind != "out")
    return {
        place: [plan.rack.states[name] for name in plan.used[point]] for place, point in enumerate(places) if point in plan.used
    }


def strip_state(plan: Plan, strip_id: str) -> bytes:
    parts = ((place, packed(states)) for place, states in states_of(plan, strip_id).items())
    return b"".join(struct.pack("<II", place, len(part)) + part for place, part in parts)


def parts_of(state: bytes) -> dict[int, bytes]:
    """What `strip_state` put together: the states of each point by its place."""
    parts, at = {}, 0
    while at < len(state):
        place, length = struct.unpack_from("<II", state, at)
        parts[place] = state[at + 8 : at + 8 + length]
        at += 8 + length
    return parts


class StateKeeper:
    """Keeps the states of one strip during a render of the song: at every border, or, where they are large, every so many."""

    def __init__(self, plan: Plan, store: RenderStore, strip_id: str, name: str) -> None:
        self.plan, self.store, self.strip_id, self.name = plan, store, strip_id, name
        self.every = 1

    def keep(self, border: int) -> None:
        """Called when all points of the strip have made the segment before a border."""
        if border == 1:  # at the song's start all is as new
            self.store.write_state(self.name, 0, b"")
        if border % self.every:
            return
        state = strip_state(self.plan, self.strip_id)
        self.every = min(-(-len(state) // SMALL_BYTES), MOST_SEGMENTS)
        if border % self.every == 0:
            self.store.write_state(self.name, border, state)
