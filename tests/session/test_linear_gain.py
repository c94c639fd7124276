"""A difference without gain: of a step, a lane or a path that does nothing but its gain it is digital silence."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from saltanvil.dsp.units import gain_to_db
from saltanvil.engine.audition import Audition, Scope
from saltanvil.engine.compile import compile_plan
from saltanvil.engine.media import Arrays
from saltanvil.engine.rack import Rack
from saltanvil.processors import REGISTRY
from saltanvil.session.document.session import Session
from saltanvil.session.linear_gain import linear_gain_db
from tests.signals import noise, snare

FRAMES = 48000
#: Soft enough that no threshold is reached; what else they do is switched off.
SOFT = 0.005 * noise(2, FRAMES, 4)
#: Settings of each kind with which it does nothing but its gain, and the gains there are.
GAINS = {
    "compressor": ({"threshold_db": 0.0}, ("makeup_db",)),
    "freecurve": ({"points": [[-90.0, -90.0], [0.0, 0.0]]}, ("output_db",)),
    "shaper": ({"attack_db": 0.0, "sustain_db": 0.0, "level_safe": False}, ("output_db",)),
    "clipper": ({"ceiling_db": 0.0, "oversampling": "1x", "give_back": False}, ("drive_db", "output_db")),
    "limiter": ({"ceiling_db": 0.0}, ("gain_db",)),
    "trim": ({}, ("gain_db",)),
    "tamer": ({"mode": "found", "output": "not held"}, ("output_db",)),
}


def session_of(*steps, **more):
    return Session.model_validate({"name": "S", "strips": [
        {"id": "main", "name": "Main", "kind": "main", "output": None},
        {"id": "t", "name": "T", "kind": "track", "media_id": 0, "path": {"steps": list(steps)}, **more},
    ]})  # fmt: skip


def difference(session, x, scope, plain=False):
    """What is heard, once all that glides has settled."""
    audition = Audition(scope=scope, listening="difference", plain=plain)
    plan = compile_plan(session, Arrays(x), Rack(), audition)
    return np.concatenate([plan.render(at, 4800) for at in range(0, x.shape[1], 4800)], axis=1)[:, 14400:]


def level_db(x):
    return gain_to_db(float(np.abs(x).max()))


@pytest.mark.parametrize("kind", sorted(GAINS))
@settings(max_examples=12, deadline=None)
@given(data=st.data())
def test_of_a_step_that_does_nothing_but_its_gain_it_is_silence(kind, data):
    still, names = GAINS[kind]
    fields = REGISTRY[kind].settings_model.model_fields
    own = {name: value for name, value in still.items() if name in fields}
    own |= {name: data.draw(st.floats(-12.0, 12.0)) if name != "drive_db" else data.draw(st.floats(0.0, 18.0)) for name in names}
    if "mix" in fields:
        own["mix"] = data.draw(st.floats(0.0, 1.0))
    session = session_of({"id": "s", "kind": kind, "settings": own})
    assert level_db(difference(session, SOFT, Scope("t", "s"))) < -120.0
    assert level_db(difference(session, SOFT, Scope("t"))) < -120.0
    if abs(linear_gain_db(session, "t", "s")) > 0.5:
        assert level_db(difference(session, SOFT, Scope("t", "s"), plain=True)) - level_db(SOFT) > -30.0


def test_make_up_leaves_the_difference_of_a_compressor_as_it_is():
    """On drums its correlation with what enters was -0.37 with 8 dB of make-up, and 0.93 without."""
    x = np.repeat(0.5 * snare(4.0)[None], 2, axis=0).astype(np.float32)
    compressor = {"threshold_db": -30.0, "ratio": 4.0, "attack_ms": 5.0}
    kept = [
        difference(
            session_of({"id": "s", "kind": "compressor", "settings": {**compressor, "makeup_db": gain}}), x, Scope("t", "s")
        )
        for gain in (0.0, 8.0, -6.0)
    ]
    for one in kept[1:]:
        assert level_db(one - kept[0]) - level_db(kept[0]) < -110.0


def test_lanes_paths_and_splits_have_the_gain_of_what_is_in_them():
    makeup = {"id": "c", "kind": "compressor", "settings": {"threshold_db": 0.0, "makeup_db": 6.0}}
    trim = {"id": "g", "kind": "trim", "settings": {"gain_db": -2.0}}
    lanes = [
        {"id": "a", "name": "A", "path": {"steps": [makeup]}, "level_db": -3.0},
        {"id": "b", "name": "B", "path": {"steps": []}},
    ]
    split = {"id": "x", "kind": "split", "settings": {"by": "copies", "law": "linear", "position": 0.5}, "lanes": lanes}
    session = session_of(split, trim)
    assert linear_gain_db(session, "t", lane_id="a") == pytest.approx(3.0)
    both = gain_to_db(0.5 * 10 ** (3.0 / 20) + 0.5)
    assert linear_gain_db(session, "t", "x") == pytest.approx(both)
    assert linear_gain_db(session, "t") == pytest.approx(both - 2.0)
    assert level_db(difference(session, SOFT, Scope("t"))) < -120.0
    assert level_db(difference(session, SOFT, Scope("t", None, "a"))) < -120.0
    # Bands of other gains are another tone, not a gain; of the same they are one.
    for level, expected in ((-3.0, 0.0), (0.0, 6.0)):
        bands = [{**lanes[0], "level_db": level}, {"id": "b", "name": "B", "path": {"steps": [{**makeup, "id": "d"}]}}]
        banded = session_of({"id": "x", "kind": "split", "settings": {"by": "bands", "dividers_hz": [500.0]}, "lanes": bands})
        assert linear_gain_db(banded, "t", "x") == pytest.approx(expected, abs=0.01)
    bypassed = session_of({**makeup, "bypass": True})
    assert linear_gain_db(bypassed, "t", "c") == 0.0


def test_a_gain_that_moves_is_taken_off_as_it_moves():
    ramp = {"points": [{"at_s": 0.2, "value": -12.0}, {"at_s": 0.9, "value": 12.0}]}
    step = {"id": "s", "kind": "compressor", "settings": {"threshold_db": 0.0}, "envelopes": {"makeup_db": ramp}}
    sound = difference(session_of(step), SOFT, Scope("t", "s"))
    plain = difference(session_of(step), SOFT, Scope("t", "s"), plain=True)
    assert level_db(sound) < level_db(plain) - 10.0


@pytest.mark.parametrize("drive_db", [6.0, 12.0])
def test_a_saturators_difference_does_not_hold_its_drive(drive_db):
    x = np.repeat(0.5 * snare(4.0)[None], 2, axis=0).astype(np.float32)
    step = {"id": "s", "kind": "saturator", "settings": {"drive_db": drive_db, "output": "not held", "output_db": 3.0}}
    soft = 0.001 * x
    assert level_db(difference(session_of(step), soft, Scope("t", "s"))) - level_db(soft) < -35.0
    loud = difference(session_of(step), x, Scope("t", "s"))
    assert level_db(loud) < level_db(x) + 0.1
