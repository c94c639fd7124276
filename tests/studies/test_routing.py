"""Silence is explained where it occurs: from the document, and from what the detector heard."""

import contextlib
import random

import numpy as np
import pytest

from saltanvil.engine.audition import Scope
from saltanvil.engine.cache import SegmentCache
from saltanvil.engine.media import Arrays
from saltanvil.engine.scope import ScopeRenderer
from saltanvil.session.apply import EDIT, apply
from saltanvil.session.document.path import Key
from saltanvil.studies.routing import notices_of, routing_of, source_name
from saltanvil.studies.scope.ledger import ledger_of
from saltanvil.studies.scope.passage import passage_of
from tests.engine.test_routing import edited, session_of, step, strip
from tests.schema_edits import World, full_session
from tests.signals import noise, tone

RATE = 48000


def plain():
    return session_of(
        strip("kick", step("limiter", "lim"), media_id=0, output="drums"),
        strip("bass", step("ducker", "duck", {"strip_id": "kick"}), media_id=1),
        strip("drums", kind="bus"),
        strip("plate", kind="bus"),
        strip("empty", kind="track"),
    )


def silent(session, strip_id):
    return routing_of(session).strips[strip_id].silent


@pytest.mark.parametrize(
    ("edit", "strip_id", "told"),
    [
        ({"op": "set_strip", "strip_id": "kick", "mute": True}, "kick", "Muted."),
        ({"op": "set_strip", "strip_id": "kick", "level_db": -90.0}, "kick", "Its level is all the way down."),
        ({"op": "set_strip", "strip_id": "bass", "solo": True}, "kick", "Silenced by solo on BASS."),
        ({"op": "set_strip", "strip_id": "drums", "mute": True}, "kick", "DRUMS, on its way to the main, is silent: Muted."),
        ({"op": "set_strip", "strip_id": "main", "mute": True}, "bass", "MAIN, on its way to the main, is silent: Muted."),
        ({"op": "set_strip", "strip_id": "kick", "mute": True}, "drums", "Nothing reaches it: KICK: Muted."),
        ({"op": "set_output", "strip_id": "bass", "output": None}, "bass", "It feeds nothing; choose an output."),
        (
            {"op": "set_output", "strip_id": "kick", "output": None},
            "kick",
            "It feeds nothing and is only the key of the ducker on BASS.",
        ),
        ({"op": "set_session", "tempo_bpm": 90.0}, "plate", "Nothing feeds it. Send a strip here, or make it the output of one."),
        ({"op": "set_session", "tempo_bpm": 90.0}, "empty", "This track has no sound; drop a file on it."),
        ({"op": "set_session", "tempo_bpm": 90.0}, "kick", None),
    ],
)
def test_a_silent_strip_says_why(edit, strip_id, told):
    assert silent(edited(plain(), **edit), strip_id) == told


def test_a_mute_that_moves_over_time_is_no_reason_and_no_fault():
    """It was told as a solo of nobody, and the server answered 500."""
    muted = edited(plain(), op="set_strip", strip_id="kick", mute=True)
    points = [{"id": "p", "at_s": 0.0, "value": 1.0, "shape": "hold"}, {"id": "q", "at_s": 1.0, "value": 0.0, "shape": "hold"}]
    moving = edited(muted, op="change_envelope", of="strip", id="kick", name="mute", put_points=points)
    assert silent(muted, "kick") == "Muted." and silent(moving, "kick") is None and silent(moving, "drums") is None


def test_whatever_a_session_is_it_can_be_told_why_it_is_silent():
    rng, session = random.Random(29), full_session()
    told = set()
    for _ in range(400):
        with contextlib.suppress(ValueError):
            session = apply(session, EDIT.validate_python(World(session, rng).edit()))
        told |= {view.silent for view in routing_of(session).strips.values()}
    assert len(told) > 5


def test_sends_and_keys_say_why_they_are_silent():
    session = edited(plain(), op="add_send", strip_id="kick", send={"id": "s", "target": "plate", "level_db": -6.0})
    assert silent(session, "plate") is None and not routing_of(session).silent_sends
    for edit, told in (
        ({"op": "set_send", "send_id": "s", "mute": True}, "The send is muted."),
        ({"op": "set_send", "send_id": "s", "level_db": -90.0}, "The send is all the way down."),
        ({"op": "set_strip", "strip_id": "kick", "level_db": -90.0}, "taken after the strip's level"),
    ):
        changed = edited(session, **edit)
        assert told in routing_of(changed).silent_sends["s"] and told in silent(changed, "plate")
    pre = edited(edited(session, op="set_send", send_id="s", pre=True), op="set_strip", strip_id="kick", level_db=-90.0)
    assert silent(pre, "plate") is None
    assert "duck" not in routing_of(edited(session, op="set_strip", strip_id="kick", mute=True)).silent_keys
    follows = edited(session, op="set_key", step_id="duck", key={"strip_id": "kick", "mutes": True})
    follows = edited(follows, op="set_strip", strip_id="kick", mute=True)
    assert routing_of(follows).silent_keys == {"duck": "KICK is muted, and this key follows its mute."}
    none = edited(session, op="set_key", step_id="duck", key={"strip_id": "empty"})
    assert routing_of(none).silent_keys == {"duck": "EMPTY: This track has no sound; drop a file on it."}


