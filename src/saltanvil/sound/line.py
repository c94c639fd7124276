"""The process that renders what is heard, as the server sees it: started, told, listened to, ended."""

import atexit
import contextlib
import itertools
import logging
import os
import pickle
import socket
import subprocess
import sys
import threading
from collections.abc import Callable
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

import saltanvil
from saltanvil.engine.priority import realtime_priority

log = logging.getLogger(__name__)

#: The server's messages wait here while the sound process is busy, so that nothing in the server waits for it.
BUFFER_BYTES = 4 << 20
END_S = 5.0
#: Takes what a player's twin says: a word and what it is about.
OnMessage = Callable[..., None]


class SoundProcess:
    """The process and the line to it. It is started when it is first needed, and again if it ended."""

    def __init__(self) -> None:
        self._lock = threading.RLock()
        self._names = itertools.count(1)
        self._players: dict[int, OnMessage] = {}
        self._process: subprocess.Popen[bytes] | None = None
        self._line: Connection | None = None
        atexit.register(self.close)

    @property
    def pid(self) -> int | None:
        with self._lock:
            return None if self._process is None else self._process.pid

    def start(self) -> None:
        with self._lock:
            if self._line is not None:
                return
            ours, theirs = socket.socketpair()
            with theirs:
                for end in (ours, theirs):
                    end.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, BUFFER_BYTES)
                paths = [str(Path(saltanvil.__file__).parent.parent), os.environ.get("PYTHONPATH", "")]
                self._process = subprocess.Popen(
                    [sys.executable, "-m", "saltanvil.sound.process", str(theirs.fileno())],
                    stdin=subprocess.DEVNULL,
                    pass_fds=[theirs.fileno()],
                    # Linux shares its cores between sessions first: sound gets its part, whatever the server and the page do.
                    start_new_session=True,
                    env={**os.environ, "PYTHONPATH": os.pathsep.join(path for path in paths if path)},
                )
            self._line = Connection(ours.detach())
            threading.Thread(target=self._read, args=(self._line, self._process), name="sound", daemon=True).start()

    def join(self, on_message: OnMessage, *opening: Any) -> int:
        """A twin is made there by the message `open`. on_message: gets what it says, and `lost` if the process ended. Returns its
        name."""
        with self._lock:
            self.start()
            name = next(self._names)
            self._players[name] = on_message
            self.send(name, "open", *opening)
            return name

    def leave(self, name: int) -> None:
        with self._lock:
            if self._players.pop(name, None) is not None:
                self.send(name, "close")

    def send(self, *message: Any) -> None:
        data = pickle.dumps(message, 5)
        with self._lock:
            if self._line is not None:
                with contextlib.suppress(OSError):  # whoever reads from it learns that it ended
                    self._line.send_bytes(data)

    def _read(self, line: Connection, process: "subprocess.Popen[bytes]") -> None:
        realtime_priority()
        while True:
            try:
                name, what, *about = pickle.loads(line.recv_bytes())
            except (EOFError, OSError):
                break
            self._tell(self._players.get(name), what, *about)
        with self._lock:
            players, self._players = list(self._players.values()), {}
            by_itself = self._line is line
            if by_itself:
                self._line = None
        line.close()
        if by_itself:
            log.error("the sound process ended (%s)", process.wait())
            for on_message in players:
                self._tell(on_message, "lost")

    def _tell(self, on_message: OnMessage | None, *message: Any) -> None:
        """None: it has left."""
        try:
            if on_message is not None:
                on_message(*message)
        except Exception:  # the others go on
            log.exception("what the sound process said was not taken")

    def close(self) -> None:
        with self._lock:
            line, process, self._line, self._process = self._line, self._process, None, None
        if line is not None and process is not None:
            # The reader still waits at this end: shutting it down is told to both.
            with socket.socket(fileno=os.dup(line.fileno())) as end:
                end.shutdown(socket.SHUT_RDWR)
            try:
                process.wait(END_S)
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()


SOUND = SoundProcess()
