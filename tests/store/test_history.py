"""The history: any edits, under any gesture words, from two tabs, undone and redone, return to the bit."""

import json

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from saltanvil.session.apply import EDIT, apply
from saltanvil.session.document.path import Match, Stretch
from saltanvil.session.document.session import Session
from saltanvil.session.edits.base import EditRefused
from saltanvil.session.edits.values import Set
from saltanvil.session.format import FORMAT
from saltanvil.session.validate import checked
from saltanvil.store.database import Database
from saltanvil.store.sessions import SessionStore
from tests.edits import moved, set_step, set_strip


def start():
    """Two tracks, a bus, a send, a key, and a split with three linked lanes."""

    def compressor(name, **more):
        return {"kind": "compressor", "id": name, "settings": {"threshold_db": -20.0, "ratio": 4.0}, **more}

    lanes = [{"id": f"l{n}", "name": f"L{n}", "linked": n != 3, "path": {"steps": [compressor(f"c{n}")]}} for n in range(1, 4)]
    split = {"kind": "split", "id": "bands", "settings": {"by": "bands", "dividers_hz": [200.0, 2000.0]}, "lanes": lanes}
    data = {
        "name": "S",
        "sections": [{"id": "verse", "name": "Verse", "start_s": 0.0, "end_s": 1.0}],
        "strips": [
            {"id": "main", "name": "Main", "kind": "main", "output": None},
            {"id": "bus", "name": "Bus", "kind": "bus"},
            {"id": "kick", "name": "Kick", "kind": "track", "sends": [{"id": "s1", "target": "bus"}], "path": {"steps": [split]}},
            {"id": "bass", "name": "Bass", "kind": "track",
             "path": {"steps": [compressor("c4", key={"strip_id": "kick"}), {"kind": "saturator", "id": "sat"}]}},
        ],
    }  # fmt: skip
    return checked(Session.model_validate(data))


VALUES = [
    ("step", "c1", "threshold_db", st.floats(-60, 0)), ("step", "c1", "ratio", st.floats(1, 50)),
    ("step", "c2", "threshold_db", st.floats(-60, 0)), ("step", "c3", "attack_ms", st.floats(0.05, 250)),
    ("step", "c4", "bypass", st.booleans()), ("step", "c4", "detector", st.sampled_from(["peak", "rms"])),
    ("step", "bands", "dividers_hz.0", st.floats(50, 1000)), ("step", "sat", "drive_db", st.floats(-12, 36)),
    ("lane", "l1", "level_db", st.floats(-90, 24)), ("lane", "l2", "mute", st.booleans()),
    ("lane", "l3", "linked", st.booleans()),
    ("strip", "kick", "level_db", st.floats(-90, 12)), ("strip", "bass", "pan", st.floats(-1, 1)),
    ("send", "s1", "level_db", st.floats(-90, 12)), ("key", "c4", "trim_db", st.floats(-60, 60)),
    ("session", None, "tempo_bpm", st.floats(20, 300)),
]  # fmt: skip
STRUCTURAL = [
    {"op": "remove_step", "step_id": "c4"}, {"op": "remove_step", "step_id": "c1"}, {"op": "remove_strip", "strip_id": "kick"},
    {"op": "move_step", "step_id": "sat", "strip_id": "bass", "index": 0}, {"op": "set_key", "step_id": "c4", "key": None},
    {"op": "remove_divider", "step_id": "bands", "index": 0}, {"op": "set_sections", "sections": []},
    {"op": "remove_send", "send_id": "s1"}, {"op": "remove_split", "step_id": "bands"},
    {"op": "set_match_over", "step_id": "sat", "over": {"section_id": "verse"}},
    {"op": "set_output", "strip_id": "bass", "output": "bus"},
]  # fmt: skip


