"""What is compiled again after an edit is what would be compiled from nothing, for any edits of the demo sessions."""

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from saltanvil.demo import harbour_walk, low_water
from saltanvil.engine.audition import Audition, Scope
from saltanvil.engine.compile import Compiled, compile_plan, structure_of
from saltanvil.engine.rack import Rack
from saltanvil.session.apply import EDIT, apply
from saltanvil.session.document import NotFound
from saltanvil.session.edits import EditRefused
from saltanvil.session.settings import Address, automated_parts, descriptor
from tests.edits import moved_json
from tests.engine.test_engine import Arrays
from tests.engine.test_stream import Names
from tests.signals import noise

BLOCK_FRAMES = 512
DEMOS = [demo.build_session(Names()) for demo in (harbour_walk, low_water)]
MEDIA = Arrays(*(0.3 * noise(1, 64 * BLOCK_FRAMES, seed) for seed in range(24)))


def numbers(session):
    """Addresses of all numbers and switches of a session that glide or jump."""
    found = []
    for of, name, part in automated_parts(session):
        held = part.settings if of == "step" else part
        for setting in type(held).model_fields:
            try:
                told = descriptor(session, Address(of=of, id=name, name=setting))
            except NotFound:  # not a setting
                continue
            if told.type in ("number", "boolean"):
                found.append((of, name, setting, told))
    return found


@st.composite
def edits(draw, session):
    """An edit of any sort, as it is sent; some are refused."""
    strips = [strip.id for strip in session.strips]
    steps = [step.id for strip in session.strips for step in strip.path.walk()]
    sort = draw(st.sampled_from(["number"] * 4 + ["switch"] * 2 + ["tempo", "low", "move", "remove", "add", "feed"]))
    if sort == "number":
        of, name, setting, told = draw(st.sampled_from(numbers(session)))
        drawn = st.booleans() if told.type == "boolean" else st.floats(told.minimum, told.maximum)
        return moved_json(of, name, **{setting: draw(drawn)})
    if sort == "switch":
        of, name = draw(st.sampled_from([("step", "bypass"), ("strip", "mute"), ("strip", "solo"), ("strip", "envelopes_off")]))
        return moved_json(of, draw(st.sampled_from(steps if of == "step" else strips)), **{name: draw(st.booleans())})
    if sort == "tempo":
        return moved_json("session", None, tempo_bpm=draw(st.floats(60.0, 180.0)))
    if sort == "low":
        return moved_json("session", None, low_latency=draw(st.booleans()))
    if sort == "move":
        return {
            "op": "move_step",
            "strip_id": draw(st.sampled_from(strips)),
            "step_id": draw(st.sampled_from(steps)),
            "index": draw(st.integers(0, 3)),
        }
    if sort == "remove":
        return {"op": "remove_step", "step_id": draw(st.sampled_from(steps))}
    if sort == "add":
        kind = draw(st.sampled_from(["compressor", "limiter", "gate", "trim"]))
        step = {"id": f"new{draw(st.integers(0, 10**9))}", "kind": kind, "settings": {}}
        return {"op": "add_step", "strip_id": draw(st.sampled_from(strips)), "step": step}
    return {"op": "set_output", "strip_id": draw(st.sampled_from(strips)), "output": draw(st.sampled_from(strips))}


@pytest.mark.parametrize("demo", DEMOS, ids=["harbour walk", "low water"])
@settings(max_examples=25, deadline=None)
@given(data=st.data())
def test_what_is_compiled_after_an_edit_is_what_would_be_compiled_from_nothing(demo, data):
    """Chains of edits, some undone or taken back in time: every node's own figures, and the sound, to the bit."""
    session, audition = demo, Audition()
    rack, reference, compiled = Rack(), Rack(), Compiled()
    at = 0
    saved = []
    for _ in range(data.draw(st.integers(2, 8))):
        saved.append((rack.clone(), reference.clone(apart=True), at))
        match data.draw(st.sampled_from(["edit", "edit", "edit", "back", "scope"])):
            case "edit":
                try:
                    session = apply(session, EDIT.validate_python(data.draw(edits(session))))[0]
                except EditRefused:
                    continue
            case "scope":
                strip = data.draw(st.sampled_from(session.strips))
                audition = Audition(Scope(strip.id), data.draw(st.sampled_from(["before", "after", "difference"])), -3.0)
            case "back":
                back, reference, at = saved[data.draw(st.integers(0, len(saved) - 1))]
                rack.go_back(back)
                saved = []
        compiled.take(session, audition)
        assert structure_of(session, audition, compiled) == structure_of(session, audition)
        plan = compile_plan(session, MEDIA, rack, audition, before=compiled)
        wanted = compile_plan(session, MEDIA, reference, audition)
        assert list(plan.nodes) == list(wanted.nodes)
        places = {id(node): point for held in (plan, wanted) for point, node in held.nodes.items()}
        for one, other in zip(plan.nodes.values(), wanted.nodes.values(), strict=True):
            assert (one.cache_key(), one.latency_frames, one.channels) == (
                other.cache_key(),
                other.latency_frames,
                other.channels,
            )
            assert [places[id(source)] for source in one.sources] == [places[id(source)] for source in other.sources]
        assert [step.step for step in plan.walk()] == [step.step for step in wanted.walk()]
        for _ in range(2):
            assert (plan.render(at, BLOCK_FRAMES) == wanted.render(at, BLOCK_FRAMES)).all()
            at += BLOCK_FRAMES


def test_what_an_edit_leaves_alone_is_not_made_again():
    """The nodes of other strips are the same objects; those that an edit of a strip's step is made of are not."""
    session, rack, compiled = DEMOS[1], Rack(), Compiled()
    before = compile_plan(session, MEDIA, rack, before=compiled).nodes
    step = next(step for strip in session.strips for step in strip.path.steps if step.kind == "compressor")
    changed = apply(session, EDIT.validate_python(moved_json("step", step.id, threshold_db=-33.0)))[0]
    after = compile_plan(changed, MEDIA, rack, before=compiled).nodes
    others = [point for point, node in after.items() if before[point] is node]
    assert 0.5 * len(after) < len(others) < len(after)
