"""What is done on several strips at once, and linked steps, on documents drawn at random; one undo takes all of it back."""

import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from saltanvil.processors import processor_named
from saltanvil.processors.descriptor import descriptors_of
from saltanvil.session.apply import EDIT, apply
from saltanvil.session.counterparts import counterpart
from saltanvil.session.document.session import Session
from saltanvil.session.edits.base import EditRefused
from saltanvil.session.validate import checked

KINDS = ("compressor", "gate", "saturator")
SETTING = {"compressor": "threshold_db", "gate": "threshold_db", "saturator": "drive_db"}


def step(kind, name, **settings):
    return {"kind": kind, "id": name, "settings": settings}


def session_of(paths, **more):
    strips = [{"id": "main", "name": "Main", "kind": "main", "output": None}]
    strips += [{"id": name, "name": name, "kind": "track", "path": {"steps": steps}} for name, steps in paths.items()]
    return checked(Session.model_validate({"name": "S", "strips": strips, **more}))


def drawn(rng, name):
    steps = []
    for number in range(rng.randrange(6)):
        kind = rng.choice(KINDS)
        described = descriptors_of(processor_named(kind).settings_model)[SETTING[kind]]
        steps.append(
            step(kind, f"{name}{number}", **{SETTING[kind]: round(rng.uniform(described.minimum, described.maximum), 1)})
        )
    return steps


def kinds(session, name):
    return [one.kind for one in session.strip(name).path.steps]


def edit(op, **fields):
    return EDIT.validate_python({"op": op, **fields})


@given(st.integers(0, 10**6))
def test_what_stands_for_a_step_is_the_same_seen_from_either_side(seed):
    rng = random.Random(seed)
    session = session_of({name: drawn(rng, name) for name in "ab"})
    a, b = session.strip("a").path, session.strip("b").path
    for one in a.steps:
        twin = counterpart(a, b, one.id)
        assert twin is None or (twin.kind == one.kind and counterpart(b, a, twin.id) is one)
    assert sum(counterpart(a, b, one.id) is not None for one in a.steps) == sum(
        min(kinds(session, "a").count(kind), kinds(session, "b").count(kind)) for kind in KINDS
    )


@given(st.integers(0, 10**6))
def test_a_moved_setting_moves_by_as_much_on_all_and_stops_where_the_first_comes_to_its_limit(seed):
    rng = random.Random(seed)
    names = "abcd"
    session = session_of({name: drawn(rng, name) for name in names})
    steps = session.strip("a").path.steps
    if not steps:
        return
    lead = rng.choice(steps)
    name = SETTING[lead.kind]
    described = descriptors_of(processor_named(lead.kind).settings_model)[name]
    value = round(rng.uniform(described.minimum, described.maximum), 1)
    moved = [{"of": "step", "id": lead.id, "name": name, "value": value}]
    after = apply(session, edit("set", values=moved, strips=["b", "c", "d"]))
    all_of = [lead.id, *(t.id for o in "bcd" if (t := counterpart(session.strip("a").path, session.strip(o).path, lead.id)))]
    was = [getattr(session.step(one).step.settings, name) for one in all_of]
    now = [getattr(after.step(one).step.settings, name) for one in all_of]
    moves = [b - a for a, b in zip(was, now, strict=True)]
    wanted = value - was[0]
    reach = min((described.maximum - one if wanted > 0 else one - described.minimum) for one in was)
    assert max(moves) - min(moves) < 1e-6 and moves[0] == pytest.approx(
        min(abs(wanted), reach) * (1 if wanted > 0 else -1), abs=1e-4
    )
    others = {one.id for strip in session.strips for one in strip.path.walk()} - {*all_of}
    assert all(after.step(one).step == session.step(one).step for one in others)
    same = apply(session, edit("set", values=moved, strips=["b", "c", "d"], same=True))
    assert {getattr(same.step(one).step.settings, name) for one in all_of} == {value}


