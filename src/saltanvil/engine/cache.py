"""Rendered arrays by the fingerprint of all that made them, least recently used dropped first, bounded in bytes."""

import hashlib
import threading
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from saltanvil.engine.nodes.feeds import Entry
from saltanvil.engine.plan import Plan

Audio = NDArray[np.float32]


@dataclass(frozen=True)
class RenderedSegment:
    """What a node gave over a window: sound, and per tick what its processor told (see `Telemetry`)."""

    audio: Audio
    reduction_db: NDArray[np.float32] = field(default_factory=lambda: np.empty(0, np.float32))
    detector_db: NDArray[np.float32] = field(default_factory=lambda: np.empty(0, np.float32))
    rows: dict[str, NDArray[np.float32]] = field(default_factory=dict)

    @property
    def size(self) -> int:
        rows = sum(row.nbytes for row in self.rows.values())
        return self.audio.nbytes + self.reduction_db.nbytes + self.detector_db.nbytes + rows


class SegmentCache:
    """Safe to share between threads."""

    def __init__(self, most_bytes: int = 160 << 20) -> None:
        self.most_bytes = most_bytes
        self.bytes = 0
        self.hits = 0
        self.misses = 0
        self._held: OrderedDict[str, RenderedSegment] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, name: str) -> RenderedSegment | None:
        with self._lock:
            result = self._held.get(name)
            if result is None:
                self.misses += 1
                return None
            self.hits += 1
            self._held.move_to_end(name)
            return result

    def put(self, name: str, stretch: RenderedSegment) -> None:
        with self._lock:
            if name in self._held or stretch.size > self.most_bytes:
                return
            self._held[name] = stretch
            self.bytes += stretch.size
            while self.bytes > self.most_bytes:
                _, dropped = self._held.popitem(last=False)
                self.bytes -= dropped.size


def fingerprint(*parts: object) -> str:
    """A name for a result, made of everything it depends on."""
    return hashlib.blake2b(repr(parts).encode(), digest_size=16).hexdigest()


def fingerprints(
    plan: Plan, window: tuple[object, ...], key: Callable[[int], object] = lambda media_id: media_id
) -> dict[int, str]:
    """A name for what each node makes of a window, by the node's identity: equal names, equal sound. key: names media."""
    names: dict[int, str] = {}
    for node in plan.nodes.values():
        of = [names[id(source)] for source in node.sources]
        begins: tuple[object, ...] = ()
        if isinstance(node, Entry):
            media_id = node.strip.media_id
            begins = (*window, None if media_id is None else key(media_id))
        names[id(node)] = fingerprint(type(node).__name__, begins, node.cache_key(), of)
    return names
