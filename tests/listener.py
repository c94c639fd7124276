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
#: A play begins to sound when so many blocks are there, or all there are.
FIRST_BLOCKS = 2


@dataclass
class Taken:
    """A block, and what it replaced."""

    sequence: int
    version: int
    seam: int
    audio: np.ndarray
    old: np.ndarray | None = None


@dataclass
class Fade:
    """Where in the sound one version goes over to another, and how the older would have gone on, as far as that is known."""

    at: int
    old: np.ndarray


class Queue:
    """Blocks in the order they sound. A newer one replaces the one of its number, also in the midst of it; one whose place has
    sounded is dropped; where one version goes over to another anywhere but at a seam, they are crossfaded over 128 frames."""

    def __init__(self):
        self.blocks, self.heard, self.gaps = [], 0, 0
        self.began = self.version = -1
        self.offset = 0
        self.starving = True
        #: What sounded, piece by piece: (sequence, version, from which frame of the block on, (2, frames)).
        self.played, self.fades = [], []
        self._fade = None

    def take(self, block):
        if self.blocks and self.offset and self.blocks[0].sequence == block.sequence:
            if block.audio.shape[1] <= self.offset:
                return False
            self._fade = Fade(self.heard, self._ahead())
            self.fades.append(self._fade)
            self.version = block.version
            self.blocks[0] = block
            return True
        if block.sequence <= self.began:
            return False
        for place, waiting in enumerate(self.blocks):
            if waiting.sequence == block.sequence:
                block.old = waiting.audio[:, :FADE_FRAMES].copy()
                self.blocks[place] = block
                return True
        self.blocks.append(block)
        return True

    def sounded(self):
        """What has sounded of each block, by its number."""
        result = {}
        for sequence, *_, audio in list(self.played):
            result.setdefault(sequence, []).append(audio)
        return {sequence: np.concatenate(parts, axis=1) for sequence, parts in result.items()}

    def _ahead(self):
        """What would sound next, as long as a fade."""
        parts = [self.blocks[0].audio[:, self.offset :], *(block.audio for block in self.blocks[1:])]
        return self._faded(np.concatenate(parts, axis=1)[:, :FADE_FRAMES].copy())

    def _faded(self, audio):
        """With what is faded out just then."""
        if self._fade is not None:
            begun = self.heard - self._fade.at
            old = self._fade.old[:, begun : begun + audio.shape[1]]
            part = (np.arange(begun, begun + old.shape[1], dtype=np.float32) + 1) / FADE_FRAMES
            audio[:, : old.shape[1]] = audio[:, : old.shape[1]] * part + old * (1 - part)
        return audio

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
                if self.version >= 0 and block.version != self.version and block.sequence != block.seam:
                    self._fade = Fade(self.heard, np.zeros((2, 0), np.float32) if block.old is None else block.old)
                    self.fades.append(self._fade)
                self.version = block.version
            count = min(frames, block.audio.shape[1] - self.offset)
            audio = self._faded(block.audio[:, self.offset : self.offset + count].copy())
            self.played.append((block.sequence, block.version, self.offset, audio))
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
    """Plays over the socket in real time, in threads of its own, and reports what it heard as the page does. begins: what each of
    them does first."""

    def __init__(self, address, session, tab, rate=48000, begins=lambda: None):
        self.rate, self.queue, self.epoch = rate, Queue(), -1
        self.headers, self.messages, self.late = [], [], 0
        self.closed, self._ending = None, False
        self._lock, self._begins, self._earlier_gaps = threading.Lock(), begins, 0
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

    @property
    def gaps(self):
        """Of all plays."""
        with self._lock:
            return self._earlier_gaps + self.queue.gaps

    def forget(self):
        """What was heard longer ago: for one that listens all day."""
        with self._lock:
            del self.queue.played[:-4], self.queue.fades[:-4], self.headers[:-4], self.messages[:-4]

    def _read(self):
        self._begins()
        try:
            for message in self.socket:
                if isinstance(message, str):
                    told = json.loads(message)
                    self.messages.append(told)
                    if told["type"] in ("playing", "stopped"):
                        with self._lock:
                            self._earlier_gaps += self.queue.gaps
                            self.epoch, self.queue, self._ending = told["epoch"], Queue(), False
                    elif told["type"] == "ended":
                        self._ending = True
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
        self._begins()
        began, played, told = None, 0, 0
        while self._running:
            time.sleep(0.01)
            with self._lock:
                queue, epoch = self.queue, self.epoch
                if not queue.heard and not (len(queue.blocks) >= FIRST_BLOCKS or (self._ending and queue.blocks)):
                    began = None
                    continue
                if began is None:
                    began, played, told = time.monotonic(), 0, 0
                due = round((time.monotonic() - began) * self.rate)
                queue.play(due - played, self._ending)
                played = due
                heard, gaps = queue.heard, queue.gaps
            try:
                self.send(type="heard", epoch=epoch, frames=heard, underruns=gaps - told)
            except ConnectionClosed:
                return
            told = gaps
