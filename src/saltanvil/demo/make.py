"""Putting the demo sessions into a store."""

import time
from collections.abc import Callable, Mapping

from saltanvil.demo import harbour_walk, low_water, synth
from saltanvil.engine.cache import SegmentCache
from saltanvil.engine.scope import ScopeRenderer
from saltanvil.processors.base import Audio
from saltanvil.store.media import MediaStore
from saltanvil.store.sessions import SessionStore
from saltanvil.studies.match import matches_of

BLOCK_FRAMES = 1 << 16
#: "Low Water" is opened first, so the other counts as changed before it.
EARLIER_S = 60.0


def make_demo(sessions: SessionStore, media: MediaStore, progress: Callable[[float], None] = lambda share: None) -> int:
    """Synthesise "Low Water" and "Harbour Walk" and store them; returns the id of the first."""
    low = store(media, low_water.synthesise(lambda share: progress(0.65 * share)))
    session = low_water.build_session(low)
    # The page opens on the chorus, so held outputs begin with what is measured there.
    passage = low_water.frames_of("Chorus")
    matches_of(session, lambda version: ScopeRenderer(version, media.at_rate(synth.RATE), SegmentCache(), *passage))
    first = sessions.create(session)
    walk = store(media, harbour_walk.synthesise(lambda share: progress(0.65 + 0.3 * share)))
    sessions.create(harbour_walk.build_session(walk), time.time() - EARLIER_S)
    progress(1.0)
    return first


def store(media: MediaStore, sounds: Mapping[str, Audio]) -> dict[str, int]:
    """Media by the tracks' names."""
    ids = {}
    for name, sound in sounds.items():
        blocks = (sound[:, at : at + BLOCK_FRAMES] for at in range(0, sound.shape[1], BLOCK_FRAMES))
        ids[name] = media.add(name, "synthesised", synth.RATE, sound.shape[0], blocks, synth.RATE, sound.shape[1])
    return ids
