"""A file through a path of steps, in blocks, so that memory does not grow with it."""

from collections.abc import Callable, Iterator, Sequence

from saltanvil.engine.media import Audio
from saltanvil.engine.path_runner import SOUND_ID, output_channels, session_around
from saltanvil.engine.plan import Plan
from saltanvil.engine.render import render_nodes
from saltanvil.engine.tail import MAX_TAIL_S, quiet_frames, with_tail
from saltanvil.media.stream import FileMedia, FileSound
from saltanvil.session.document.path import Path
from saltanvil.session.graph import NodeId


class FileProcess:
    """One file and a path; keys: what its detectors may hear instead.

    `session` is what is rendered; whoever holds loudness puts the measured one there before `blocks`.
    """

    def __init__(self, path: Path, sound: FileSound, keys: Sequence[FileSound] = (), tempo_bpm: float = 120.0) -> None:
        """Raises ValueError for a path that is not valid."""
        self.sound = sound
        self.media = FileMedia(sound, *keys)
        self.session = session_around(path, sound.rate, tempo_bpm, bool(keys))
        self.rate, self.frames = sound.rate, sound.frames
        self.channels = output_channels(self.session, self.media)

    def blocks(
        self,
        tail: bool = True,
        watch: Callable[[Plan], None] = lambda plan: None,
        cancelled: Callable[[], bool] = lambda: False,
    ) -> Iterator[Audio]:
        """What leaves the path, (channels, frames); with the tail, until it has decayed. Raises MediaError, Cancelled."""
        last = self.frames + (round(MAX_TAIL_S * self.rate) if tail else 0)
        rendered = render_nodes(self.session, self.media, [NodeId("end", SOUND_ID)], 0, last, cancelled, watch=watch)
        for (block,) in with_tail(rendered, self.frames, quiet_frames(self.session)) if tail else rendered:
            yield block
