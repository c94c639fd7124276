"""Low-end harmonics on basses and kicks that are not the demo's: heard on the small speaker, hardly on the full range."""

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from saltanvil.measure import speaker
from saltanvil.measure.figures import match_db
from saltanvil.processors import REGISTRY
from tests.processors.test_processors import RATE, run
from tests.signals import kick, plucked_bass

FOR_BASS = [start for start in REGISTRY["lowend"].starts if start.name.startswith(("bass", "low synthetic", "bus"))]


def lifted(x, **chosen):
    """LU on the small speaker, and on the full range."""
    x = np.ascontiguousarray(np.atleast_2d(x), np.float32)
    y, _ = run("lowend", x, **chosen)
    return speaker.louder_lu(x, y, RATE), match_db(x, y, RATE)


@settings(max_examples=20, deadline=None)
@given(st.floats(41.0, 110.0), st.floats(1.3, 2.2), st.integers(0, 99), st.sampled_from([{}, *(s.settings for s in FOR_BASS)]))
def test_a_bass_is_2_lu_louder_on_a_small_speaker(hz, dull, seed, chosen):
    small, full = lifted(plucked_bass(hz, 1.5, seed=seed, dull=dull), **chosen)
    assert small >= 2.0 and full < 4.0


def test_a_kick_gets_a_pitch_on_a_small_speaker():
    start = next(s for s in REGISTRY["lowend"].starts if s.name.startswith("kick: small"))
    for seed in range(3):
        assert lifted(kick(2.0, seed=seed), **start.settings)[0] >= 2.0
