"""A sound through a path, outside any session: for the command line, benchmarks and test signals."""

from collections.abc import Callable, Iterator, Sequence

import numpy as np

from saltanvil.dsp.units import db_to_gain
from saltanvil.engine.audition import RENDERED, Audition
from saltanvil.engine.compile import compile_plan
from saltanvil.engine.media import Arrays, Audio, Media
from saltanvil.engine.nodes.base import widened
from saltanvil.engine.plan import Plan
from saltanvil.engine.rack import Rack
from saltanvil.engine.render import render_nodes
from saltanvil.engine.tail import MAX_TAIL_S, quiet_frames, with_tail
from saltanvil.media.stream import FileMedia, FileSound
from saltanvil.processors import processor_named
from saltanvil.session.document.base import MAIN_ID
from saltanvil.session.document.path import Key, Path
from saltanvil.session.document.session import Session, Strip
from saltanvil.session.graph import NodeId
from saltanvil.session.linear_gain import linear_gain_db
from saltanvil.session.validate import checked

SOUND_ID, KEY_ID = "sound", "key"
TAIL_BLOCK_FRAMES = 1 << 14


def session_around(path: Path, rate: int, tempo_bpm: float, keyed: bool) -> Session:
    """A session of one sound (media 0) through a path; keyed: with a key (media 1) for every detector that has none.

    Raises ValueError if the path's keys close a loop or name what is not there.
    """
    path = path.model_copy(deep=True)
    strips = [Strip(id=MAIN_ID, name="Main", kind="main", output=None)]
    if keyed:
        strips.append(Strip(id=KEY_ID, name="Key", kind="track", media_id=1))
        for step in path.walk():
            if processor_named(step.kind).keyed and step.key is None:
                step.key = Key(strip_id=KEY_ID)
    strips.append(Strip(id=SOUND_ID, name="Sound", kind="track", media_id=0, path=path))
    session = checked(Session(name="Through", tempo_bpm=tempo_bpm, strips=strips))
    return session.model_copy(update={"rate_hz": rate})  # a file may have a rate that no session has


def output_channels(session: Session, media: Media) -> int:
    """Of the path in a `session_around`: a mono sound may become stereo on its way."""
    plan = compile_plan(session, media, Rack(), RENDERED, [NodeId("end", SOUND_ID)])
    return plan.node(SOUND_ID).end.channels


class PathRunner:
    """A path at work on a sound. key: for every detector that has none.

    Raises ValueError if the path's keys close a loop or name what is not there.
    """

    def __init__(
        self,
        path: Path,
        x: Audio,
        rate: int,
        tempo_bpm: float = 120.0,
        key: Audio | None = None,
        audition: Audition = RENDERED,
    ) -> None:
        self.session = session_around(path, rate, tempo_bpm, key is not None)
        self.x = x
        self.media = media = Arrays(x, *([] if key is None else [key]))
        #: By step, once it has run.
        self.largest_reduction_db: dict[str, float] = {}
        self.plan: Plan = compile_plan(self.session, media, Rack(), audition, [NodeId("out", SOUND_ID)])

    @property
    def latency_frames(self) -> int:
        """Frames by which the path is latency_frames."""
        return self.plan.node(SOUND_ID).latency

    def run(self, edges: Sequence[int] | None = None, tail: bool = False) -> Audio:
        """The whole sound, aligned to what entered; in blocks between `edges` if given, which end `latency_frames` after it.

        tail: and what sounds after it, until it has decayed or for MAX_TAIL_S at most.
        """
        end = self.x.shape[1] + self.latency_frames
        edges = list(edges) if edges is not None else [0, end]
        if not tail:
            parts = [block[0] for block in self._blocks(edges)]
        else:
            last = end + round(MAX_TAIL_S * self.session.rate_hz)
            edges += [*range(end + TAIL_BLOCK_FRAMES, last, TAIL_BLOCK_FRAMES), last]
            parts = [block[0] for block in with_tail(self._blocks(edges), end, quiet_frames(self.session))]
        return np.ascontiguousarray(np.concatenate(parts, axis=1)[:, self.latency_frames :])

    def _blocks(self, edges: Sequence[int]) -> Iterator[list[Audio]]:
        for start, stop in zip(edges, edges[1:], strict=False):
            self.plan.run(start, stop - start)
            for node in self.plan.walk():
                reduction_db = node.processor.telemetry.reduction_db
                if len(reduction_db) and not node.step.bypass:
                    largest = self.largest_reduction_db.get(node.step.id, -np.inf)
                    self.largest_reduction_db[node.step.id] = max(largest, float(reduction_db.max()))
            yield [self.plan.node(SOUND_ID).end.out]


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
        difference: bool = False,
    ) -> Iterator[Audio]:
        """What leaves the path, (channels, frames); with the tail, until it has decayed. Raises MediaError, Cancelled.

        difference: what enters less that, without the gain of what the path leaves alone.
        """
        last = self.frames + (round(MAX_TAIL_S * self.rate) if tail else 0)
        nodes = [NodeId("in", SOUND_ID), NodeId("end", SOUND_ID)][0 if difference else 1 :]
        rendered = render_nodes(self.session, self.media, nodes, 0, last, cancelled, watch=watch)
        if difference:
            gain = np.float32(1.0 / db_to_gain(linear_gain_db(self.session, SOUND_ID)))
            rendered = ([widened(before, self.channels) - gain * after] for before, after in rendered)
        for (block,) in with_tail(rendered, self.frames, quiet_frames(self.session)) if tail else rendered:
            yield block
