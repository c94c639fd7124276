"""Levers: what they make of their settings, learning both ends, loops, and what stays when something is taken away."""

import pytest

from saltanvil.session.address import Address, Moved, value
from saltanvil.session.apply import apply
from saltanvil.session.automation import Automation
from saltanvil.session.document.automation import Lever, LeverTarget
from saltanvil.session.document.session import Session
from saltanvil.session.edits.base import EditRefused
from saltanvil.session.edits.levers import AddLever, LearnLever, RemoveLever, SetLever
from saltanvil.session.edits.slots import StoreSlot, SwitchSlot
from saltanvil.session.edits.steps import MoveStep, RemoveStep
from saltanvil.session.edits.values import Set
from saltanvil.session.format import read_session, written
from saltanvil.session.settings import resolve
from saltanvil.session.starts import PATH_STARTS
from saltanvil.studies.moving import moving_values
from tests.edits import undone

THRESHOLD = Address(of="step", id="c", name="threshold_db")
ATTACK = Address(of="step", id="c", name="attack_ms")


def session():
    return Session.model_validate({
        "name": "S",
        "strips": [
            {"id": "main", "name": "Main", "kind": "main", "output": None},
            {"id": "a", "name": "A", "kind": "track", "path": {"steps": [
                {"id": "c", "kind": "compressor", "settings": {"threshold_db": -10.0, "attack_ms": 5.0}},
                {"id": "s", "kind": "saturator"},
            ]}},
            {"id": "b", "name": "B", "kind": "track"},
        ],
    })  # fmt: skip


def target(address, by, **more):
    return LeverTarget(**address.model_dump(), by=by, **more)


def with_lever(*targets, strip_id="a", position=0.0, name="More"):
    lever = Lever(id=name.lower(), name=name, value=position, targets=list(targets))
    return apply(session(), AddLever(strip_id=strip_id, lever=lever))


def at(changed, position, lever="more"):
    return apply(changed, Set(values=[Moved(of="lever", id=lever, name="value", value=position)]))


def test_a_lever_adds_decibels_and_multiplies_times_and_stops_at_the_limits():
    made = with_lever(target(THRESHOLD, -20.0), target(ATTACK, 4.0))
    for position, threshold, attack in ((0.0, -10.0, 5.0), (0.5, -20.0, 10.0), (1.0, -30.0, 20.0)):
        held = resolve(at(made, position), made.step("c").step)
        assert (held.threshold_db, held.attack_ms) == (pytest.approx(threshold), pytest.approx(attack))
    far = at(with_lever(target(THRESHOLD, -200.0)), 1.0)
    assert resolve(far, far.step("c").step).threshold_db == -60.0
    bent = at(with_lever(target(THRESHOLD, -20.0, bend=0.5)), 0.5)
    assert resolve(bent, bent.step("c").step).threshold_db < -26.0


def test_the_setting_moves_its_base_and_the_lever_keeps_its_share():
    made = at(with_lever(target(THRESHOLD, -20.0)), 0.5)
    moved = apply(made, Set(values=[Moved(**THRESHOLD.model_dump(), value=-4.0)]))
    assert resolve(moved, moved.step("c").step).threshold_db == -14.0
    told = next(one for one in moving_values(moved) if one.name == "threshold_db")
    assert (told.base, told.still, told.levers[0].low, told.levers[0].high) == (-4.0, -14.0, -4.0, -24.0)


def test_both_ends_are_learnt_and_the_sound_stays():
    made = with_lever()
    moved = apply(made, Set(values=[
        Moved(**THRESHOLD.model_dump(), value=-34.0), Moved(**ATTACK.model_dump(), value=20.0),
    ]))  # fmt: skip
    drive = Address(of="step", id="s", name="drive_db")
    first = [Moved(**one.model_dump(), value=value(made, one)) for one in (THRESHOLD, ATTACK, drive)]
    learnt = apply(moved, LearnLever(lever_id="more", first=first))
    assert resolve(learnt, learnt.step("c").step) == resolve(moved, moved.step("c").step)
    assert learnt.step("c").step.settings.threshold_db == -10.0
    assert [(t.name, t.by) for t in learnt.lever("more")[1].targets] == [("threshold_db", -24.0), ("attack_ms", 4.0)]
    low = at(learnt, 0.0)
    assert resolve(low, low.step("c").step) == resolve(made, made.step("c").step)
    assert undone(moved, learnt) == moved
    with pytest.raises(EditRefused, match="nothing was moved"):
        apply(made, LearnLever(lever_id="more", first=first))


