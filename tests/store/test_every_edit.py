"""Every edit that is taken can be undone, redone and reached, to the byte, whatever it names."""

import json
import random
from concurrent.futures import ThreadPoolExecutor

import pytest
from pydantic import ValidationError

from saltanvil.session.apply import EDIT, apply
from saltanvil.session.changes import difference
from saltanvil.session.edits.base import EditRefused
from saltanvil.session.format import FORMAT, read_session
from saltanvil.store.database import Database
from saltanvil.store.sessions import SessionStore
from tests.edits import undone
from tests.schema_edits import OPS, World, full_session

WORDS = (None, None, "drag", "keys")


@pytest.fixture(scope="module")
def database(tmp_path_factory):
    with Database(tmp_path_factory.mktemp("edits") / "db") as database:
        yield database


def taken(rng, session, op=None):
    """An edit that would be taken, or None if none was drawn in some attempts."""
    for _ in range(60):
        try:
            edit = EDIT.validate_python(World(session, rng).edit(op))
            apply(session, edit)
            return edit
        except (ValidationError, EditRefused):
            continue
    return None


@pytest.mark.parametrize("op", OPS)
def test_an_edit_of_each_kind_is_undone_and_redone_to_the_byte(op):
    """Nothing is set up for an edit to be taken but what `full_session` holds."""
    kinds = 0
    for seed in range(12):
        rng = random.Random(f"{op}{seed}")
        session = full_session(recorded=op != "set_rate")
        for _ in range(rng.randrange(3)):  # what came before
            edit = taken(rng, session)
            session = session if edit is None else apply(session, edit)
        edit = taken(rng, session, op)
        if edit is None:
            continue
        kinds += 1
        changed = apply(session, edit)
        assert undone(session, changed).model_dump_json() == session.model_dump_json()
        again = EDIT.validate_json(edit.model_dump_json())
        assert apply(session, again).model_dump_json() == changed.model_dump_json()
    assert kinds >= (3 if op != "set_rate" else 1), f"{op} was hardly ever taken"


@pytest.mark.parametrize("seed", range(16))
def test_any_history_is_reachable_at_any_place_to_the_byte(database, seed):
    """Two tabs edit, drag, undo, redo and go to places; then every place is gone to, by another process."""
    rng = random.Random(seed)
    store = SessionStore(database)
    number = store.create(full_session())
    states = [store.version(number).session.model_dump_json()]
    place = 0
    for _ in range(24):
        session = store.version(number).session
        what = rng.choice(["edit"] * 6 + ["undo", "redo", "go"])
        if what == "edit":
            edit = taken(rng, session)
            if edit is None:
                continue
            before = store.version(number)
            version = store.edit(number, edit, rng.choice(WORDS))
            if version is before:  # nothing changed
                continue
            at = next((entry.position for entry in store.history(number, 1)), 0)
            states = [*states[:at], version.session.model_dump_json()]
            place = at
            assert not version.can_redo
            continue
        to = {"undo": place - 1, "redo": place + 1, "go": rng.randrange(len(states))}[what]
        if not 0 <= to < len(states):
            continue
        version = store.undo(number) if what == "undo" else store.redo(number) if what == "redo" else store.go_to(number, to)
        place = to
        assert version.session.model_dump_json() == states[place]
        assert (version.can_undo, version.can_redo) == (place > 0, place < len(states) - 1)
    fresh = SessionStore(database)
    for to in [*rng.sample(range(len(states)), len(states)), 0, len(states) - 1]:
        assert fresh.session_at(number, to).model_dump_json() == states[to]
        assert fresh.go_to(number, to).session.model_dump_json() == states[to]