def test_removing_or_muting_a_source_says_what_it_keyed():
    session = plain()
    gone = edited(session, op="remove_strip", strip_id="kick")
    assert notices_of(session, gone) == [
        "KICK was the key of the ducker on BASS, which does nothing without one. Undo brings it back."
    ]
    muted = edited(session, op="set_strip", strip_id="kick", mute=True)
    assert notices_of(session, muted) == ["KICK is muted and still keys the ducker on BASS."]
    of_step = edited(session, op="set_key", step_id="duck", key={"step_id": "lim", "mutes": True})
    assert source_name(of_step, Key(step_id="lim")) == "KICK after its limiter"
    assert notices_of(of_step, edited(of_step, op="remove_step", step_id="lim"))[0].startswith("KICK after its limiter was")
    muted = edited(of_step, op="set_strip", strip_id="kick", mute=True)
    assert notices_of(of_step, muted) == ["KICK is muted, and so is the key of the ducker on BASS."]
    assert notices_of(session, edited(session, op="set_key", step_id="duck", key=None)) == []  # that was asked for


def hints(session, sounds, scope, frames=RATE * 2):
    result = ScopeRenderer(session, Arrays(*sounds), SegmentCache(), 0, frames).compare(scope)
    made = session.step(scope.step_id).step
    return result, {
        h.name: h.text
        for h in ledger_of(passage_of(result, RATE), session, made, made.key and source_name(session, made.key)).hints
    }


def test_a_gate_shut_by_its_key_and_a_filter_above_its_source_are_told_in_decibels():
    voice, bass = noise(1, RATE * 2, 1), (0.4 * tone(60.0, 2.0))[None].astype(np.float32)
    key = {"strip_id": "bass"}
    chosen = {"threshold_db": -20.0, "key_filter": "high-pass", "key_low_hz": 2000.0, "key_slope": "24 dB/oct"}
    session = session_of(
        strip("bass", media_id=1), strip("voice", step("gate", "g", key, **chosen), step("trim", "t"), media_id=0)
    )
    result, told = hints(session, (voice, bass), Scope("voice", "g"))
    loudest = result.detector_db.max()
    assert loudest < -40 and result.key_peak_db == pytest.approx(20 * np.log10(0.4), abs=0.01)
    assert told["filtered"].startswith(f"The key, BASS, reaches {loudest:.1f} dBFS at most behind its filter (-8.0 without it)")
    assert "the threshold is at -20.0 dB" in told["filtered"] and not result.after.any()
    # Without the filter the same gate opens; with a threshold above everything it says what the key reaches.
    session = edited(session, op="set_step", step_id="g", settings={"key_filter": "off"})
    assert "filtered" not in hints(session, (voice, bass), Scope("voice", "g"))[1]
    session = edited(session, op="set_step", step_id="g", settings={"threshold_db": -4.0})
    assert hints(session, (voice, bass), Scope("voice", "g"))[1]["shut"].startswith("The key, BASS, reaches -8.0 dB at most")


def test_a_ducker_says_what_it_lacks():
    sounds = (noise(1, RATE * 2, 1), noise(1, RATE * 2, 2))
    session = session_of(strip("a", step("ducker", "d"), media_id=0), strip("k", media_id=1))
    assert "no key" in hints(session, sounds, Scope("a", "d"))[1]
    keyed = edited(session, op="set_key", step_id="d", key={"strip_id": "k", "trim_db": -60.0})
    assert "nothing is pushed down" in hints(keyed, sounds, Scope("a", "d"))[1]["idle"]
    always = edited(keyed, op="set_key", step_id="d", key={"strip_id": "k", "trim_db": 40.0})
    always = edited(always, op="set_step", step_id="d", settings={"hold_ms": 2000.0})
    assert "a lower level" in hints(always, sounds, Scope("a", "d"))[1]["always"]


def test_low_latency_says_what_it_changes():
    session = edited(plain(), op="set_step", step_id="duck", settings={"lookahead_ms": 5.0})
    routing = routing_of(session)
    assert routing.low_latency_changes == {
        "lim": "ceiling measures true peak becomes sample peak, lookahead 3 becomes 0.5: 3.4 ms less",
        "duck": "lookahead 5 becomes 0: 5.0 ms less",
    }
    assert routing.latency_ms == pytest.approx(8.9, abs=0.1) and routing.low_latency_ms == 0.5
    assert [cause.name for cause in routing.strips["bass"].causes] == ["KICK: limiter", "BASS: ducker"]
