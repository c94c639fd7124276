"""The live player of one audition: a thread that keeps a stream a lead ahead of what the listener has heard, and takes it back
when something changes."""

import logging
import threading
import time
from collections.abc import Callable

from saltanvil.engine.media import Media
from saltanvil.engine.priority import realtime_priority
from saltanvil.engine.stream import BLOCK_FRAMES, Block, Stream
from saltanvil.engine.time import floor_tick
from saltanvil.engine.wanted import Wanted
from saltanvil.session.document.session import Session

log = logging.getLogger(__name__)

#: What was rendered ahead protects against tears. It grows with every gap and shrinks again after a quiet minute.
LEAD_S, MAX_LEAD_S = 0.3, 1.0
LEAD_STEP_S, QUIET_S = 0.1, 60.0
#: The way of a block to the listener, beside the time it takes to render: the first block rendered anew is the one that will
#: sound when it comes, and it takes the old one's place in the midst of it. Going back one too far costs a block rendered in
#: vain, one too little costs the time until it begins. A block whose place has sounded when it comes lengthens the way, each
#: change shortens it, so that about one change in five comes too late.
OUTPUT_DELAY_S, MIN_OUTPUT_DELAY_S, MAX_OUTPUT_DELAY_S = 0.01, 0.002, 0.15
LATE_STEP_S, CHANGE_STEP_S = 0.004, 0.001
#: What is left ahead when all that a change goes back to has been rendered anew is no less than this; otherwise nothing is
#: rendered twice: the change sounds from the next block on, and what lies ahead grows. With each gap it is more, by this share of
#: what the lead grows.
LEFT_S, LEFT_SHARE = 0.05, 0.1
#: A play has so many blocks before a change is rendered: the listener begins with two, and a block with a change takes longest
#: just when nothing else lies ahead. The change then takes their place.
OPENING_BLOCKS = 5
#: How much of the pace so far counts with the next block.
PACE_KEPT = 0.8
#: A change that follows another within this is part of a drag: the next one will replace what is rendered now. It goes back
#: only where it gains more blocks than this; otherwise it sounds from the next block on.
DRAG_S, DRAG_BLOCKS = 0.05, 1
#: While changes go on to come, no more than this is rendered anew beyond what is on its way, as long as so much is left ahead
#: when the rest has been caught up with: the next change would replace it, and the blocks behind it are there in their older
#: version. So long after the last change the hands rest.
ANEW_S, ENOUGH_S, RESTED_S = 0.06, 0.1, 0.25
#: With less than this ahead of the listener, what can wait gives way.
NEAR_S = 0.2
#: Without a report for so long, a listener does not listen.
SILENT_S = 1.0
#: A report older than this says nothing of how much has been heard since.
MAX_REPORT_AGE_S = 0.1


