"""A play: plan, place, meters and monitor, whose states are kept along the lead, so that an edit sounds at once.

    heard      earliest block that can still be replaced          rendered so far
    --|-----------|-------|-------|-------|-------|-------|-------|--> blocks
                  ^ edit: back to the state saved before it, forward with what is wanted now

Blocks are the same whether they were rendered at once or anew: live is offline, and after an edit what a play would be in which
the edit came at that block.
"""

import copy
import time
from collections import deque
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np

from saltanvil.dsp import mix
from saltanvil.dsp.units import SILENCE_DB, gain_to_db
from saltanvil.engine.borders import settle
from saltanvil.engine.compile import compile_plan
from saltanvil.engine.compiled import Compiled
from saltanvil.engine.media import Media
from saltanvil.engine.monitor import Monitor
from saltanvil.engine.nodes.split import SplitNode
from saltanvil.engine.plan import Plan
from saltanvil.engine.rack import Audio, Rack, SavedRack
from saltanvil.engine.run_graph import THREADS
from saltanvil.engine.structure import structure_of
from saltanvil.engine.tail import MAX_TAIL_S, last_sounding, quiet_frames
from saltanvil.engine.time import ceil_tick, session_frames
from saltanvil.engine.wanted import Passage, Wanted
from saltanvil.measure.loudness import MOMENTARY_HOPS, SHORT_TERM_HOPS, LoudnessMeter, PeakMeter
from saltanvil.session.document.base import MAIN_ID
from saltanvil.session.document.session import Session

#: What a block costs beside its samples (dispatch, states, figures, its way) is as much as a thousand of them; meters move some
#: twenty times a second.
BLOCK_FRAMES = 2048
#: A new structure fades in over this.
FADE_FRAMES = 1024
#: Saving states may take this share of the time that rendering takes: a play of many strips is saved before fewer of its
#: blocks, and an edit of it sounds a block or two later.
SAVING_SHARE = 0.35
#: How much of the times of earlier blocks counts with the next one.
RECENT = 0.9


@dataclass(frozen=True)
class Block:
    """One block for the ear, (2, frames), and what its meters read. `position_s` is the session time of its start.

    version: how often the play was rewound; seam: the first block of this version, which goes on exactly from the one before.
    steps: each step's largest change of gain in dB, negative where it fell; gate_states: what its gate is doing;
    lanes: peak of each lane in its split's sum, in dBFS; sends: of what each send brings to its bus; keys: loudest
    level at each detector that has an outside key, in dB.
    """

    epoch: int
    sequence: int
    version: int
    seam: int
    audio: Audio
    position_s: float
    strips: dict[str, tuple[float, float]]
    steps: dict[str, float]
    gate_states: dict[str, str]
    lanes: dict[str, float]
    sends: dict[str, float]
    keys: dict[str, float]
    reduction_db: list[float]
    detector_db: float
    main_peaks_dbfs: tuple[float, float]
    main_true_peaks_dbtp: list[float]
    momentary_lufs: float
    short_term_lufs: float
    lead_s: float
    latency_s: float
    exact: bool


@dataclass
class State:
    """All that a play has become, before a block. frames: delivered so far."""

    sequence: int
    frames: int
    now: Wanted
    structure: tuple[object, ...]
    rack: Rack
    monitor: Monitor
    loudness: LoudnessMeter
    peaks: PeakMeter
    reader: "Reader"
    lost: int
    silent: int
    #: What the rack had become, of a state that was saved: all of them share the rack.
    saved: SavedRack | None = None

    def save(self) -> "State":
        return State(
            self.sequence, self.frames, self.now, self.structure, self.rack, self.monitor.clone(), self.loudness.clone(),
            self.peaks.clone(), self.reader.clone(), self.lost, self.silent, self.rack.save(),
        )  # fmt: skip

    def go_back(self) -> None:
        assert self.saved is not None
        self.rack.go_back(self.saved)
        self.saved = None

    def drop(self) -> None:
        """It is not gone back to any more."""
        if self.saved is not None:
            self.saved.saved.drop()


