"""Putting the demo into a store."""

from collections.abc import Callable

from saltanvil.demo import low_water, synth
from saltanvil.store.media import MediaStore
from saltanvil.store.sessions import SessionStore

BLOCK_FRAMES = 1 << 16


def make_demo(sessions: SessionStore, media: MediaStore, progress: Callable[[float], None] = lambda share: None) -> int:
    """Synthesise "Low Water" and store it; returns the session's id."""
    sounds = low_water.synthesise(lambda share: progress(0.9 * share))
    ids = {}
    for name, sound in sounds.items():
        blocks = (sound[:, at : at + BLOCK_FRAMES] for at in range(0, sound.shape[1], BLOCK_FRAMES))
        ids[name] = media.add(name, "synthesised", synth.RATE, sound.shape[0], blocks, synth.RATE, sound.shape[1])
    progress(1.0)
    return sessions.create(low_water.build_session(ids))