@st.composite
def acts(draw):
    """An edit with a word, from one of two tabs; or an undo or redo."""
    kind = draw(st.sampled_from(["value", "value", "value", "value", "two values", "structure", "undo", "redo"]))
    if kind in ("undo", "redo"):
        return kind, None, None
    # Both tabs may use the same few words, as a careless page would.
    word = draw(st.sampled_from([None, "drag", "keys 1", "keys 2"]))
    if kind == "structure":
        return "edit", draw(st.sampled_from(STRUCTURAL)), word
    values = []
    for _ in range(2 if kind == "two values" else 1):
        of, name, setting, numbers = draw(st.sampled_from(VALUES))
        values.append({"of": of, "id": name, "name": setting, "value": draw(numbers)})
    return "edit", {"op": "set", "values": values, "alone": draw(st.booleans())}, word


@pytest.fixture(scope="module")
def database(tmp_path_factory):
    return Database(tmp_path_factory.mktemp("history") / "db")


@settings(max_examples=120, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow])
@given(done=st.lists(acts(), min_size=1, max_size=14))
def test_any_history_returns_to_the_bit(database, done):
    store = SessionStore(database)
    number = store.create(start())
    # What the history must be, worked out beside it: the state at each step, and the gesture that could continue it.
    states, place, gestures = [store.version(number).session.model_dump_json()], 0, [None]
    for what, data, word in done:
        version = store.version(number)
        if what != "edit":
            if (version.can_undo if what == "undo" else version.can_redo) is False:
                continue
            version = store.undo(number) if what == "undo" else store.redo(number)
            place += 1 if what == "redo" else -1
            assert version.session.model_dump_json() == states[place]
            gestures = [None] * len(states)
            continue
        edit = EDIT.validate_python(data)
        target = (word, edit.targets) if isinstance(edit, Set) and word is not None else None
        goes_on = target is not None and target == gestures[place]
        base = Session.model_validate_json(states[place - 1 if goes_on else place])
        try:
            expected = apply(base, edit)
        except EditRefused:
            with pytest.raises(EditRefused):
                store.edit(number, edit, word)
            assert store.version(number).session.model_dump_json() == states[place]
            continue
        before, version = version, store.edit(number, edit, word)
        assert version.session == expected
        if expected == base:  # nothing changed; or a drag came back to where it began, and is none
            place -= goes_on
            assert goes_on or version is before
            if goes_on:
                states, gestures = states[: place + 1], gestures[: place + 1]
            continue
        assert not version.can_redo
        place = place if goes_on else place + 1
        states, gestures = [*states[:place], version.session.model_dump_json()], [*gestures[:place], target]
    fresh = SessionStore(database)  # also after a restart
    for at in range(place - 1, -1, -1):
        assert fresh.undo(number).session.model_dump_json() == states[at]
    assert not fresh.version(number).can_undo
    for state in states[1:]:
        assert fresh.redo(number).session.model_dump_json() == state
    assert not fresh.version(number).can_redo


@pytest.fixture
def store(tmp_path):
    return SessionStore(Database(tmp_path / "db"))


def threshold(version, name):
    return version.session.step(name).step.settings.threshold_db


def test_two_edits_under_one_word_with_other_targets_are_two(store):
    """Arrow keys on two compressors within a second and a half: both come back, and both can be redone."""
    number = store.create(start())
    word = "keys threshold_db 7"
    store.edit(number, set_step("c3", threshold_db=-21.0), word)
    store.edit(number, set_step("c3", threshold_db=-22.0), word)
    store.edit(number, set_step("c4", threshold_db=-30.0), word)
    store.edit(number, set_step("c4", threshold_db=-31.0), word)
    store.edit(number, set_step("c4", ratio=8.0), word)
    assert threshold(store.undo(number), "c4") == -31.0 and store.version(number).session.step("c4").step.settings.ratio == 4.0
    assert threshold(store.undo(number), "c4") == -20.0 and threshold(store.version(number), "c3") == -22.0
    assert threshold(store.undo(number), "c3") == -20.0 and not store.version(number).can_undo
    for _ in range(3):
        version = store.redo(number)
    assert (threshold(version, "c3"), threshold(version, "c4")) == (-22.0, -31.0) and not version.can_redo


