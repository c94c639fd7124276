"""The process that renders what is heard: `python -m saltanvil.sound.process FILE`, the number of an open socket to the server.

It does what it is told about players by name (see `saltanvil.sound.player`), sends their blocks, and ends with its server.
"""

import contextlib
import gc
import logging
import pickle
import signal
import sys
import threading
import time
from dataclasses import dataclass, field, replace
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

from saltanvil.dsp.kernel import KERNELS
from saltanvil.engine.live import Player
from saltanvil.engine.media import Audio
from saltanvil.engine.memory import give_back_memory, keep_freed_memory
from saltanvil.engine.priority import realtime_priority
from saltanvil.engine.segments import RenderStore
from saltanvil.engine.stream import Block
from saltanvil.engine.wanted import Wanted
from saltanvil.media.recording import Recording
from saltanvil.session.document.session import Session
from saltanvil.sound.wire import Change, changed, pack
from saltanvil.store.database import Database
from saltanvil.store.media import MediaStore, RatedMedia
from saltanvil.store.renders import RENDERS, RenderReader

log = logging.getLogger(__name__)

#: Blocks that may wait for a listener who does not read.
MAX_WAITING_BLOCKS = 32
#: Chunks of media kept for all players of a folder.
MEDIA_BYTES = 1 << 26
#: Beside its player a process has hardly any work in Python, but what there is must not keep it waiting.
SWITCH_INTERVAL_S = 0.00005
GIVE_BACK_S = 10.0
#: Objects made until the young ones are looked through; Python's 700 would be many times a second.
GC_THRESHOLD = 20_000


@dataclass
class HeardMedia:
    """Media of a session, and what a delivery check recorded: by number (the sound, its first frame, its length)."""

    media: RatedMedia
    recordings: dict[int, tuple[Recording, int, int]] = field(default_factory=dict)

    @property
    def renders(self) -> RenderStore | None:
        return self.media.renders

    def key(self, media_id: int) -> str:
        """What was recorded has never been rendered."""
        return self.media.key(media_id) if media_id not in self.recordings else f"recording {media_id}"

    def channels(self, media_id: int) -> int:
        recording = self.recordings.get(media_id)
        return self.media.channels(media_id) if recording is None else recording[0].channels

    def frames(self, media_id: int) -> int:
        recording = self.recordings.get(media_id)
        return self.media.frames(media_id) if recording is None else recording[2]

    def read(self, media_id: int, start: int, frames: int) -> Audio:
        recording = self.recordings.get(media_id)
        return self.media.read(media_id, start, frames) if recording is None else recording[0].read(start + recording[1], frames)


class Playing:
    """One player, and what the server has said to it."""

    def __init__(self, name: int, send: "Sender", media: RatedMedia, document: Session) -> None:
        self._name, self._send = name, send
        self.document = document
        self.media = HeardMedia(media)
        self._covered = False
        self._given = self._taken = 0
        #: Changes that the server has sent.
        self._changes = 0
        self.player = Player(document, self.media, self._deliver, self._ended, self._failed, self._room)

    def _room(self) -> bool:
        return self._given - self._taken < MAX_WAITING_BLOCKS

    def _deliver(self, block: Block) -> None:
        self._given += 1
        known = self._changes - self.player.pending
        self._send(self._name, "block", pack(block, self._covered), known, self.player.short)

    def _ended(self, epoch: int) -> None:
        self._send(self._name, "ended", epoch)

    def _failed(self, why: str) -> None:
        self._send(self._name, "failed", why)

    # ---- what the server says ---------------------------------------------------------------------------------------

    def play(self, position_s: float) -> None:
        self.player.play(position_s)

    def stop(self) -> None:
        self.player.stop()

    def want(self, change: Change | None, wanted: Wanted) -> None:
        self._changes += 1
        self.document = changed(self.document, change)
        self.player.want(replace(wanted, session=self.document))

    def covered(self, covered: bool) -> None:
        self._covered = covered

    def recordings(self, recordings: dict[int, tuple[Recording, int, int]]) -> None:
        self.media.recordings.update(recordings)

    def heard(self, epoch: int, frames: int, underruns: int, late: int) -> None:
        self.player.heard(epoch, frames, underruns, late)

    def taken(self, count: int) -> None:
        """So many blocks of all have gone to the listener."""
        self._taken = count
        self.player.nudge()


class Sender:
    """Messages to the server, from any thread."""

    def __init__(self, connection: Connection) -> None:
        self._connection, self._lock = connection, threading.Lock()

    def __call__(self, *message: Any) -> None:
        data = pickle.dumps(message, 5)
        with self._lock, contextlib.suppress(OSError):  # then the server is gone, and this process goes too
            self._connection.send_bytes(data)


class Stores:
    """The media of each folder, as long as a player uses them."""

    def __init__(self) -> None:
        self._held: dict[Path, tuple[MediaStore, set[int]]] = {}

    def open(self, path: Path, name: int) -> MediaStore:
        if path not in self._held:
            renders = RenderReader(path.with_name(RENDERS))
            self._held[path] = MediaStore(Database(path, checked=True), MEDIA_BYTES, renders), set()
        store, users = self._held[path]
        users.add(name)
        return store

    def leave(self, name: int) -> None:
        for path, (store, users) in list(self._held.items()):
            users.discard(name)
            if not users:
                del self._held[path]
                store.database.close()
                if isinstance(store.renders, RenderReader):
                    store.renders.close()


def serve(connection: Connection) -> None:
    """Until the server is gone."""
    players: dict[int, Playing] = {}
    stores = Stores()
    send = Sender(connection)
    given_back = time.monotonic()
    while True:
        said = connection.poll(GIVE_BACK_S)
        # Listeners report on, also while nothing plays.
        if time.monotonic() - given_back > GIVE_BACK_S and not any(playing.player.playing for playing in players.values()):
            give_back_memory()
            given_back = time.monotonic()
        if not said:
            continue
        try:
            name, what, *about = pickle.loads(connection.recv_bytes())
        except (EOFError, OSError):
            return
        try:
            if what == "open":
                path, document = about
                players[name] = Playing(name, send, stores.open(path, name).at_rate(document.rate_hz), document)
            elif name not in players:
                continue  # it has left, and this was on its way
            elif what == "close":
                players.pop(name).player.close()
                stores.leave(name)
            else:
                getattr(players[name], what)(*about)
        except Exception as error:
            log.exception("the sound process was told to %s", what)
            send(name, "failed", f"Playing stopped: {error}")


def main() -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the server ends it
    keep_freed_memory()
    sys.setswitchinterval(SWITCH_INTERVAL_S)
    for kernel in KERNELS:  # before anything sounds
        kernel.load()
    realtime_priority()
    # What the imports made stays: looking through it would keep the players waiting for a tenth of a second.
    gc.freeze()
    gc.set_threshold(GC_THRESHOLD)
    with Connection(int(sys.argv[1])) as connection:
        serve(connection)


if __name__ == "__main__":
    main()
