"""Putting the demo sessions into a store."""

import time
from collections.abc import Callable, Mapping

from saltanvil.demo import harbour_walk, low_water, synth
from saltanvil.processors.base import Audio
from saltanvil.store.media import MediaStore
from saltanvil.store.sessions import SessionStore
from saltanvil.studies.match import settled

BLOCK_FRAMES = 1 << 16
#: "Low Water" is opened first, so the other counts as changed before it.
EARLIER_S = 60.0


def make_demo(sessions: SessionStore, media: MediaStore, progress: Callable[[float], None] = lambda share: None) -> int:
    """Synthesise "Low Water" and "Harbour Walk" and store them; returns the id of the first."""
    low = store(media, low_water.synthesise(lambda share: progress(0.65 * share)))
    session = low_water.build_session(low)
    # Measured now, so that nothing is out of date when it is opened.
    first = sessions.create(settled(session, media.at_rate(synth.RATE)))
    walk = store(media, harbour_walk.synthesise(lambda share: progress(0.65 + 0.3 * share)))
    sessions.create(settled(harbour_walk.build_session(walk), media.at_rate(synth.RATE)), time.time() - EARLIER_S)
    progress(1.0)
    return first


def store(media: MediaStore, sounds: Mapping[str, Audio]) -> dict[str, int]:
    """Media by the tracks' names."""
    ids = {}
    for name, sound in sounds.items():
        blocks = (sound[:, at : at + BLOCK_FRAMES] for at in range(0, sound.shape[1], BLOCK_FRAMES))
        ids[name] = media.add(name, "synthesised", synth.RATE, sound.shape[0], blocks, synth.RATE, sound.shape[1])
    return ids