def test_a_gesture_does_not_go_on_past_an_edit_of_another_tab(store):
    number = store.create(start())
    store.edit(number, set_strip("kick", level_db=-1.0), "a")
    store.edit(number, set_strip("bass", level_db=-2.0), "b")
    store.edit(number, set_strip("kick", level_db=-3.0), "a")
    assert store.undo(number).session.strip("kick").level_db == -1.0
    assert store.undo(number).session.strip("bass").level_db == 0.0
    assert store.undo(number).session.strip("kick").level_db == 0.0


@pytest.mark.parametrize("data", [{"op": "remove_step", "step_id": "c4"}, {"op": "remove_send", "send_id": "s1"}])
def test_what_is_no_plain_value_is_never_part_of_a_gesture(store, data):
    number = store.create(start())
    store.edit(number, EDIT.validate_python(data), "w")
    store.edit(number, set_strip("kick", level_db=-1.0), "w")
    assert store.undo(number).session.strip("kick").level_db == 0.0
    assert store.undo(number).session == start()


def test_linked_lanes_dragged_to_a_limit_and_back_end_where_they_began(store):
    number = store.create(start())
    store.edit(number, set_step("c2", alone=True, threshold_db=-50.0))
    before = store.version(number).session
    for value in (-30.0, -45.0, -60.0, -44.4, -20.000001, -20.0):
        version = store.edit(number, set_step("c1", threshold_db=value), "drag")
        assert threshold(version, "c2") - threshold(version, "c1") == pytest.approx(-30.0, abs=1e-4)
        assert threshold(version, "c3") == -20.0  # not linked
    assert version.session == before
    # Let go at the limit and taken up again: the distance is still there, as all stopped together.
    version = store.edit(number, set_step("c1", threshold_db=-60.0))
    assert (threshold(version, "c1"), threshold(version, "c2")) == (-30.0, -60.0)
    version = store.edit(number, set_step("c1", threshold_db=-20.0))
    assert (threshold(version, "c1"), threshold(version, "c2")) == (-20.0, -50.0)
    # On a logarithmic scale it is the ratio that stays.
    store.edit(number, set_step("c2", alone=True, attack_ms=40.0))
    version = store.edit(number, set_step("c1", attack_ms=250.0))
    attacks = [version.session.step(name).step.settings.attack_ms for name in ("c1", "c2")]
    assert attacks == [62.5, 250.0]


def test_a_match_belongs_to_the_edit_that_caused_it(store):
    number = store.create(start())
    store.settle(number, {"sat": Match(key="one", over=Stretch(), matched_db=-1.0)})
    at_first = store.version(number).session
    store.edit(number, set_step("sat", drive_db=12.0), "drag")
    store.edit(number, set_step("sat", drive_db=20.0), "drag")
    assert store.version(number).session.step("sat").step.match.key == "one"  # the last one sounds until it is measured
    store.settle(number, {"sat": Match(key="two", over=Stretch(), matched_db=-9.0), "gone": Match()})
    after = store.version(number).session
    assert store.undo(number).session == at_first
    assert store.redo(number).session == after
    fresh = SessionStore(store.database)
    assert fresh.undo(number).session == at_first and fresh.redo(number).session == after
    # Undone before it was measured, and measured when it was redone: kept from then on.
    store = fresh
    store.edit(number, set_step("sat", drive_db=1.0))
    store.undo(number)
    store.redo(number)
    store.settle(number, {"sat": Match(key="three", over=Stretch(), matched_db=0.5)})
    last = store.version(number).session
    assert store.undo(number).session == after and store.redo(number).session == last