class Player:
    """Renders blocks while playing and hands them to `deliver`; all methods may be called from any thread.

    deliver is called from the player's thread and must not block. `ended` is called when the last block of an
    unlooped play has been delivered. room: whether another block may be delivered; `nudge` tells that it may have changed.
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
        self._media, self._room = media, room
        self._deliver, self._ended, self._failed = deliver, ended, failed
        self._wanted = Wanted(session)
        self._condition = threading.Condition()
        self._playing = self._closed = self._fresh = self._changed = self._behind = False
        self._from = 0
        self._epoch = 0
        #: Frames of the epoch: up to the block rendered last, the most that the listener has, what was heard.
        self._sent = self._queued = self._heard_frames = 0
        self._reported_at = self._quiet_since = 0.0
        self._changed_at = -RESTED_S
        self._lead_s, self._output_delay_s = LEAD_S, OUTPUT_DELAY_S
        #: How much of real time a block takes, of late.
        self._pace = 0.0
        self._thread = threading.Thread(target=self._run, name="player", daemon=True)
        self._thread.start()

    # ---- what the listener asks for -------------------------------------------------------------------------------

    def play(self, position_s: float) -> int:
        """Play from a place; returns the epoch its blocks will carry, so that older ones can be told apart."""
        with self._condition:
            self._from = floor_tick(max(0, round(position_s * self._wanted.session.rate_hz)))
            self._playing = self._fresh = True
            self._epoch += 1
            self._heard_frames = self._sent = self._queued = 0
            self._reported_at = self._quiet_since = time.monotonic()
            self._condition.notify_all()
            return self._epoch

    def stop(self) -> int:
        """Returns a new epoch: blocks of older ones are not to be heard any more."""
        with self._condition:
            self._playing = False
            self._epoch += 1
            self._condition.notify_all()
            return self._epoch

    @property
    def wanted(self) -> Wanted:
        return self._wanted

    def want(self, wanted: Wanted) -> None:
        """To be heard from now on: what is not on its way to the ear yet is rendered anew."""
        with self._condition:
            if not wanted.same(self._wanted):
                self._wanted = wanted
                self._changed = self._behind = True
                self._condition.notify_all()

    def heard(self, epoch: int, frames: int, underruns: int, late: int = 0) -> None:
        """The listener's report: frames consumed of an epoch so far, new gaps, each of which lengthens the lead, and new
        replacements that came too late, which lengthen the way."""
        with self._condition:
            now = time.monotonic()
            if epoch == self._epoch:
                self._heard_frames = max(self._heard_frames, min(frames, self._queued))
                self._reported_at = now
            if underruns > 0:
                self._lead_s = min(self._lead_s + LEAD_STEP_S, MAX_LEAD_S)
                self._quiet_since = now
            elif self._lead_s > LEAD_S and now - self._quiet_since > QUIET_S:
                self._lead_s = max(self._lead_s - LEAD_STEP_S, LEAD_S)
                self._quiet_since = now
            if late > 0:
                self._output_delay_s = min(self._output_delay_s + LATE_STEP_S, MAX_OUTPUT_DELAY_S)
            self._condition.notify_all()

    def wait_until_ahead(self, timeout_s: float) -> None:
        """Until the last change has left for the ear, and some of the lead with it. Nobody waits for a listener who has gone
        silent."""
        with self._condition:
            if time.monotonic() - self._reported_at < SILENT_S:
                self._condition.wait_for(lambda: not self._playing or not (self._behind or self.short), timeout_s)

    @property
    def playing(self) -> bool:
        return self._playing

    @property
    def pending(self) -> bool:
        """Whether something is wanted with which no block has been begun yet."""
        return self._changed

    @property
    def short(self) -> bool:
        """Whether what can be heard next is less than what the listener is to have."""
        return self._queued - self._heard_frames < NEAR_S * self._wanted.session.rate_hz

    def nudge(self) -> None:
        with self._condition:
            self._condition.notify_all()

    def close(self) -> None:
        with self._condition:
            self._closed = True
            self._playing = False
            self._condition.notify_all()
        self._thread.join(timeout=5.0)

    # ---- the thread ------------------------------------------------------------------------------------------------

    def _run(self) -> None:
        realtime_priority()
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
            self._fresh = self._changed = False
            wanted, epoch, start = self._wanted, self._epoch, self._from
        rate = wanted.session.rate_hz
        stream = Stream(self._media, wanted, start, epoch)
        while True:
            with self._condition:
                while self._waits(rate):
                    self._condition.wait()
                if not self._playing or self._fresh or self._closed:
                    return
                changed = self._changed and self._queued >= OPENING_BLOCKS * BLOCK_FRAMES
                if changed:
                    wanted, self._changed = self._wanted, False
                lead_s = self._lead_s
                replaceable, heard_frames = self._replaceable(rate), self._heard_frames
                spare = self._left_s(rate, replaceable) > LEFT_S
            if changed:
                now = time.monotonic()
                dragged = now - self._changed_at < DRAG_S
                self._changed_at = now
                if spare and (not dragged or self._sent - replaceable > (DRAG_BLOCKS + 1) * BLOCK_FRAMES):
                    stream.take_back(replaceable)
                    self._output_delay_s = max(self._output_delay_s - CHANGE_STEP_S, MIN_OUTPUT_DELAY_S)
            began = time.monotonic()
            block = stream.next(wanted, lead_s)
            self._pace = PACE_KEPT * self._pace + (1.0 - PACE_KEPT) * (time.monotonic() - began) * rate / BLOCK_FRAMES
            if block is None:
                with self._condition:
                    if self._epoch == epoch:
                        self._playing = False
                self._ended(epoch)
                return
            with self._condition:
                if self._epoch == epoch:
                    self._sent = stream.frames
                    self._queued = max(self._queued, self._sent)
            self._deliver(block)
            with self._condition:
                if not self._changed:
                    self._behind = False
                self._condition.notify_all()
            stream.forget(heard_frames - BLOCK_FRAMES)

    def _waits(self, rate: int) -> bool:
        if not self._playing or self._fresh or self._closed:
            return False
        if self._changed:
            return not self._room()
        end = self._heard_frames + round(self._lead_s * rate)
        enough = self._left_s(rate, self._sent) > ENOUGH_S
        if enough and self._sent < self._queued and time.monotonic() - self._changed_at < RESTED_S:
            end = min(end, self._replaceable(rate) + round(ANEW_S * rate))
        return not self._room() or self._sent + BLOCK_FRAMES > end

    def _replaceable(self, rate: int) -> int:
        """The frame of the play from which on what was sent can still be replaced: blocks that begin there, or later. It is a
        block before what will sound when they come."""
        rendering = self._pace * BLOCK_FRAMES
        return max(0, self._sounds(rate) + round(self._output_delay_s * rate + rendering) - BLOCK_FRAMES + 1)

    def _left_s(self, rate: int, begin: int) -> float:
        """How much lies ahead when all from a frame on has been rendered anew, and a block more; less what gaps have shown to be
        needed."""
        rendered = self._queued - begin + BLOCK_FRAMES
        ahead = (self._queued - self._sounds(rate) - self._pace * rendered) / rate
        return ahead - LEFT_SHARE * (self._lead_s - LEAD_S)

    def _sounds(self, rate: int) -> int:
        """The frame that sounds now, as far as the listener has told."""
        return self._heard_frames + round(min(time.monotonic() - self._reported_at, MAX_REPORT_AGE_S) * rate)