@given(st.integers(0, 10**6))
def test_a_chain_pasted_on_all_stands_together_in_its_order_on_each(seed):
    rng = random.Random(seed)
    session = session_of({name: drawn(rng, name) for name in "abc"})
    chain = [step(rng.choice(KINDS), f"new{n}") for n in range(rng.randrange(1, 4))]
    at = rng.randrange(len(session.strip("a").path.steps) + 1)
    adds = [{"op": "add_step", "strip_id": "a", "index": at + n, "step": one} for n, one in enumerate(chain)]
    after = apply(session, edit("on_strips", strip_ids=["b", "c"], edits=adds, seed="seed"))
    for name in "abc":
        before = [one.id for one in session.strip(name).path.steps]
        now = after.strip(name).path.steps
        fresh = [n for n, one in enumerate(now) if one.id not in before]
        assert [now[n].kind for n in fresh] == [one["kind"] for one in chain]
        assert fresh == list(range(fresh[0], fresh[0] + len(chain)))
        assert [one.id for one in now if one.id in before] == before
        behind = session.strip("a").path.steps[at - 1] if at else None
        twin = behind and counterpart(session.strip("a").path, session.strip(name).path, behind.id)
        if name != "a" and twin:
            assert fresh[0] == before.index(twin.id) + 1


def test_removing_and_moving_reach_what_stands_for_it_and_leave_other_strips_alone():
    paths = {
        "a": [step("gate", "a0"), step("compressor", "a1"), step("saturator", "a2")],
        "b": [step("compressor", "b0"), step("saturator", "b1"), step("compressor", "b2")],
        "c": [step("gate", "c0")],
    }
    session = session_of(paths)
    gone = apply(session, edit("on_strips", strip_ids=["b", "c"], edits=[{"op": "remove_step", "step_id": "a1"}]))
    assert [kinds(gone, name) for name in "abc"] == [["gate", "saturator"], ["saturator", "compressor"], ["gate"]]
    move = {"op": "move_step", "step_id": "a1", "strip_id": "a", "index": 2}
    moved = apply(session, edit("on_strips", strip_ids=["a", "b", "c"], edits=[move]))
    assert [one.id for one in moved.strip("a").path.steps] == ["a0", "a2", "a1"]
    assert [one.id for one in moved.strip("b").path.steps] == ["b1", "b0", "b2"]
    assert moved.strip("c") is session.strip("c")
    with pytest.raises(EditRefused, match="goes alone"):
        apply(session, edit("on_strips", strip_ids=["b"], edits=[move | {"strip_id": "c"}]))


def test_bands_of_splits_on_several_strips_are_worked_in_together():
    def split(name):
        lanes = [{"id": f"{name}{n}", "name": f"L{n}", "path": {"steps": [step("compressor", f"{name}c{n}")]}} for n in range(2)]
        return {"kind": "split", "id": name, "settings": {"by": "bands", "dividers_hz": [200.0]}, "lanes": lanes}

    session = session_of({"a": [split("x")], "b": [step("gate", "g"), split("y")]})
    values = [{"of": "step", "id": "xc1", "name": "ratio", "value": 8.0}]
    after = apply(session, edit("set", values=values, strips=["b"], same=True))
    assert [after.step(one).step.settings.ratio for one in ("xc0", "xc1", "yc0", "yc1")] == [4.0, 8.0, 4.0, 8.0]
    add = {"op": "add_step", "strip_id": "a", "lane_id": "x0", "index": 0, "step": step("saturator", "s")}
    after = apply(session, edit("on_strips", strip_ids=["b"], edits=[add], seed="n"))
    assert [one.kind for one in after.lane("y0")[2].path.steps] == ["saturator", "compressor"]
    values = [{"of": "lane", "id": "x1", "name": "level_db", "value": -3.0}]
    after = apply(session, edit("set", values=values, strips=["b"]))
    assert after.lane("y1")[2].level_db == -3.0


