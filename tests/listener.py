"""A listener in Python: what the page's worker and worklet do with blocks, and a client that speaks the socket's protocol."""

import json
import struct
import threading
import time
from dataclasses import dataclass

import numpy as np
from websockets.exceptions import ConnectionClosed
from websockets.sync.client import connect

FADE_FRAMES = 128


@dataclass
class Taken:
    """A block, and what it replaced."""

    sequence: int
    version: int
    seam: int
    audio: np.ndarray
    old: np.ndarray | None = None


class Queue:
    """Blocks in the order they sound. A newer one replaces a queued one of its number that has not begun; one that comes
    too late is dropped, and the next border between two versions that is no seam is crossfaded over 128 frames."""

    def __init__(self):
        self.blocks, self.heard, self.gaps = [], 0, 0
        self.began = self.version = -1
        self.offset = 0
        self.starving = True
        #: What sounded: (sequence, version, faded, audio) of each block, as far as it did.
        self.played = []

    def take(self, block):
        if block.sequence <= self.began:
            return False
        for place, waiting in enumerate(self.blocks):
            if waiting.sequence == block.sequence:
                block.old = waiting.audio[:, :FADE_FRAMES].copy()
                self.blocks[place] = block
                return True
        self.blocks.append(block)
        return True

    def play(self, frames, ending=False):
        """Let so many frames sound."""
        while frames > 0:
            if not self.blocks:
                self.gaps += not ending and not self.starving  # however long it is
                self.starving = True
                return
            self.starving = False
            block = self.blocks[0]
            if self.offset == 0:
                self.began = block.sequence
                faded = self.version >= 0 and block.version != self.version and block.sequence != block.seam
                self.version = block.version
                audio = block.audio.copy()
                if faded and block.old is not None:
                    count = min(FADE_FRAMES, audio.shape[1])
                    part = (np.arange(count, dtype=np.float32) + 1) / FADE_FRAMES
                    audio[:, :count] = audio[:, :count] * part + block.old[:, :count] * (1 - part)
                self.played.append((block.sequence, block.version, faded, audio))
            count = min(frames, block.audio.shape[1] - self.offset)
            self.offset += count
            self.heard += count
            frames -= count
            if self.offset == block.audio.shape[1]:
                self.blocks.pop(0)
                self.offset = 0


def unpacked(message):
    length = struct.unpack("<I", message[:4])[0]
    header = json.loads(message[4 : 4 + length])
    audio = np.frombuffer(message, "<f4", offset=4 + length).reshape(2, header["frames"])
    return header, audio


class Client:
    """Plays over the socket in real time, in threads of its own, and reports what it heard as the page does."""

    def __init__(self, address, session, tab, rate=48000):
        self.rate, self.queue, self.epoch = rate, Queue(), -1
        self.headers, self.messages, self.late = [], [], 0
        self.closed = None
        self._lock = threading.Lock()
        url = f"{address.replace('http', 'ws')}/api/sessions/{session}/audition?tab={tab}"
        self.socket = connect(url, max_size=1 << 24, origin=address, compression=None, legacy=True)
        self._running = True
        self._threads = [threading.Thread(target=work, daemon=True) for work in (self._read, self._play)]
        for thread in self._threads:
            thread.start()

    def send(self, **message):
        self.socket.send(json.dumps(message))

    def play(self, position_s=0.0):
        self.send(type="play", position_s=position_s)

    def close(self):
        self._running = False
        self.socket.close()
        for thread in self._threads:
            thread.join(5)

    def _read(self):
        try:
            for message in self.socket:
                if isinstance(message, str):
                    told = json.loads(message)
                    self.messages.append(told)
                    if told["type"] in ("playing", "stopped"):
                        with self._lock:
                            self.epoch, self.queue = told["epoch"], Queue()
                    continue
                header, audio = unpacked(message)
                with self._lock:
                    if header["epoch"] == self.epoch:
                        self.headers.append(header)
                        block = Taken(header["sequence"], header["version"], header["seam"], audio)
                        self.late += not self.queue.take(block)
        except ConnectionClosed as error:
            self.closed = error

    def _play(self):
        began, played, told = None, 0, 0
        while self._running:
            time.sleep(0.01)
            with self._lock:
                queue, epoch = self.queue, self.epoch
                if not queue.blocks and not queue.heard:
                    began = None
                    continue
                if began is None:
                    began, played, told = time.monotonic(), 0, 0
                due = round((time.monotonic() - began) * self.rate)
                queue.play(due - played)
                played = due
                heard, gaps = queue.heard, queue.gaps
            try:
                self.send(type="heard", epoch=epoch, frames=heard, underruns=gaps - told)
            except ConnectionClosed:
                return
            told = gaps
