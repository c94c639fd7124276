"""Exact from anywhere: a play that begins at a border's states is the stretch of the song's render, to the bit."""

from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from saltanvil.engine import borders, segments
from saltanvil.engine.audition import RENDERED, Audition, Scope
from saltanvil.engine.borders import settle
from saltanvil.engine.compile import compile_plan
from saltanvil.engine.media import Arrays
from saltanvil.engine.rack import Rack
from saltanvil.engine.render import render_nodes
from saltanvil.engine.stream import Stream
from saltanvil.engine.wanted import Wanted
from saltanvil.processors import REGISTRY
from saltanvil.session.apply import EDIT, apply
from saltanvil.session.edits.base import EditRefused
from saltanvil.session.graph import NodeId
from tests.edits import any_edits
from tests.engine.test_automation import gliding, track
from tests.engine.test_rendered import DEMOS, Memory, Stored, outputs
from tests.signals import noise

SEGMENT_FRAMES = 4096
#: As the tests of the render store have it, and some more.
FRAMES = 14 * SEGMENT_FRAMES
SOUNDS = [0.3 * noise(1, FRAMES, seed) for seed in range(24)]


@pytest.fixture(autouse=True)
def short(monkeypatch):
    """Short segments, and a pre-roll that settles next to nothing."""
    monkeypatch.setattr(segments, "SEGMENT_FRAMES", SEGMENT_FRAMES)
    monkeypatch.setattr(borders, "preroll_start", lambda start, rate: max(0, start - 512))
    monkeypatch.setattr("tests.engine.test_rendered.FRAMES", FRAMES)


def played(session, media, start, blocks=4):
    """The main from `start` on, as late as it is, and whether it began exactly."""
    plan = compile_plan(session, media, Rack(), RENDERED, [NodeId("out", "main")])
    with ThreadPoolExecutor(2) as pool:
        exact = settle(plan, start, pool)
    return np.concatenate([plan.render(start + number * 512, 512).copy() for number in range(blocks)], axis=1), exact


def from_nothing(session, start, frames):
    plan = compile_plan(session, Arrays(*SOUNDS), Rack(), RENDERED, [NodeId("out", "main")])
    return np.concatenate([plan.render(at, 512).copy() for at in range(0, start + frames, 512)], axis=1)[:, start:]


@pytest.mark.parametrize("demo", DEMOS, ids=["harbour walk", "low water"])
@settings(max_examples=15, deadline=None)
@given(data=st.data())
def test_a_play_from_anywhere_is_the_stretch_of_the_song(demo, data):
    """Edits of every kind, then a render of the song into the store, in which some of what was written may be lost."""
    session = demo
    for _ in range(data.draw(st.integers(0, 4))):
        try:
            session = apply(session, EDIT.validate_python(data.draw(any_edits(session))))
        except EditRefused:
            continue
    store = Memory()
    media = Stored(store, *SOUNDS)
    outputs(session, media, ["main"])
    lost = data.draw(st.lists(st.sampled_from(sorted(store.kept, key=str)), max_size=3)) if store.kept else []
    for name in lost:
        store.kept.pop(name, None)
    start = 512 * data.draw(st.integers(1, FRAMES // 512 - 8))
    sound, exact = played(session, media, start)
    assert exact or lost
    if exact:
        assert np.array_equal(sound, from_nothing(session, start, sound.shape[1]))


#: Long memories.
SETTINGS = {
    "compressor": {"release_ms": 2000.0, "lookahead_ms": 5.0},
    "leveller": {"speed_s": 2.0},
    "room": {"decay_s": 4.0},
    "echo": {"feedback": 0.8},
}


def moves(told):
    """There and back within what a setting allows, and a jump."""
    low, high = (told.minimum + share * (told.maximum - told.minimum) for share in (0.2, 0.4))
    points = ((0.0, low, "linear"), (0.9, high, "hold"), (1.05, low, "hold"))
    return {"points": [{"at_s": at_s, "value": value, "shape": shape} for at_s, value, shape in points]}


@pytest.mark.parametrize("moving", [False, True], ids=["still", "moving"])
@pytest.mark.parametrize("kind", sorted(set(REGISTRY) - {"split"}))
def test_each_processor_goes_on_from_its_states(kind, moving):
    """With settings that stand still, or all that can moving at once, also where a place lies within a way. Splits are in the
    songs above. The pre-roll alone gives something else for most."""
    step = {"id": "s", "kind": kind, "settings": SETTINGS.get(kind, {})}
    if moving:
        step["envelopes"] = {told.name: moves(told) for told in gliding(kind)}
    if REGISTRY[kind].keyed:
        step["key"] = {"strip_id": "b"}
    session = track({"kind": "limiter", "id": "late", "settings": {"lookahead_ms": 1.7}}, step)
    store = Memory()
    media = Stored(store, *SOUNDS)
    outputs(session, media, ["main"])
    for start in (11 * SEGMENT_FRAMES, 12 * SEGMENT_FRAMES + 1024):
        sound, exact = played(session, media, start)
        assert exact and np.array_equal(sound, from_nothing(session, start, sound.shape[1]))


def test_a_render_of_one_strip_keeps_what_a_play_of_all_can_use_or_nothing():
    """Of a bypassed split's lanes one render needs nothing and another, which listens there, all."""
    lanes = [{"id": name, "name": name, "path": {"steps": [{"id": f"{name}c", "kind": "compressor"}]}} for name in ("a", "b")]
    split = {"id": "x", "kind": "split", "settings": {"by": "copies"}, "lanes": lanes, "bypass": True}
    session = track(split, {"kind": "leveller", "id": "l"})
    store = Memory()
    list(render_nodes(session, Stored(store, *SOUNDS), [NodeId("lane", "a"), NodeId("out", "main")], 0, FRAMES, begin=0))
    start = 12 * SEGMENT_FRAMES + 1024
    sound, exact = played(session, Stored(store, *SOUNDS), start)
    assert exact and np.array_equal(sound, from_nothing(session, start, sound.shape[1]))
    # The other way round what is missing is not made up.
    store = Memory()
    outputs(session, Stored(store, *SOUNDS), ["main"])
    plan = compile_plan(session, Stored(store, *SOUNDS), Rack(), RENDERED, [NodeId("lane", "a"), NodeId("out", "main")])
    with ThreadPoolExecutor(2) as pool:
        assert not settle(plan, start, pool)


def test_before_is_never_called_exact():
    """What follows the scope is stored as it is after the scope's treatment."""
    session, store = DEMOS[1], Memory()
    media = Stored(store, *SOUNDS)
    outputs(session, media, ["main"])
    for listening, exact in (("after", True), ("difference", True), ("before", False)):
        audition = Audition(scope=Scope("snare"), listening=listening)
        assert Stream(media, Wanted(session, audition), 12 * SEGMENT_FRAMES, 0).exact is exact


def test_what_cannot_be_exact_says_so():
    session = DEMOS[1]
    _, exact = played(session, Stored(Memory(), *SOUNDS), 12 * SEGMENT_FRAMES)
    assert not exact
    assert not played(session, Arrays(*SOUNDS), 12 * SEGMENT_FRAMES)[1]


def test_a_stream_begins_exactly():
    session, store = DEMOS[1], Memory()
    media = Stored(store, *SOUNDS)
    for exact in (False, True):
        assert Stream(media, Wanted(session), 12 * SEGMENT_FRAMES, 0).exact is exact
        outputs(session, media, ["main"])