def test_a_section_that_goes_takes_the_measuring_over_it_along_and_undo_brings_both_back(store):
    number = store.create(start())
    store.edit(number, EDIT.validate_python({"op": "set_match_over", "step_id": "sat", "over": {"section_id": "verse"}}))
    before = store.version(number).session
    version = store.edit(number, EDIT.validate_python({"op": "set_sections", "sections": []}))
    assert version.session.step("sat").step.match_over.whole
    assert store.undo(number).session == before
    with pytest.raises(EditRefused, match="no such section"):
        store.edit(number, EDIT.validate_python({"op": "set_match_over", "step_id": "sat", "over": {"section_id": "gone"}}))


def test_the_history_is_text_with_its_format(store):
    number = store.create(start())
    store.edit(number, moved("session", None, {"name": "Other"}))
    row = store.database.connection().execute("SELECT edit, change FROM edits").fetchone()
    assert json.loads(row["edit"])["format"] == json.loads(row["change"])["format"] == FORMAT


def test_what_changes_nothing_is_no_edit_and_a_drag_back_to_where_it_began_neither(tmp_path):
    with Database(tmp_path / "s.db") as database:
        store = SessionStore(database)
        number = store.create(start())
        first = store.edit(number, set_strip("kick", level_db=-3.0))
        store.edit(number, set_strip("kick", level_db=-6.0))
        undone = store.undo(number)
        again = store.edit(number, set_strip("kick", level_db=-3.0))
        assert again is undone and again.can_redo and len(store.history(number, 9)) == 2  # what was undone stays reachable
        for level in (-4.0, -9.0, -3.0):
            last = store.edit(number, set_strip("kick", level_db=level), gesture="drag")
        assert last.session == first.session and last.undo == first.undo and last.can_undo
        assert len(store.history(number, 9)) == 1
        # The hand goes on: that is an edit again.
        store.edit(number, set_strip("kick", level_db=-5.0), gesture="drag")
        assert store.undo(number).session == first.session and not store.undo(number).can_undo


DELIVERIES = [{"formats": ["wav16"]}, {"extent": "passage"}, {"tail": False}, {"formats": ["flac24", "mp3-320"]}]


@given(st.lists(st.tuples(st.sampled_from(["sound", "delivery", "undo", "redo"]), st.integers(0, 3)), max_size=16))
@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_the_delivery_and_the_sound_are_undone_apart(tmp_path_factory, moves):
    """Against two plain histories, one of each part: whatever the order, each part is what its own history says."""
    with Database(tmp_path_factory.mktemp("parts") / "s.db") as database:
        store = SessionStore(database)
        number = store.create(start())

        def now(part):
            session = store.version(number).session
            return session.delivery if part == "delivery" else session.strip("kick").level_db

        versions = {part: [now(part)] for part in ("sound", "delivery")}
        at = {"sound": 0, "delivery": 0}
        for what, choice in moves:
            if what in at:
                edit = (
                    set_strip("kick", level_db=-1.0 - choice)
                    if what == "sound"
                    else EDIT.validate_python({"op": "set_delivery", "values": DELIVERIES[choice]})
                )
                before = now(what)
                store.edit(number, edit)
                if now(what) == before:
                    continue
                versions[what] = [*versions[what][: at[what] + 1], now(what)]
                at[what] += 1
                # A new edit drops what could be redone, of either part.
                versions = {part: kept[: at[part] + 1] for part, kept in versions.items()}
            else:
                part, by = ("sound", "delivery")[choice % 2], -1 if what == "undo" else 1
                step = store.undo if by < 0 else store.redo
                if not 0 <= at[part] + by < len(versions[part]):
                    with pytest.raises(EditRefused):
                        step(number, part)
                    continue
                step(number, part)
                at[part] += by
            assert all(now(part) == versions[part][at[part]] for part in at)
        # The whole history still leads to the beginning and back.
        end = store.version(number).session
        count = sum(at.values())
        assert store.go_to(number, 0).session == start() and store.go_to(number, count).session == end
