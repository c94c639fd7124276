"""Versions share what they have in common, and none is ever changed by an edit of another."""

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from saltanvil.demo import harbour_walk, low_water
from saltanvil.session.apply import EDIT, apply
from saltanvil.session.document.path import Match
from saltanvil.session.document.session import Session
from saltanvil.session.edits.base import EditRefused
from saltanvil.session.edits.values import Set
from saltanvil.session.matches import with_matches
from saltanvil.session.sharing import forked
from saltanvil.session.validate import checked
from saltanvil.studies.moving import moving_values
from saltanvil.studies.routing import routing_after, routing_of
from tests.edits import any_edits, moved_json, numbers, undone
from tests.engine.test_stream import Names

DEMOS = [harbour_walk.build_session(Names()), low_water.build_session(Names())]


def edits_of(session):
    """Edits of every sort that a session allows, each on its own."""
    tracks = [strip for strip in session.strips if strip.kind == "track"]
    strip = next(strip for strip in tracks if strip.path.steps)
    step = strip.path.steps[0]
    yield moved_json("strip", strip.id, level_db=-7.5, mute=True)
    yield moved_json("step", step.id, bypass=True)
    yield moved_json("session", None, tempo_bpm=99.0)
    yield {"op": "remove_step", "step_id": step.id}
    yield {"op": "move_step", "step_id": step.id, "strip_id": "main", "index": 0}
    yield {"op": "remove_strip", "strip_id": strip.id}
    yield {"op": "move_strip", "strip_id": strip.id, "index": 0, "output": "main"}
    yield {"op": "add_step", "strip_id": strip.id, "step": {"id": "new", "kind": "gate", "settings": {}}}
    yield {"op": "set_sections", "sections": []}
    yield {"op": "batch", "edits": [moved_json("strip", tracks[0].id, pan=0.5), moved_json("strip", tracks[1].id, pan=-0.5)]}
    for strip in session.strips:
        for step in strip.path.walk():
            for lane in step.lanes:
                yield moved_json("lane", lane.id, level_db=-3.0)
            if step.key is not None:
                yield moved_json("key", step.id, trim_db=3.0)
        for send in strip.sends:
            yield moved_json("send", send.id, level_db=-12.0)


@pytest.mark.parametrize("session", DEMOS, ids=lambda session: session.name)
def test_an_edit_makes_a_version_that_is_whole_and_leaves_the_others_alone(session):
    before = session.model_dump_json()
    count = 0
    for edit in edits_of(session):
        changed = apply(session, EDIT.validate_python(edit))
        assert session.model_dump_json() == before, edit
        # The same as if everything had been copied and checked anew.
        assert Session.model_validate(changed.model_dump()) == changed
        shared = {id(strip) for strip in session.strips} & {id(strip) for strip in changed.strips}
        assert {strip.id for strip in changed.strips if id(strip) not in shared} <= {
            strip.id for strip in changed.strips if strip not in session.strips
        }  # what is equal is the same object
        back = undone(session, changed)
        assert back == session, edit
        count += 1
    assert count > 10


def test_a_fork_can_be_changed_in_place_however_deep():
    session = DEMOS[1]
    before = session.model_dump_json()
    fork = forked(session)
    for strip in fork.strips:
        strip.level_db = -1.0
        for step in strip.path.walk():
            step.bypass = not step.bypass
            if step.key is not None:
                step.key.trim_db = 9.0
            for lane in step.lanes:
                lane.level_db = -2.0
        for send in strip.sends:
            send.mute = True
    assert session.model_dump_json() == before


def test_matches_change_the_strip_they_belong_to_only():
    session = DEMOS[1]
    strip = next(strip for strip in session.strips if strip.path.steps)
    step = strip.path.steps[0]
    match = Match(key="k", matched_db=-2.0)
    result = with_matches(session, {step.id: match})
    assert result.strip(strip.id).path.steps[0].match == match and step.match is None
    assert [a.id for a, b in zip(result.strips, session.strips, strict=True) if a is not b] == [strip.id]
    again = with_matches(result, {step.id: match})
    assert all(a is b for a, b in zip(again.strips, result.strips, strict=True))


def test_an_edit_whose_outcome_is_not_valid_is_refused_and_nothing_has_changed():
    session = DEMOS[1]
    before = session.model_dump_json()
    strip = next(strip for strip in session.strips if len(strip.path.steps) > 0)
    twin = {"op": "add_step", "strip_id": "main", "step": {"id": strip.path.steps[0].id, "kind": "gate", "settings": {}}}
    with pytest.raises(EditRefused, match="same id"):
        apply(session, EDIT.validate_python(twin))
    assert session.model_dump_json() == before


@pytest.mark.parametrize("session", DEMOS, ids=lambda session: session.name)
@settings(max_examples=60, deadline=None)
@given(data=st.data())
def test_moving_values_leaves_a_session_whole(session, data):
    """It is not checked anew for that: what it comes to is what a check of everything would have let through, or refused."""
    moves = []
    for of, name, setting, told in data.draw(st.lists(st.sampled_from(numbers(session)), min_size=1, max_size=3)):
        drawn = st.booleans() if told.type == "switch" else st.floats(told.minimum, told.maximum)
        moves.append({"of": of, "id": name, "name": setting, "value": data.draw(drawn)})
    edit = Set.model_validate({"values": moves})
    try:
        changed = apply(session, edit)
    except EditRefused:
        return
    assert checked(changed) is changed
    assert Session.model_validate(changed.model_dump()) == changed
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(Set, "moved_strips", lambda self, session: None)
        assert apply(session, edit) == changed
    assert undone(session, changed) == session


@pytest.mark.parametrize("session", DEMOS, ids=lambda session: session.name)
@settings(max_examples=40, deadline=None)
@given(data=st.data())
def test_what_is_told_again_of_a_version_is_what_would_be_worked_out(session, data):
    """Routing, and the values that move, over chains of any edits."""
    routing, moving = routing_of(session), moving_values(session)
    for _ in range(data.draw(st.integers(1, 5))):
        try:
            changed = apply(session, EDIT.validate_python(data.draw(any_edits(session))))
        except EditRefused:
            continue
        routing = routing_after(changed, (session, routing))
        moving = moving_values(changed, (session, moving))
        session = changed
        assert routing == routing_of(session)
        assert moving == moving_values(session)
