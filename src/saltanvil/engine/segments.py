"""The song in segments: what is kept of a render of it, and under which name."""

from typing import Protocol, runtime_checkable

from saltanvil.engine.cache import fingerprints
from saltanvil.engine.media import Audio, Media
from saltanvil.engine.plan import Plan

#: A segment is what a render makes at a time: so long that two threads seldom wait for the interpreter lock (8192: a third of
#: the speed).
SEGMENT_FRAMES = 1 << 16


class RenderStore(Protocol):
    """Keeps sound by name and number of its segment, as long as there is room. It may lose any of it at any time."""

    def has(self, name: str, segments: int) -> bool:
        """Whether the first `segments` of a sound are there."""
        ...

    def read(self, name: str, segment: int) -> Audio | None:
        """(channels, SEGMENT_FRAMES); None if it is lost, or not what was written."""
        ...

    def write(self, name: str, segment: int, sound: Audio) -> None: ...

    def borders(self, name: str, most: int) -> list[int]:
        """Segments up to `most` before which the states are there that made a sound."""
        ...

    def read_state(self, name: str, segment: int) -> bytes | None: ...

    def write_state(self, name: str, segment: int, state: bytes) -> None: ...


@runtime_checkable
class StoredMedia(Media, Protocol):
    """Media beside which there is a store of what was rendered of them."""

    @property
    def renders(self) -> RenderStore | None: ...

    def key(self, media_id: int) -> str:
        """Names the sound itself: no other media ever has it."""
        ...


def sound_names(plan: Plan, media: StoredMedia) -> dict[int, str]:
    """What each node makes of the song from its start, by the node's identity."""
    return fingerprints(plan, ("from the start", plan.session.rate_hz), media.key)
