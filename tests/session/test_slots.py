"""Slots: storing, switching, what differs; undone exactly, kept by files, never broken by edits elsewhere."""

import json

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from saltanvil.engine.render import render_strips
from saltanvil.session.apply import EDIT, apply
from saltanvil.session.document.path import Path
from saltanvil.session.document.session import Session
from saltanvil.session.edits.base import EditRefused
from saltanvil.session.format import FORMAT, read_path, read_session, written
from saltanvil.session.slot_differences import compared
from saltanvil.session.slots import slots_in, with_slots_on
from tests.edits import undone
from tests.engine.test_engine import Arrays
from tests.engine.test_stream import any_session
from tests.signals import noise

RATE = 48_000
SOUND = Arrays(noise(2, RATE, 5), noise(1, RATE, 6))


def made():
    def step(kind, name, **values):
        return {"id": name, "kind": kind, "settings": values}

    lanes = [
        {"id": "dry", "name": "Dry"},
        {"id": "wet", "name": "Wet", "path": {"steps": [step("saturator", "dirt", drive_db=20.0)]}},
    ]
    steps = [step("compressor", "comp", threshold_db=-30.0), {"id": "split", "kind": "split", "lanes": lanes}]
    return Session.model_validate({"name": "S", "strips": [
        {"id": "main", "name": "Main", "kind": "main", "output": None},
        {"id": "a", "name": "A", "kind": "track", "media_id": 0, "path": {"steps": steps}},
        {"id": "b", "name": "B", "kind": "track", "media_id": 1},
    ]})  # fmt: skip


def edit(session, **data):
    """The changed session; undoing it brings back what was."""
    changed = apply(session, EDIT.validate_python(data))
    assert undone(session, changed) == session
    return changed


def store(session, slot, of="step", name="comp"):
    return edit(session, op="store_slot", of=of, id=name, slot=slot)


def switch(session, slot, of="step", name="comp"):
    return edit(session, op="switch_slot", of=of, id=name, slot=slot, seed=f"s{slot}")


def put(session, owner="comp", of="step", **values):
    return edit(session, op="set", values=[{"of": of, "id": owner, "name": key, "value": value} for key, value in values.items()])


def threshold(session):
    return session.step("comp").step.settings.threshold_db


