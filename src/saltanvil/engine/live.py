"""The live player of one audition: a thread that stays a short lead ahead of what the listener has heard."""

import logging
import threading
from collections import deque
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace

import numpy as np

from saltanvil.dsp import mix
from saltanvil.dsp.units import SILENCE_DB, gain_to_db
from saltanvil.engine.audition import Audition, Listening, Scope
from saltanvil.engine.compile import compile_plan, structure_of
from saltanvil.engine.media import Media
from saltanvil.engine.monitor import Monitor, MonitorName
from saltanvil.engine.nodes import SplitNode
from saltanvil.engine.plan import Plan
from saltanvil.engine.rack import Audio, Rack
from saltanvil.engine.run_graph import THREADS
from saltanvil.engine.tail import MAX_TAIL_S, last_sounding, quiet_frames
from saltanvil.engine.time import ceil_tick, floor_tick, preroll_start, session_frames
from saltanvil.measure.loudness import MOMENTARY_HOPS, SHORT_TERM_HOPS, LoudnessMeter, PeakMeter
from saltanvil.session.document import MAIN_ID, Session

log = logging.getLogger(__name__)

BLOCK_FRAMES = 1024
#: Long, so that the cores seldom wait for each other.
PREROLL_BLOCK_FRAMES = 1 << 16
LEAD_S = 0.12
LONGEST_LEAD_S = 0.6
LEAD_STEP_S = 0.04


@dataclass(frozen=True)
class Block:
    """One block for the ear, (2, frames), and what its meters read. `position_s` is the session time of its start.

    steps: each step's largest change of gain in dB, negative where it fell; doors: where a step's door stands;
    lanes: peak of each lane in its split's sum, in dBFS; sends: of what each send brings to its bus; keys: loudest
    level at each detector that has an outside key, in dB.
    """

    epoch: int
    sequence: int
    audio: Audio
    position_s: float
    strips: dict[str, tuple[float, float]]
    steps: dict[str, float]
    doors: dict[str, str]
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


@dataclass(frozen=True)
class Passage:
    """Frames start..stop, whole ticks; looped or played once."""

    start: int = 0
    stop: int = 1 << 62
    loop: bool = False


