"""A slot switched while it plays: heard at once, without a click, the balance with the switch."""

import numpy as np
import pytest

from saltanvil.dsp.glide import GLIDE_MS
from saltanvil.engine.audition import Audition
from saltanvil.engine.live import LEAD_S
from saltanvil.engine.stream import BLOCK_FRAMES, Stream
from saltanvil.engine.wanted import Passage, Wanted
from saltanvil.session.apply import EDIT, apply
from saltanvil.session.document.session import Session
from tests.engine.test_engine import Arrays
from tests.signals import tone

RATE = 48_000
MEDIA = Arrays(tone(110, 3.0, -6)[None, :].astype(np.float32))


def edited(session, **data):
    return apply(session, EDIT.validate_python(data))


def slotted(structural):
    """Slot 1 as it is, slot 2 12 dB softer and, if structural, with two steps more."""
    steps = [{"id": "c", "kind": "trim", "settings": {}}]
    strips = [
        {"id": "main", "name": "Main", "kind": "main", "output": None},
        {"id": "a", "name": "A", "kind": "track", "media_id": 0, "path": {"steps": steps}},
    ]
    session = edited(Session.model_validate({"name": "S", "strips": strips}), op="store_slot", of="strip", id="a", slot=1)
    session = edited(session, op="set", values=[{"of": "step", "id": "c", "name": "gain_db", "value": -12.0}])
    for number, kind in enumerate(("compressor", "saturator") if structural else ()):
        session = edited(session, op="add_step", strip_id="a", step={"id": f"x{number}", "kind": kind, "settings": {}})
    return edited(session, op="store_slot", of="strip", id="a", slot=2)


def played(sessions, balances):
    """One stream of some blocks for each version."""
    wanted = [Wanted(session, Audition(balance=("a", gain)), Passage()) for session, gain in zip(sessions, balances, strict=True)]
    stream = Stream(MEDIA, wanted[0], 0, 1)
    return np.concatenate([stream.next(want, LEAD_S).audio for want in wanted for _ in range(20)], axis=1)


def jump(y):
    """The largest second difference: what is heard as a click."""
    return float(np.abs(np.diff(y, n=2, axis=1)).max())


@pytest.mark.parametrize("structural", [False, True])
def test_switching_clicks_no_more_than_a_plain_fade(structural):
    second = slotted(structural)
    first = edited(second, op="switch_slot", of="strip", id="a", slot=1, seed="s")
    switched = played([first, second, first], [0.0, 0.0, 0.0])
    one, other = played([first], [0.0]), played([second], [0.0])
    # A fade as long as a setting glides, with sound before and after it.
    length = round(GLIDE_MS * RATE / 1000)
    fade = np.clip((np.arange(BLOCK_FRAMES) - 100) / length, 0.0, 1.0)[None, :]
    plain = one[:, 8192 : 8192 + BLOCK_FRAMES] * (1 - fade) + other[:, 8192 : 8192 + BLOCK_FRAMES] * fade
    settled = 4 * BLOCK_FRAMES  # a play begins with its own onset
    bound = max(jump(plain), jump(one[:, settled:]), jump(other[:, settled:]))
    assert jump(switched[:, settled:]) <= 1.5 * bound
    # It is heard: the second stretch is the softer one.
    levels = [float(np.sqrt(np.mean(part[:, BLOCK_FRAMES * 6 :] ** 2))) for part in np.split(switched, 3, axis=1)]
    assert levels[1] < 0.5 * levels[0] and levels[2] == pytest.approx(levels[0], rel=0.02)


def test_the_balance_comes_with_the_switch():
    """12 dB softer and 12 dB of balance: but for the two glides, which meet in the middle, the level stays."""
    second = slotted(False)
    first = edited(second, op="switch_slot", of="strip", id="a", slot=1, seed="s")
    y = played([first, second], [0.0, 12.0])[:, 4 * BLOCK_FRAMES :]
    period = RATE // 110
    peaks = np.array([np.abs(y[:, at : at + period]).max() for at in range(0, y.shape[1] - period, period)])
    off = np.abs(20 * np.log10(peaks / peaks[0]))
    assert np.sum(off > 0.1) <= 6 and off.max() < 4.5  # of 9 ms each