class Stream:
    """A play from a frame on. Used by one thread."""

    def __init__(self, media: Media, wanted: Wanted, start: int, epoch: int) -> None:
        self.media, self.epoch = media, epoch
        self.version = self.seam = 0
        session, rate = wanted.session, wanted.session.rate_hz
        rack = Rack()
        self._compiled = Compiled()
        plan = compile_plan(session, media, rack, wanted.audition, before=self._compiled)
        #: None after it was rewound: what it ran with then may be something else.
        self._plan: Plan | None = plan
        self._quiet: int | None = None
        self._end = session_frames(session, media)
        # The states settle on what comes before; then the latency is filled.
        with ThreadPoolExecutor(THREADS) as pool:
            #: Whether it begins as a render of the song sounds there.
            self.exact = settle(plan, start, pool)
        self._state = State(
            0, 0, wanted, structure_of(session, wanted.audition, self._compiled), rack, Monitor(wanted.monitor, rate),
            LoudnessMeter(rate, 2, SHORT_TERM_HOPS), PeakMeter(), Reader(start, wanted.passage, self._end),
            plan.latency_frames, 0,
        )  # fmt: skip
        self._true_peaks: list[float] = []
        #: The states before blocks that can still be replaced.
        self._saved: deque[State] = deque()
        self._saving_s = self._rendering_s = 0.0

    @property
    def frames(self) -> int:
        """Frames delivered so far."""
        return self._state.frames

    def take_back(self, frame: int) -> None:
        """Go back to the first saved state at a frame of the play or later, to render what follows anew."""
        saved = None
        while self._saved and self._saved[-1].frames >= frame:
            if saved is not None:
                saved.drop()
            saved = self._saved.pop()
        if saved is None:
            return
        saved.go_back()
        self._state, self._plan = saved, None
        self.version += 1
        self.seam = saved.sequence

    def forget(self, heard: int) -> None:
        """Drop the states before blocks that can never be replaced."""
        while self._saved and self._saved[0].frames < heard:
            self._saved.popleft().drop()

    def next(self, wanted: Wanted, lead_s: float) -> Block | None:
        """The next block; None at the end."""
        began = time.thread_time()  # what the thread waits for a core is neither
        self._saving_s *= RECENT
        self._rendering_s *= RECENT
        if self._saving_s <= SAVING_SHARE * self._rendering_s:
            self._saved.append(self._state.save())
        saved = time.thread_time()
        self._saving_s += saved - began
        result = self._render(wanted)
        self._rendering_s += time.thread_time() - saved
        if result is None:
            return None
        audio, position = result
        return self._block(audio, position, lead_s)

    def _render(self, wanted: Wanted) -> tuple[Audio, int] | None:
        """What the next block sounds like and the session frame it begins at; None at the end."""
        state = self._state
        rate = wanted.session.rate_hz
        while True:
            new, faded = self._changed(wanted)
            reader = state.reader
            tail = 0 if self._decayed(wanted.session) else round(MAX_TAIL_S * rate)
            reader.end = self._end + ceil_tick(new.latency_frames) + tail
            at, frames = reader.next(BLOCK_FRAMES)
            if frames == 0:
                return None
            audio = new.render(at, frames)
            if faded is not None:
                audio = structural_fade(faded.render(at, frames), audio, new.latency_frames)
            self._plan = new
            main = new.node(MAIN_ID).output
            after = at >= self._end + new.latency_frames
            state.silent = state.silent + frames if after and not last_sounding([main]) else 0
            state.loudness.add(main)
            self._true_peaks = state.peaks.read_dbtp(main)
            audio = state.monitor(audio)
            position = reader.position_of(reader.frames_read - frames - new.latency_frames)
            if state.lost:
                cut = min(state.lost, frames)
                state.lost -= cut
                audio = np.ascontiguousarray(audio[:, cut:])
                position = reader.position_of(reader.frames_read - frames - new.latency_frames + cut)
                if not audio.shape[1]:
                    continue
            state.sequence += 1
            state.frames += audio.shape[1]
            return audio, position

    def _decayed(self, session: Session) -> bool:
        """Whether nothing has sounded behind the end for so long that nothing more can come."""
        if not self._state.silent:
            return False
        if self._quiet is None:
            self._quiet = quiet_frames(session)
        return self._state.silent >= self._quiet

    def _changed(self, wanted: Wanted) -> tuple[Plan, Plan | None]:
        """The plan for what is wanted, and the old one to fade from where the change is one of structure."""
        state = self._state
        now, state.now = state.now, wanted
        state.monitor.name, state.reader.passage = wanted.monitor, wanted.passage
        same = wanted.session is now.session and wanted.audition == now.audition
        if same and self._plan is not None:
            return self._plan, None
        self._end, self._quiet = session_frames(wanted.session, self.media), None
        self._compiled.take(wanted.session, wanted.audition)
        before, state.structure = state.structure, structure_of(wanted.session, wanted.audition, self._compiled)
        # The old plan sounds once more beside the new one, each in a state of its own.
        twin = state.rack.clone() if state.structure != before else None
        plan = compile_plan(wanted.session, self.media, state.rack, wanted.audition, before=self._compiled)
        return plan, compile_plan(now.session, self.media, twin, now.audition) if twin is not None else None

    def _block(self, audio: Audio, position: int, lead_s: float) -> Block:
        plan, state = self._plan, self._state
        assert plan is not None
        main = plan.node(MAIN_ID).output
        rate = plan.session.rate_hz
        steps: dict[str, float] = {}
        gate_states: dict[str, str] = {}
        lanes: dict[str, float] = {}
        keys: dict[str, float] = {}
        traced: list[float] = []
        detector = SILENCE_DB
        for step in plan.walk():
            telemetry = step.processor.telemetry
            steps[step.step.id] = round(step.change_db, 2)
            if isinstance(step, SplitNode):
                lanes.update({placed.lane.id: round(placed.peak_db, 1) for placed in step.placed})
            if step.gate_state is not None:
                gate_states[step.step.id] = step.gate_state
            if step.key is not None and len(telemetry.detector_db):
                keys[step.step.id] = round(float(telemetry.detector_db.max()), 1)
            if step.step.id == plan.audition.scope.step_id and len(telemetry.reduction_db):
                traced = [round(float(value), 2) for value in telemetry.reduction_db]
                detector = round(float(telemetry.detector_db.max()), 1)
        strips = {strip_id: strip.levels_db() for strip_id, strip in plan.strips.items()}
        feeds = (feed for strip in plan.strips.values() for feed in strip.entry.feeds if feed.gains is not None)
        return Block(
            epoch=self.epoch,
            sequence=state.sequence - 1,
            version=self.version,
            seam=self.seam,
            audio=audio,
            position_s=position / rate,
            strips={strip_id: (round(entering, 1), round(leaving, 1)) for strip_id, (entering, leaving) in strips.items()},
            steps=steps,
            gate_states=gate_states,
            lanes=lanes,
            sends={feed.name: round(feed.peak_db, 1) for feed in feeds},
            keys=keys,
            reduction_db=traced,
            detector_db=detector,
            main_peaks_dbfs=(gain_to_db(float(mix.peak(main[:1]))), gain_to_db(float(mix.peak(main[1:])))),
            main_true_peaks_dbtp=self._true_peaks,
            momentary_lufs=max(state.loudness.latest_lufs(MOMENTARY_HOPS), SILENCE_DB),
            short_term_lufs=max(state.loudness.latest_lufs(SHORT_TERM_HOPS), SILENCE_DB),
            lead_s=lead_s,
            latency_s=plan.latency_frames / rate,
            exact=self.exact,
        )