def render(session):
    return np.concatenate([block["main"] for block in render_strips(session, SOUND, 0, RATE // 2, ["main"])], axis=1)


def test_what_was_stored_stays_when_the_next_is_stored_elsewhere():
    session = put(store(made(), 1), threshold_db=-40.0)
    session = store(session, 2)
    assert threshold(switch(session, 1)) == -30.0 and threshold(switch(switch(session, 1), 2)) == -40.0


def test_a_version_keeps_what_is_changed_while_it_is_on():
    session = switch(store(store(made(), 1), 2), 1)
    session = switch(put(session, threshold_db=-12.0), 2)
    assert threshold(session) == -30.0
    assert threshold(switch(session, 1)) == -12.0


def test_versions_may_differ_in_their_steps_lanes_and_keys():
    session = store(store(made(), 1, "strip", "a"), 2, "strip", "a")
    session = edit(session, op="remove_step", step_id="comp")
    session = edit(session, op="add_step", strip_id="a", step={"id": "g", "kind": "gate", "settings": {}}, index=0)
    session = edit(session, op="set_key", step_id="g", key={"strip_id": "b"})
    kinds = lambda session: [step.kind for step in session.strip("a").path.steps]  # noqa: E731
    assert kinds(session) == ["gate", "split"]
    first = switch(session, 1, "strip", "a")
    assert kinds(first) == ["compressor", "split"]
    second = switch(first, 2, "strip", "a")
    assert second.strip("a").path.steps == session.strip("a").path.steps
    assert {row.label for row in compared(second, "strip", "a").differences} >= {"Steps", "Gate: Threshold", "Gate: Key"}


def test_a_lane_has_versions_of_its_path_and_level_but_keeps_its_name_and_output():
    session = store(made(), 1, "lane", "wet")
    session = put(session, "wet", "lane", level_db=-6.0, name="Louder")
    session = edit(store(session, 2, "lane", "wet"), op="remove_step", step_id="dirt")
    lane = switch(session, 1, "lane", "wet").lane("wet")[2]
    assert (lane.level_db, lane.name, [step.id for step in lane.path.steps]) == (0.0, "Louder", ["dirt"])


def test_a_slot_whose_key_source_is_gone_listens_to_itself_and_one_whose_bus_is_gone_to_the_sum():
    session = edit(made(), op="set_key", step_id="comp", key={"strip_id": "b"})
    session = store(store(session, 1), 2)
    session = edit(session, op="set_key", step_id="comp", key=None)
    session = edit(session, op="remove_strip", strip_id="b")
    assert switch(session, 1).step("comp").step.key is None
    bus = {"id": "bus", "name": "Bus", "kind": "bus"}
    session = edit(made(), op="add_strip", strip=bus)
    session = store(edit(session, op="set_output", lane_id="wet", output="bus"), 1, "strip", "a")
    session = store(edit(session, op="set_output", lane_id="wet", output=None), 2, "strip", "a")
    session = edit(session, op="remove_strip", strip_id="bus")
    assert switch(session, 1, "strip", "a").lane("wet")[2].output is None


def test_parts_that_live_elsewhere_meanwhile_come_back_under_new_names():
    session = store(store(made(), 1, "strip", "a"), 2, "strip", "a")
    session = edit(session, op="move_step", step_id="comp", strip_id="b", index=0)
    session = switch(session, 1, "strip", "a")
    assert [step.kind for step in session.strip("a").path.steps] == ["compressor", "split"]
    assert session.strip("b").path.steps[0].id == "comp" != session.strip("a").path.steps[0].id


def test_what_cannot_be_is_refused_in_words():
    with pytest.raises(EditRefused, match=r"slot 2 is empty; press Shift\+2 to store what you hear \(stored: 1\)"):
        switch(store(made(), 1), 2)
    with pytest.raises(EditRefused, match="slot 3 is empty"):
        edit(made(), op="clear_slot", of="step", id="comp", slot=3)
    with pytest.raises(EditRefused, match="this step is not there any more"):
        store(made(), 1, name="x")
    assert edit(store(made(), 1), op="clear_slot", of="step", id="comp", slot=1) == made()
    # A loop that a stored key would close is named, as everywhere.
    session = store(edit(made(), op="set_key", step_id="comp", key={"strip_id": "b"}), 1)
    session = store(edit(session, op="set_key", step_id="comp", key=None), 2)
    gate = {"id": "gate", "kind": "gate", "settings": {}, "key": {"strip_id": "a"}}
    session = edit(session, op="add_step", strip_id="b", step=gate)
    with pytest.raises(EditRefused, match="would close a loop"):
        switch(session, 1)


def test_slots_are_bounded_and_do_not_hold_slots():
    trim = {"id": "t", "kind": "trim", "settings": {}}
    nested = {**trim, "slots": {"kept": {"1": {**trim, "slots": {"kept": {"1": trim}}}}}}
    with pytest.raises(ValueError, match="no slots of its own"):
        EDIT.validate_python({"op": "add_step", "strip_id": "a", "step": nested})
    many = {"kept": {str(slot): {"steps": [{**trim, "id": f"t{n}"} for n in range(64)]} for slot in (1, 2, 3, 4)}}
    assert Path.model_validate({"steps": [], "slots": many}).kept_parts() == 256
    step = {"id": "s", "kind": "split", "lanes": [{"id": f"l{n}", "name": "L", "path": {"steps": [
        {**trim, "id": f"x{n}{m}"} for m in range(60)]}} for n in range(6)]}  # fmt: skip
    four, two = ({str(slot): step for slot in numbers} for numbers in ((1, 2, 3, 4), (1, 2)))
    full = {"steps": [{**step, "slots": {"kept": four}}, {**trim, "id": "one", "slots": {"kept": two}}]}
    with pytest.raises(ValueError, match="hold at most 1600 steps and lanes in all"):
        Path.model_validate(full)


def test_a_version_of_the_history_needs_a_slot_beside_what_is_heard():
    session = made()
    version = {"of": "step", "id": "comp", "step": session.step("comp").step.model_dump()}
    for slot in (1, 2, 3, 4):
        session = store(session, slot)
    session = edit(session, op="clear_slot", of="step", id="comp", slot=4)  # what is heard is in none now
    with pytest.raises(EditRefused, match="every other slot is taken"):
        edit(session, op="store_slot", of="step", id="comp", slot=4, version=version)
    beside = edit(store(made(), 1), op="store_slot", of="step", id="comp", slot=4, version=version)
    slots = beside.step("comp").step.slots
    assert (slots.on, sorted(slots.kept)) == (1, [1, 4])
    with pytest.raises(ValueError, match="a version of another step"):
        EDIT.validate_python({"op": "set_version", "version": {**version, "id": "dirt"}})


def test_what_differs_is_listed_by_setting_and_only_that():
    session = put(store(made(), 1), threshold_db=-40.0, ratio=8.0)
    session = put(store(session, 2), bypass=True)
    result = compared(store(session, 4), "step", "comp")
    rows = {row.label: row.values for row in result.differences}
    assert (result.on, result.slots, result.changed) == (4, [1, 2, 4], False)
    assert rows == {
        "Threshold": {1: -30.0, 2: -40.0, 4: -40.0}, "Ratio": {1: 4.0, 2: 8.0, 4: 8.0}, "Bypass": {1: False, 2: False, 4: True},
    }  # fmt: skip
    assert compared(put(session, attack_ms=33.0), "step", "comp").changed
    assert compared(made(), "step", "comp").slots == []


def test_files_and_paths_carry_slots_and_older_formats_have_none():
    session = switch(put(store(store(made(), 1), 2), threshold_db=-50.0), 1)
    text = written(session)
    assert json.loads(text)["format"] == FORMAT and read_session(text, "S") == (session, [])
    path = read_path(json.dumps(session.strip("a").path.model_dump(mode="json")))
    assert slots_in(path) == {1, 2}
    assert [with_slots_on(path, slot).steps[0].settings.threshold_db for slot in (1, 2)] == [-30.0, -50.0]
    older = json.loads(written(made()))
    older["format"] = 3
    assert read_session(json.dumps(older), "S")[0] == made()
    unknown = json.loads(text)
    unknown["strips"][1]["path"]["steps"][0]["slots"]["kept"]["2"]["sparkle"] = 1
    assert "slots.2.sparkle" in read_session(json.dumps(unknown), "S")[1][0]


@settings(max_examples=25, deadline=None)
@given(any_session(), any_session(), st.sampled_from(("step", "strip")), st.lists(st.integers(1, 2), min_size=1, max_size=8))
def test_switching_back_and_forth_is_the_first_render_to_the_bit(one, other, of, switches):
    """Random paths, splits and keys: whatever the order of switches, a slot sounds as it did when it was stored."""
    first, second = (next(strip for strip in session.strips if strip.id == "a") for session in (one, other))
    name = "a" if of == "strip" else first.path.steps[0].id
    session = edit(one, op="store_slot", of=of, id=name, slot=1)
    if of == "strip":
        session = edit(session, op="set_path", strip_id="a", steps=[step.model_dump() for step in second.path.steps])
    else:
        session = edit(session, op="set", values=[{"of": "step", "id": name, "name": "bypass", "value": True}])
    session = edit(session, op="store_slot", of=of, id=name, slot=2)
    sounds = {2: render(session), 1: render(one)}
    for number, slot in enumerate(switches):
        session = edit(session, op="switch_slot", of=of, id=name, slot=slot, seed=f"q{number}")
        np.testing.assert_array_equal(render(session), sounds[slot])
    # A structural edit elsewhere on the strip breaks no slot.
    if of == "step":
        session = edit(session, op="add_step", strip_id="a", step={"id": "late", "kind": "trim", "settings": {}})
        session = edit(session, op="switch_slot", of=of, id=name, slot=1, seed="z")
        np.testing.assert_array_equal(render(session), sounds[1])
    assert isinstance(session.strip("a").path, Path)