def test_what_was_refused_an_undo_before(database):
    """Content that names what has gone, or what belongs to another strip; each locked the history behind it."""
    gone = {"of": "step", "id": "gone", "name": "drive_db", "by": 3.0}
    elsewhere = {"of": "step", "id": "sat", "name": "drive_db", "by": 3.0}
    keyed = {"id": "new", "kind": "compressor", "key": {"step_id": "gone"}}
    for data in (
        {"op": "add_lever", "lever": {"id": "x", "name": "X", "targets": [gone, elsewhere]}},
        {"op": "add_strip", "strip": {"id": "x", "name": "X", "kind": "bus", "path": {"steps": [keyed]}}},
        {"op": "add_strip", "strip": {"id": "x", "name": "X", "kind": "bus", "path": {"levers": [
            {"id": "y", "name": "Y", "targets": [elsewhere]}]}}},
        {"op": "set_version", "version": {"of": "step", "id": "sat", "step": {**keyed, "id": "sat"}}},
        {"op": "add_step", "strip_id": "kick", "step": keyed},
        {"op": "set_sections", "sections": [{"id": n, "name": n, "start_s": 1, "end_s": 2} for n in "ab"]},
    ):  # fmt: skip
        store = SessionStore(database)
        number = store.create(full_session())
        before = store.version(number).session.model_dump_json()
        after = store.edit(number, EDIT.validate_python(data)).session.model_dump_json()
        assert store.undo(number).session.model_dump_json() == before
        assert store.redo(number).session.model_dump_json() == after
    with pytest.raises(EditRefused, match="moves what is on that strip"):
        first = [{"of": "strip", "id": "kick", "name": "level_db", "value": -6.0}]
        store.edit(number, EDIT.validate_python({"op": "learn_lever", "lever_id": "own", "first": first}))


def test_changes_of_an_earlier_format_are_worked_out_anew(database, monkeypatch):
    """As if the settings of the present format had had other names before."""
    store, rng = SessionStore(database), random.Random(3)
    number = store.create(full_session())
    states = [store.version(number).session.model_dump_json()]
    while len(states) < 8:
        edit = taken(rng, store.version(number).session)
        if edit is not None and apply(store.version(number).session, edit) != store.version(number).session:
            states.append(store.edit(number, edit).session.model_dump_json())
    store.go_to(number, 4)
    with database.transaction() as connection:
        for table, column in (("sessions", "document"), ("edits", "change"), ("edits", "edit")):
            key = "id" if table == "sessions" else "session_id"
            rows = connection.execute(f"SELECT rowid, {column} FROM {table} WHERE {key} = ?", (number,)).fetchall()  # noqa: S608
            for row in rows:
                text = row[1].replace('"threshold_db"', '"old_db"').replace(f'"format":{FORMAT}', f'"format":{FORMAT - 1}')
                connection.execute(f"UPDATE {table} SET {column} = ? WHERE rowid = ?", (text, row[0]))  # noqa: S608

    def reading(text, name):
        return read_session(text.replace('"old_db"', '"threshold_db"'), name)

    monkeypatch.setattr("saltanvil.store.sessions.read_session", reading)
    monkeypatch.setattr("saltanvil.store.history.read_session", reading)
    fresh = SessionStore(database)
    for place in (4, 0, 7, 2, 5):
        assert fresh.go_to(number, place).session.model_dump_json() == states[place]
    rows = database.connection().execute("SELECT change FROM edits WHERE session_id = ?", (number,))
    changes = [row[0] for row in rows]
    assert {json.loads(text)["format"] for text in changes} == {FORMAT} and not any('"old_db"' in text for text in changes)


def test_a_change_holds_no_more_than_what_changed():
    session = full_session()
    edit = EDIT.validate_python({"op": "set", "values": [{"of": "step", "id": "sat", "name": "drive_db", "value": 3.0}]})
    assert len(json.dumps(difference(session, apply(session, edit)))) < 200
    many = [{"id": f"q{n}", "at_s": float(n), "value": -20.0} for n in range(2000)]
    drawn = EDIT.validate_python(
        {"op": "set_envelope", "of": "step", "id": "moved", "name": "threshold_db", "envelope": {"points": many}}
    )
    session = apply(session, drawn)
    point = {"id": "z", "at_s": 77.5, "value": -3.0}
    change = {"op": "change_envelope", "of": "step", "id": "moved", "name": "threshold_db", "put_points": [point]}
    assert len(json.dumps(difference(session, apply(session, EDIT.validate_python(change))))) < 400


def test_four_clients_that_go_through_a_history_at_once_are_never_refused(database):
    """Each going is one step under the session's lock; one by one, others came between and were refused."""
    store, rng = SessionStore(database), random.Random(5)
    number = store.create(full_session())
    states = [store.version(number).session.model_dump_json()]
    while len(states) < 40:
        edit = taken(rng, store.version(number).session)
        if edit is not None and apply(store.version(number).session, edit) != store.version(number).session:
            states.append(store.edit(number, edit).session.model_dump_json())

    def walk(seed):
        places = random.Random(seed)
        for _ in range(25):
            to = places.randrange(len(states))
            assert store.go_to(number, to).session.model_dump_json() == states[to]

    with ThreadPoolExecutor(4) as pool:
        list(pool.map(walk, range(4)))
    revision = store.version(number).revision
    assert revision <= len(states) - 1 + 100  # each going is written once