def test_levers_that_move_each_other_in_a_circle_are_refused_with_their_names():
    first = with_lever(name="One")
    second = apply(first, AddLever(strip_id="a", lever=Lever(
        id="two", name="Two", targets=[LeverTarget(of="lever", id="one", name="value", by=0.5)],
    )))  # fmt: skip
    with pytest.raises(EditRefused, match="loop of levers: One moves Two moves One"):
        apply(second, SetLever(lever_id="one", moves=[LeverTarget(of="lever", id="two", name="value", by=0.5)]))
    with pytest.raises(EditRefused, match="loop of levers: One moves One"):
        apply(first, SetLever(lever_id="one", moves=[LeverTarget(of="lever", id="one", name="value", by=0.5)]))


@pytest.mark.parametrize(
    ("moves", "words"),
    [
        ([LeverTarget(of="step", id="c", name="lookahead_ms", by=1.0)], "'More' cannot move it: Lookahead changes the latency"),
        ([LeverTarget(of="strip", id="b", name="level_db", by=1.0)], "'More' of 'A' moves what is on that strip"),
        ([LeverTarget(of="strip", id="a", name="mute", by=1.0)], "cannot move a switch"),
        ([LeverTarget(of="step", id="c", name="attack_ms", by=-1.0)], "by a factor, which is above 0"),
        ([target(THRESHOLD, 1.0), target(THRESHOLD, 2.0)], "moves a setting twice"),
    ],
)
def test_what_a_lever_cannot_move_is_refused_with_the_reason(moves, words):
    with pytest.raises(EditRefused, match=words):
        apply(with_lever(), SetLever(lever_id="more", moves=moves))


def test_what_is_gone_is_taken_from_the_lever_and_comes_back():
    made = with_lever(target(THRESHOLD, -20.0), LeverTarget(of="step", id="s", name="drive_db", by=3.0))
    gone = apply(made, RemoveStep(step_id="c"))
    assert [t.id for t in gone.lever("more")[1].targets] == ["s"]
    assert undone(made, gone) == made
    away = apply(made, RemoveLever(lever_id="more"))
    assert resolve(away, away.step("c").step).threshold_db == -10.0 and undone(made, away) == made


def test_slots_files_and_the_session_hold_levers():
    made = at(with_lever(target(THRESHOLD, -20.0)), 1.0)
    assert read_session(written(made), "S") == (made, [])
    stored = apply(made, StoreSlot(of="strip", id="a", slot=1))
    stored = apply(stored, StoreSlot(of="strip", id="a", slot=2))
    away = apply(stored, RemoveLever(lever_id="more"))
    again = apply(away, SwitchSlot(of="strip", id="a", slot=1, seed="x"))
    assert again.lever("more")[1].targets == made.lever("more")[1].targets
    shared = with_lever(LeverTarget(of="strip", id="b", name="level_db", by=-6.0), strip_id=None, position=1.0)
    assert Automation(shared).still(Address(of="strip", id="b", name="level_db")) == -6.0


def test_ready_made_paths_bring_levers_over_their_own_steps():
    levers = {start.name: start.path.levers for start in PATH_STARTS if start.path.levers}
    assert set(levers) == {"more drum room", "voice forward"}
    for start in PATH_STARTS:
        ids = set(start.path.ids())
        assert all(moved.id in ids for lever in start.path.levers for moved in lever.targets)


def test_a_step_that_moves_to_another_strip_leaves_the_lever_behind():
    made = with_lever(target(THRESHOLD, -20.0), LeverTarget(of="step", id="s", name="drive_db", by=3.0))
    moved = apply(made, MoveStep(step_id="c", strip_id="b", index=0))
    assert [one.id for one in moved.lever("more")[1].targets] == ["s"]
    assert undone(made, moved) == made
