"""What is compiled again after an edit is what would be compiled from nothing, for any edits of the demo sessions."""

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from saltanvil.demo import harbour_walk, low_water
from saltanvil.engine.audition import Audition, Scope
from saltanvil.engine.compile import compile_plan
from saltanvil.engine.compiled import Compiled
from saltanvil.engine.rack import Rack
from saltanvil.engine.structure import structure_of
from saltanvil.session.apply import EDIT, apply
from saltanvil.session.edits.base import EditRefused
from saltanvil.session.graph import Graph
from tests.edits import any_edits, moved_json
from tests.engine.test_engine import Arrays
from tests.engine.test_stream import Names
from tests.signals import noise

BLOCK_FRAMES = 512
DEMOS = [demo.build_session(Names()) for demo in (harbour_walk, low_water)]
MEDIA = Arrays(*(0.3 * noise(1, 64 * BLOCK_FRAMES, seed) for seed in range(24)))


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
        saved.append((rack.save(), reference.clone(), at))
        match data.draw(st.sampled_from(["edit", "edit", "edit", "back", "scope"])):
            case "edit":
                try:
                    session = apply(session, EDIT.validate_python(data.draw(any_edits(session))))
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
        for name in ("sources", "order", "enters", "loop", "strip_of", "steps"):
            assert getattr(compiled.graph, name) == getattr(Graph(session), name), name
        assert all(compiled.graph.strip_of[point] is session.strip(strip.id) for point, strip in compiled.graph.strip_of.items())
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
    changed = apply(session, EDIT.validate_python(moved_json("step", step.id, threshold_db=-33.0)))
    after = compile_plan(changed, MEDIA, rack, before=compiled).nodes
    others = [point for point, node in after.items() if before[point] is node]
    assert 0.5 * len(after) < len(others) < len(after)