def structural_fade(old: Audio, new: Audio, filling: int = 0) -> Audio:
    """From the old plan's block to the new one's, (channels, frames), in a straight line over `FADE_FRAMES`.

    filling: frames until the delays of a new step hold sound; what leaves them before that would begin with a click, so the fade
    begins behind it, half a fade before the block's end at the latest.
    """
    frames = new.shape[1]
    fade = min(FADE_FRAMES, frames)
    start = min(filling, frames - fade // 2)
    along = np.clip((np.arange(1, frames + 1, dtype=np.float32) - start) / min(fade, frames - start), 0.0, 1.0)[None, :]
    return np.asarray(new * along + old * (1 - along), dtype=np.float32)


class Reader:
    """Walks through the session's frames, looping without a gap, and remembers where each rendered frame came from."""

    def __init__(self, start: int, passage: Passage, end: int) -> None:
        self.passage, self.end = passage, end
        self.frames_read = 0
        self._at = start
        self._segments: deque[tuple[int, int]] = deque([(0, start)], maxlen=64)

    def clone(self) -> "Reader":
        twin = copy.copy(self)
        twin._segments = self._segments.copy()
        return twin

    def next(self, most: int) -> tuple[int, int]:
        """The next stretch as (session frame, frames); 0 frames at the end."""
        loops = self.passage.loop and self._at <= self.passage.stop
        if loops and self._at >= self.passage.stop:
            self._at = self.passage.start
            self._segments.append((self.frames_read, self._at))
        stop = self.passage.stop if loops else ceil_tick(self.end)
        at, frames = self._at, max(0, min(most, stop - self._at))
        self._at += frames
        self.frames_read += frames
        return at, frames

    def position_of(self, stream_frame: int) -> int:
        """Session frame of a frame counted from the play's start."""
        for began, position in reversed(self._segments):
            if stream_frame >= began:
                return position + stream_frame - began
        return max(0, self._segments[0][1] + stream_frame - self._segments[0][0])