class Player:
    """Renders blocks while playing and hands them to `deliver`; all methods may be called from any thread.

    deliver is called from the player's thread and must not block. `ended` is called when the last block of an
    unlooped play has been delivered.
    """

    def __init__(
        self,
        session: Session,
        media: Media,
        deliver: Callable[[Block], None],
        ended: Callable[[int], None],
        failed: Callable[[str], None],
        room: Callable[[], bool] = lambda: True,
    ) -> None:
        """room: whether another block may be delivered; `nudge` tells that it may have changed."""
        self._room = room
        self._sent = 0
        self._session, self._media = session, media
        self._deliver, self._ended, self._failed = deliver, ended, failed
        self._audition = Audition()
        self._monitor: MonitorName = "full range"
        self._passage = Passage()
        self._condition = threading.Condition()
        self._playing = False
        self._closed = False
        self._fresh = False
        self._from = 0
        self._epoch = 0
        self._heard_frames = 0
        self._lead_s = LEAD_S
        self._thread = threading.Thread(target=self._run, name="player", daemon=True)
        self._thread.start()

    # ---- what the listener asks for -------------------------------------------------------------------------------

    def play(self, position_s: float) -> int:
        """Play from a place; returns the epoch its blocks will carry, so that older ones can be told apart."""
        with self._condition:
            self._from = floor_tick(max(0, round(position_s * self._session.rate_hz)))
            self._playing = self._fresh = True
            self._epoch += 1
            self._heard_frames = self._sent = 0
            self._condition.notify()
            return self._epoch

    def stop(self) -> int:
        """Returns a new epoch: blocks of older ones are not to be heard any more."""
        with self._condition:
            self._playing = False
            self._epoch += 1
            return self._epoch

    def set_session(self, session: Session) -> None:
        with self._condition:
            self._session = session

    def set_passage(self, start_s: float, end_s: float, loop: bool) -> None:
        """Bounds are moved outwards to whole ticks; a passage is at least 50 ms long."""
        rate = self._session.rate_hz
        start = floor_tick(max(0, round(start_s * rate)))
        stop = max(ceil_tick(round(end_s * rate)), start + ceil_tick(rate // 20))
        with self._condition:
            self._passage = Passage(start, stop, loop)

    def set_scope(self, scope: Scope) -> None:
        with self._condition:
            self._audition = replace(self._audition, scope=scope)

    def set_listening(self, listening: Listening) -> None:
        with self._condition:
            self._audition = replace(self._audition, listening=listening)

    def set_matched(self, matched_db: float) -> None:
        with self._condition:
            self._audition = replace(self._audition, matched_db=matched_db)

    def set_order(self, strip_id: str, gain_db: float) -> None:
        with self._condition:
            self._audition = replace(self._audition, order=(strip_id, gain_db))

    def set_monitor(self, monitor: MonitorName) -> None:
        with self._condition:
            self._monitor = monitor

    def heard(self, epoch: int, frames: int, underruns: int) -> None:
        """The listener's report: frames consumed of an epoch so far, and new gaps, each of which lengthens the lead."""
        with self._condition:
            if epoch == self._epoch:
                self._heard_frames = max(self._heard_frames, min(frames, self._sent))
            if underruns > 0:
                self._lead_s = min(self._lead_s + LEAD_STEP_S, LONGEST_LEAD_S)
            self._condition.notify()

    def nudge(self) -> None:
        with self._condition:
            self._condition.notify()

    def close(self) -> None:
        with self._condition:
            self._closed = True
            self._playing = False
            self._condition.notify()
        self._thread.join(timeout=5.0)

    # ---- the thread ------------------------------------------------------------------------------------------------

    def _run(self) -> None:
        while True:
            with self._condition:
                while not self._playing and not self._closed:
                    self._condition.wait()
                if self._closed:
                    return
            try:
                self._play()
            except Exception as error:
                log.exception("the player stopped")
                with self._condition:
                    self._playing = False
                self._failed(f"Playing stopped: {error}")

    def _play(self) -> None:
        """Play until stopped or started anew."""
        with self._condition:
            self._fresh = False
            session, audition, passage, epoch = self._session, self._audition, self._passage, self._epoch
            start = self._from
        plan = compile_plan(session, self._media, Rack(), audition)
        monitor = Monitor(self._monitor, session.rate_hz)
        loudness = LoudnessMeter(session.rate_hz, 2)
        peaks = PeakMeter()
        end = session_frames(session, self._media)
        reader = Reader(start, passage, end)
        # The states settle on what comes before; then the latency is filled.
        with ThreadPoolExecutor(THREADS) as pool:
            for at in range(preroll_start(start, session.rate_hz), start, PREROLL_BLOCK_FRAMES):
                plan.render(at, min(PREROLL_BLOCK_FRAMES, start - at), pool)
        lost = plan.latency_frames
        sequence = 0
        silent, quiet = 0, quiet_frames(session)
        while True:
            with self._condition:
                while (
                    self._playing
                    and not self._fresh
                    and not self._closed
                    and (self._sent - self._heard_frames + BLOCK_FRAMES > self._lead_s * session.rate_hz or not self._room())
                ):
                    self._condition.wait()
                if not self._playing or self._fresh or self._closed:
                    return
                wanted_session, wanted = self._session, self._audition
                lead_s, monitor.name, wanted_passage = self._lead_s, self._monitor, self._passage
            if wanted_session is not session or wanted != audition:
                new, faded = self._changed(plan, wanted_session, wanted)
                session, audition = wanted_session, wanted
                end, quiet = session_frames(session, self._media), quiet_frames(session)
            else:
                new, faded = plan, None
            if wanted_passage != passage:
                passage = wanted_passage
                reader.passage = passage
            tail = round(MAX_TAIL_S * session.rate_hz)
            reader.end = end + ceil_tick(new.latency_frames) + (0 if silent >= quiet else tail)
            at, frames = reader.next(BLOCK_FRAMES)
            if frames == 0:
                with self._condition:
                    if self._epoch == epoch:
                        self._playing = False
                self._ended(epoch)
                return
            audio = new.render(at, frames)
            if faded is not None:
                audio = structural_fade(faded.render(at, frames), audio)
            plan = new
            main = plan.node(MAIN_ID).output
            after = at >= end + new.latency_frames
            silent = silent + frames if after and not last_sounding([main]) else 0
            loudness.add(main)
            position = reader.position_of(reader.given - frames - plan.latency_frames)
            audio = monitor(audio)
            if lost:
                cut = min(lost, frames)
                lost -= cut
                audio = np.ascontiguousarray(audio[:, cut:])
                position = reader.position_of(reader.given - frames - plan.latency_frames + cut)
                if not audio.shape[1]:
                    continue
            with self._condition:
                if self._epoch == epoch:
                    self._sent += audio.shape[1]
            self._deliver(self._block(plan, audio, epoch, sequence, position, loudness, peaks, lead_s))
            sequence += 1

    def _changed(self, plan: Plan, session: Session, audition: Audition) -> tuple[Plan, Plan | None]:
        """The plan of a changed session, and the old one to fade from where the change is one of structure."""
        structural = structure_of(session, audition) != structure_of(plan.session, plan.audition)
        twin = plan.rack.clone() if structural else None
        new = compile_plan(session, self._media, plan.rack, audition)
        old = compile_plan(plan.session, self._media, twin, plan.audition) if twin is not None else None
        return new, old

    def _block(
        self,
        plan: Plan,
        audio: Audio,
        epoch: int,
        sequence: int,
        position: int,
        loudness: LoudnessMeter,
        peaks: PeakMeter,
        lead_s: float,
    ) -> Block:
        main = plan.node(MAIN_ID).output
        rate = plan.session.rate_hz
        steps: dict[str, float] = {}
        doors: dict[str, str] = {}
        lanes: dict[str, float] = {}
        keys: dict[str, float] = {}
        traced: list[float] = []
        detector = SILENCE_DB
        for step in plan.walk():
            telemetry = step.processor.telemetry
            steps[step.step.id] = round(step.change_db, 2)
            if isinstance(step, SplitNode):
                lanes.update({placed.lane.id: round(placed.peak_db, 1) for placed in step.placed})
            if step.door is not None:
                doors[step.step.id] = step.door
            if step.key is not None and len(telemetry.detector_db):
                keys[step.step.id] = round(float(telemetry.detector_db.max()), 1)
            if step.step.id == plan.audition.scope.step_id and len(telemetry.reduction_db):
                traced = [round(float(value), 2) for value in telemetry.reduction_db]
                detector = round(float(telemetry.detector_db.max()), 1)
        strips = {strip_id: strip.levels_db() for strip_id, strip in plan.strips.items()}
        feeds = (feed for strip in plan.strips.values() for feed in strip.entry.feeds if feed.gains is not None)
        return Block(
            epoch=epoch,
            sequence=sequence,
            audio=audio,
            position_s=position / rate,
            strips={strip_id: (round(entering, 1), round(leaving, 1)) for strip_id, (entering, leaving) in strips.items()},
            steps=steps,
            doors=doors,
            lanes=lanes,
            sends={feed.name: round(feed.peak_db, 1) for feed in feeds},
            keys=keys,
            reduction_db=traced,
            detector_db=detector,
            main_peaks_dbfs=(gain_to_db(float(mix.peak(main[:1]))), gain_to_db(float(mix.peak(main[1:])))),
            main_true_peaks_dbtp=peaks.read_dbtp(main),
            momentary_lufs=max(loudness.latest_lufs(MOMENTARY_HOPS), SILENCE_DB),
            short_term_lufs=max(loudness.latest_lufs(SHORT_TERM_HOPS), SILENCE_DB),
            lead_s=lead_s,
            latency_s=plan.latency_frames / rate,
        )


def structural_fade(old: Audio, new: Audio) -> Audio:
    """From the old plan's block to the new one's, (channels, frames), in a straight line over the block."""
    along = (np.arange(1, new.shape[1] + 1, dtype=np.float32) / new.shape[1])[None, :]
    return np.asarray(new * along + old * (1 - along), dtype=np.float32)


class Reader:
    """Walks through the session's frames, looping without a gap, and remembers where each rendered frame came from."""

    def __init__(self, start: int, passage: Passage, end: int) -> None:
        self.passage, self.end = passage, end
        self.given = 0
        self._at = start
        self._segments: deque[tuple[int, int]] = deque([(0, start)], maxlen=4096)

    def next(self, most: int) -> tuple[int, int]:
        """The next stretch as (session frame, frames); 0 frames at the end."""
        loops = self.passage.loop and self._at <= self.passage.stop
        if loops and self._at >= self.passage.stop:
            self._at = self.passage.start
            self._segments.append((self.given, self._at))
        stop = self.passage.stop if loops else ceil_tick(self.end)
        at, frames = self._at, max(0, min(most, stop - self._at))
        self._at += frames
        self.given += frames
        return at, frames

    def position_of(self, stream_frame: int) -> int:
        """Session frame of a frame counted from the play's start."""
        for began, position in reversed(self._segments):
            if stream_frame >= began:
                return position + stream_frame - began
        return max(0, self._segments[0][1] + stream_frame - self._segments[0][0])
