"""Players as the server sees them: each says what is wanted to its twin in the sound process, and gets its blocks from there."""

import threading
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

from saltanvil.engine.live import SILENT_S
from saltanvil.engine.wanted import Wanted
from saltanvil.media.recording import Recording
from saltanvil.session.document.session import Session
from saltanvil.sound.line import SOUND, SoundProcess
from saltanvil.sound.wire import NO_DOCUMENT, change_of

#: Blocks that a listener took are told in so many at once.
TAKEN_AT_ONCE = 4


class RemotePlayer:
    """A player (see `saltanvil.engine.live.Player`) in the sound process; all methods may be called from any thread.

    database: where the media are. deliver gets packed blocks, from a thread of its own; lost: the process ended, and the player
    with it.
    """

    def __init__(
        self,
        database: Path,
        session: Session,
        deliver: Callable[[bytes], None],
        ended: Callable[[int], None],
        failed: Callable[[str], None],
        lost: Callable[[], None],
        process: SoundProcess = SOUND,
    ) -> None:
        self._deliver, self._tell_ended, self._tell_failed, self._tell_lost = deliver, ended, failed, lost
        self._process = process
        self._condition = threading.Condition()
        self.wanted = Wanted(session)
        self._playing = self._short = False
        self._epoch = 0
        #: Changes sent, and of how many the last block knew.
        self._changes = self._known = 0
        self._reported_at = 0.0
        self._taken = self._told = 0
        self._name = process.join(lambda what, *about: getattr(self, f"_{what}")(*about), database, session)

    # ---- what the listener asks for -------------------------------------------------------------------------------

    def play(self, position_s: float) -> int:
        """Play from a place; returns the epoch its blocks will carry, so that older ones can be told apart."""
        with self._condition:
            self._playing = self._short = True
            self._reported_at = time.monotonic()
            return self._next_epoch("play", position_s)

    def stop(self) -> int:
        """Returns a new epoch: blocks of older ones are not to be heard any more."""
        with self._condition:
            self._playing = False
            self._condition.notify_all()
            return self._next_epoch("stop")

    def _next_epoch(self, *message: Any) -> int:
        self._epoch += 1
        self._process.send(self._name, *message)
        return self._epoch

    def want(self, **changes: Any) -> None:
        """changes: by the names of `Wanted.changed`. Nothing is sent that was wanted before."""
        with self._condition:  # changes arrive in the order they are counted in
            before, self.wanted = self.wanted, self.wanted.changed(**changes)
            if not self.wanted.same(before):
                self._changes += 1
                change = change_of(self.wanted.session, before.session)
                self._process.send(self._name, "want", change, replace(self.wanted, session=NO_DOCUMENT))

    def cover(self, covered: bool, recordings: dict[int, tuple[Recording, int, int]]) -> None:
        """covered: blocks tell nothing but sound. recordings: what can be played like media: (sound, first frame, frames)."""
        with self._condition:
            if recordings:
                self._process.send(self._name, "recordings", recordings)
            self._process.send(self._name, "covered", covered)

    def heard(self, epoch: int, frames: int, underruns: int, late: int = 0) -> None:
        """The listener's report (see `saltanvil.engine.live.Player.heard`)."""
        self._reported_at = time.monotonic()
        self._process.send(self._name, "heard", epoch, frames, underruns, late)

    def taken(self, waiting: int) -> None:
        """One more block has gone to the listener. waiting: those that still wait."""
        self._taken += 1
        if self._taken - self._told >= TAKEN_AT_ONCE or not waiting:
            self._told = self._taken
            self._process.send(self._name, "taken", self._taken)

    def wait_until_ahead(self, timeout_s: float) -> None:
        """Until the last change has left for the ear, and some of the lead with it. Nobody waits for a listener who has gone
        silent."""
        with self._condition:
            if time.monotonic() - self._reported_at < SILENT_S:
                self._condition.wait_for(lambda: not self._playing or not (self._known < self._changes or self._short), timeout_s)

    @property
    def playing(self) -> bool:
        return self._playing

    def close(self) -> None:
        self._silent()
        self._process.leave(self._name)

    # ---- what the sound process says ---------------------------------------------------------------------------------

    def _block(self, block: bytes, known: int, short: bool) -> None:
        with self._condition:
            self._known, self._short = known, short
            self._condition.notify_all()
        self._deliver(block)

    def _ended(self, epoch: int) -> None:
        with self._condition:
            self._playing = self._playing and epoch != self._epoch
            self._condition.notify_all()
        self._tell_ended(epoch)

    def _failed(self, why: str) -> None:
        self._silent()
        self._tell_failed(why)

    def _lost(self) -> None:
        self._silent()
        self._tell_lost()

    def _silent(self) -> None:
        with self._condition:
            self._playing = False
            self._condition.notify_all()