def test_linked_steps_move_together_by_their_rules_until_they_are_unlinked():
    paths = {
        name: [step("compressor", name + "0", threshold_db=level)] for name, level in zip("abc", (-30, -20, -10), strict=True)
    }
    session = session_of(paths)
    session = apply(session, edit("link_steps", step_ids=["a0"], strips=["b", "c"], seed="link"))

    def thresholds(of):
        return [of.step(name + "0").step.settings.threshold_db for name in "abc"]

    def put(of, name, value, step_id="b0"):
        return apply(of, edit("set", values=[{"of": "step", "id": step_id, "name": name, "value": value}]))

    assert thresholds(put(session, "threshold_db", -25.0)) == [-35, -25, -15]
    assert thresholds(put(session, "threshold_db", 0.0)) == [-20, -10, 0]  # all stop with the first
    assert {put(session, "bypass", True).step(name + "0").step.bypass for name in "abc"} == {True}
    # All values of a preset are the step's own, also where two of one edit are linked.
    both = [{"of": "step", "id": one, "name": "threshold_db", "value": value} for one, value in (("a0", -25.0), ("b0", -40.0))]
    assert thresholds(apply(session, edit("set", values=both)))[:2] == [-25, -40]
    equal = apply(session, edit("link_steps", step_ids=["a0", "b0", "c0"], relative=False, settings=["ratio"]))
    assert thresholds(put(equal, "threshold_db", -25.0)) == [-30, -25, -10]
    assert {put(equal, "ratio", 7.0).step(name + "0").step.settings.ratio for name in "abc"} == {7.0}
    left = apply(session, edit("unlink_steps", step_ids=["a0"]))
    assert thresholds(put(left, "threshold_db", -25.0)) == [-30, -25, -15]
    assert not apply(left, edit("remove_step", step_id="c0")).links  # one step is no link
    with pytest.raises(EditRefused, match="one kind"):
        mixed = session_of({"a": [step("compressor", "x")], "b": [step("gate", "y")]})
        apply(mixed, edit("link_steps", step_ids=["x", "y"]))
    with pytest.raises(EditRefused, match="no setting 'drive'"):
        apply(session, edit("link_steps", step_ids=["a0", "b0"], settings=["drive"]))


def test_a_step_in_a_slot_stays_linked():
    session = session_of({name: [step("compressor", name + "0")] for name in "ab"})
    session = apply(session, edit("link_steps", step_ids=["a0", "b0"]))
    session = apply(session, edit("store_slot", of="strip", id="a", slot=1))
    session = apply(session, edit("store_slot", of="strip", id="a", slot=2))
    session = apply(session, edit("remove_step", step_id="a0"))
    assert len(session.links) == 1  # it comes back with slot 1


def test_steps_that_were_added_together_stand_for_each_other_whatever_stands_before_them():
    session = session_of({"a": [step("compressor", "a0"), step("compressor", "a1")], "b": [step("compressor", "b0")], "c": []})
    add = {"op": "add_step", "strip_id": "a", "index": 2, "step": step("compressor", "new")}
    session = apply(session, edit("on_strips", strip_ids=["b", "c"], edits=[add], seed="seed"))
    a, b, c = (session.strip(name).path for name in "abc")
    assert [one.id for one in b.steps] == ["b0", "new_0"] and [one.id for one in c.steps] == ["new_1"]
    assert counterpart(a, b, "new").id == "new_0" and counterpart(b, c, "new_0").id == "new_1"
    assert counterpart(c, a, "new_1").id == "new"
    assert counterpart(a, b, "a0").id == "b0" and counterpart(a, b, "a1") is None  # the others by their places
    linked = apply(session, edit("link_steps", step_ids=["new"], strips=["b", "c"]))
    assert linked.links[0].step_ids == ["new", "new_0", "new_1"]


def test_what_a_study_found_on_one_strip_is_no_other_strips():
    session = session_of({name: [step("tamer", name + "0")] for name in "ab"})
    session = apply(session, edit("link_steps", step_ids=["a0", "b0"]))
    found = [{"frequency_hz": 900.0, "width_oct": 0.2, "height_db": 6.0}]
    values = [
        {"of": "step", "id": "a0", "name": name, "value": value} for name, value in (("resonances", found), ("amount", 0.2))
    ]
    after = apply(session, edit("set", values=values, strips=["b"]))
    assert after.step("a0").step.settings.resonances and not after.step("b0").step.settings.resonances
    assert after.step("b0").step.settings.amount == pytest.approx(0.2)
