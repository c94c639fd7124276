"""Putting the demo sessions into a store."""

import time
from collections.abc import Callable, Mapping

from saltanvil.demo import harbour_walk, low_water, synth
from saltanvil.processors.base import Audio
from saltanvil.store.media import MediaStore
from saltanvil.store.sessions import SessionStore
from saltanvil.studies.match.match import with_current_matches

BLOCK_FRAMES = 1 << 16
#: "Low Water" is opened first, so the other counts as changed before it.
EARLIER_S = 60.0


#: The demo sessions by name.
DEMOS = {"Low Water": low_water, "Harbour Walk": harbour_walk}


def make_demo(sessions: SessionStore, media: MediaStore, progress: Callable[[float], None] = lambda share: None) -> int:
    """Make both demo sessions; returns the id of the first."""
    first = make_one("Low Water", sessions, media, lambda share: progress(0.7 * share))
    make_one("Harbour Walk", sessions, media, lambda share: progress(0.7 + 0.3 * share), time.time() - EARLIER_S)
    return first


def make_one(
    name: str,
    sessions: SessionStore,
    media: MediaStore,
    progress: Callable[[float], None] = lambda share: None,
    changed_at: float | None = None,
) -> int:
    """Synthesise one of `DEMOS` and store it as a new session; returns its id."""
    demo = DEMOS[name]
    session = demo.build_session(store(media, demo.synthesise(lambda share: progress(0.95 * share))))
    # Measured now, so that nothing is out of date when it is opened.
    number = sessions.create(with_current_matches(session, media.at_rate(synth.RATE)), changed_at)
    progress(1.0)
    return number


def store(media: MediaStore, sounds: Mapping[str, Audio]) -> dict[str, int]:
    """Media by the tracks' names."""
    ids = {}
    for name, sound in sounds.items():
        blocks = (sound[:, at : at + BLOCK_FRAMES] for at in range(0, sound.shape[1], BLOCK_FRAMES))
        ids[name] = media.add(name, "synthesised", synth.RATE, sound.shape[0], blocks, synth.RATE, sound.shape[1])
    return ids
