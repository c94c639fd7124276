"""A listener in a process of its own, before all else as a browser's audio is: python benchmarks/ear.py ADDRESS SESSION TAB.

Passes on each line of its input, a message for the socket, and prints the number of gaps heard so far whenever one more is.
"""

import json
import subprocess
import sys
import threading
import time
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent.parent))


class Ear:
    """One tab that listens. gaps: heard so far, but those of a server that has gone."""

    def __init__(self, address: str, session: int, tab: str) -> None:
        command = [sys.executable, __file__, address, str(session), tab]
        self._process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
        self.gaps, self._heard = 0, threading.Event()
        self._thread = threading.Thread(target=self._read, daemon=True)
        self._thread.start()
        self._heard.wait(60.0)

    def _read(self) -> None:
        assert self._process.stdout
        for line in self._process.stdout:
            self.gaps = int(line)
            self._heard.set()
        self._heard.set()

    def send(self, **message: Any) -> None:
        assert self._process.stdin
        try:
            self._process.stdin.write(json.dumps(message) + "\n")
            self._process.stdin.flush()
        except OSError:  # it ends with the server
            pass

    def close(self) -> None:
        self._process.communicate(timeout=20.0)
        self._thread.join()


def listen(address: str, session: str, tab: str) -> None:
    from saltanvil.engine.priority import realtime_priority
    from tests.listener import Client

    client = Client(address, session, tab, begins=realtime_priority)
    lines = threading.Thread(target=pass_on, args=(client,), daemon=True)
    lines.start()
    told = -1
    while lines.is_alive() and client.closed is None:
        client.forget()
        if client.gaps != told:
            told = client.gaps
            print(told, flush=True)
        time.sleep(0.05)
    client.close()


def pass_on(client: Any) -> None:
    for line in sys.stdin:
        client.send(**json.loads(line))


if __name__ == "__main__":
    listen(*sys.argv[1:])
