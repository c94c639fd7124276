"""Edits, undo and media survive restarts, kills and full disks."""

import os
import random
import signal
import sqlite3
import subprocess
import sys
import time

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from saltanvil.session.apply import EDIT, apply
from saltanvil.session.changes import difference
from saltanvil.session.changes import moved as gone_over
from saltanvil.session.document.path import Step
from saltanvil.session.document.session import Session, Strip
from saltanvil.session.edits.base import Batch, EditRefused
from saltanvil.session.edits.sections import SetSections
from saltanvil.session.edits.steps import AddStep, MoveStep, RemoveStep
from saltanvil.session.edits.strips import AddStrip, MoveStrip, RemoveStrip
from saltanvil.store.database import Database, StoreError
from saltanvil.store.media import ImportCancelled, MediaStore
from saltanvil.store.sessions import SessionStore
from tests.edits import set_session, set_step, set_strip
from tests.signals import noise


def base_session():
    session = Session(name="Base")
    for name, kind in (("drums", "bus"), ("kick", "track"), ("snare", "track")):
        session = apply(session, AddStrip(strip=Strip(id=name, name=name, kind=kind)))
    for strip in ("kick", "snare"):
        for number in range(2):
            step = Step.model_validate({"id": f"{strip}{number}", "kind": "compressor", "settings": {}})
            session = apply(session, AddStep(strip_id=strip, step=step))
    return session


def random_edit(rng: random.Random, session: Session):
    strip, steps = rng.choice(session.strips), [s for t in session.strips for s in t.path.steps]
    step = rng.choice(steps) if steps else None
    choices = [
        set_session(tempo_bpm=rng.uniform(60, 180)),
        SetSections(sections=[]),
        AddStrip(strip=Strip(name="new", kind=rng.choice(["track", "bus"])), index=rng.randrange(4)),
        RemoveStrip(strip_id=strip.id),
        set_strip(strip_id=strip.id, level_db=rng.uniform(-20, 6), mute=rng.random() < 0.5),
        MoveStrip(strip_id=strip.id, index=rng.randrange(4), output=rng.choice(["main", "drums", "snare"])),
        AddStep(strip_id=strip.id, step=Step.model_validate({"kind": rng.choice(["trim", "equaliser"]), "settings": {}})),
    ]
    if step:
        choices += [
            RemoveStep(step_id=step.id),
            MoveStep(step_id=step.id, strip_id=strip.id, index=rng.randrange(3)),
            set_step(step_id=step.id, bypass=rng.random() < 0.5),
        ]
    if rng.random() < 0.2:
        return Batch(edits=rng.sample(choices, 2))
    return rng.choice(choices)


@settings(max_examples=40, deadline=None)
@given(st.integers(0, 10_000))
def test_every_edit_can_be_undone(seed):
    rng, session = random.Random(seed), base_session()
    past = []
    for _ in range(12):
        edit = EDIT.validate_json(random_edit(rng, session).model_dump_json())
        old, before = session, session.model_dump_json()
        try:
            session = apply(session, edit)
        except EditRefused as refused:
            assert str(refused) and session.model_dump_json() == before
            continue
        past.append((before, difference(old, session)))
    while past:
        before, change = past.pop()
        session = gone_over(session, [(change, True)])
        assert session.model_dump_json() == before


def test_refusals_name_the_object():
    session = base_session()
    for edit, words in [
        (set_step(step_id="kick0", settings={"ratio": 80}), "ratio"),
        (set_step(step_id="kick0", settings={"loudness": 1}), "loudness"),
        (set_step(step_id="gone", bypass=True), "not there any more"),
        (RemoveStrip(strip_id="main"), "main"),
        (MoveStrip(strip_id="kick", index=0, output="snare"), "snare"),
        (MoveStrip(strip_id="drums", index=0, output="drums"), "loop"),
    ]:
        with pytest.raises(EditRefused, match=words):
            apply(session, edit)


def test_undo_and_redo_without_limit_and_after_a_restart(tmp_path):
    store = SessionStore(Database(tmp_path / "d.db"))
    number = store.create(base_session())
    states = [store.version(number).session]
    for level in range(1, 61):
        states.append(store.edit(number, set_strip(strip_id="kick", level_db=-level)).session)
    store = SessionStore(Database(tmp_path / "d.db"))
    for state in reversed(states[:-1]):
        assert store.undo(number).session == state
    with pytest.raises(EditRefused):
        store.undo(number)
    store = SessionStore(Database(tmp_path / "d.db"))
    for state in states[1:]:
        assert store.redo(number).session == state
    with pytest.raises(EditRefused):
        store.redo(number)
    store.undo(number)
    assert not store.edit(number, set_session(name="Other")).can_redo


def test_a_drag_is_undone_as_one(tmp_path):
    store = SessionStore(Database(tmp_path / "d.db"))
    number = store.create(base_session())
    for threshold in (-20.0, -25.0, -30.0):
        store.edit(number, set_step(step_id="kick0", settings={"threshold_db": threshold}), gesture="drag")
    assert store.undo(number).session == base_session()
    assert store.redo(number).session.strip("kick").path.steps[0].settings.threshold_db == -30.0


def test_sessions_are_listed_duplicated_deleted_and_taken_back(tmp_path):
    store = SessionStore(Database(tmp_path / "d.db"))
    number = store.create(base_session())
    twin = store.duplicate(number)
    store.rename(twin, "Twin")
    store.set_deleted(number, True)
    assert {(row.name, row.deleted) for row in store.listed()} == {("Base", True), ("Twin", False)}
    store.set_deleted(number, False)
    assert store.version(number).session == base_session()
    with pytest.raises(LookupError):
        store.version(99)


def test_media_come_back_exactly_and_converted_once(tmp_path):
    store = MediaStore(Database(tmp_path / "d.db"))
    x = noise(2, 200_001)
    parts = lambda: iter(np.array_split(x, 7, axis=1))  # noqa: E731
    same = store.add("x", "float", 48000, 2, (np.ascontiguousarray(p) for p in parts()), 48000)
    assert np.array_equal(store.at_rate(48000).read(same, 0, 200_001), x)
    inside = store.at_rate(48000).read(same, -100, 300)
    assert not inside[:, :100].any() and np.array_equal(inside[:, 100:], x[:, :200])
    other = store.add("x", "float", 44100, 2, (np.ascontiguousarray(p) for p in parts()), 48000)
    assert np.array_equal(store.at_rate(44100).read(other, 0, 200_001), x)
    assert store.at_rate(48000).frames(other) == pytest.approx(200_001 * 48000 / 44100, abs=2)
    fine, coarse = store.pyramid(same, 256), store.pyramid(same, 4096)
    assert fine[1].max() == coarse[1].max() == x.max() and fine[0].min() == x.min()
    assert store.database.connection().execute("SELECT count(*) FROM renditions").fetchone()[0] == 3


def test_a_failed_or_cancelled_import_leaves_nothing(tmp_path):
    store = MediaStore(Database(tmp_path / "d.db"))

    def broken():
        yield noise(1, 100_000)
        raise OSError("gone")

    with pytest.raises(OSError):
        store.add("x", "float", 48000, 1, broken(), 44100)
    with pytest.raises(ImportCancelled):
        store.add("x", "float", 48000, 1, iter([noise(1, 10)]), 48000, cancelled=lambda: True)
    for table in ("media", "chunks", "renditions", "pyramids"):
        assert store.database.connection().execute(f"SELECT count(*) FROM {table}").fetchone()[0] == 0  # noqa: S608


def test_a_full_disk_refuses_and_loses_nothing(tmp_path):
    database = Database(tmp_path / "d.db")
    store = SessionStore(database)
    number = store.create(base_session())
    pages = database.connection().execute("PRAGMA page_count").fetchone()[0]
    database.connection().execute(f"PRAGMA max_page_count = {pages}")
    with pytest.raises(StoreError, match="space"):
        for _ in range(200):
            store.edit(number, AddStrip(strip=Strip(name="x" * 100, kind="bus")))
    kept = store.version(number)
    database.connection().execute("PRAGMA max_page_count = 1000000")
    assert SessionStore(Database(tmp_path / "d.db")).version(number).session == kept.session
    store.edit(number, set_session(name="Goes on"))


WRITER = """
import sys, itertools, numpy as np
from pathlib import Path
from saltanvil.store.database import Database
from saltanvil.store.sessions import SessionStore
from saltanvil.store.media import MediaStore
from tests.edits import set_session, set_strip
from saltanvil.session.document.session import Session
database = Database(Path(sys.argv[1]))
if sys.argv[2] == "edits":
    store = SessionStore(database)
    number = store.create(Session(name="Killed"))
    for level in itertools.count(1):
        store.edit(number, set_strip(strip_id="main", level_db=-(level % 80)))
        print(level, flush=True)
else:
    blocks = (np.ones((2, 65536), np.float32) for _ in itertools.count())
    print("importing", flush=True)
    MediaStore(database).add("endless", "float", 44100, 2, blocks, 48000)
"""


@pytest.mark.parametrize("what", ["edits", "import"])
def test_kill_in_the_middle(tmp_path, what):
    """kill -9: every acknowledged edit is there, no orphan chunk, the file is whole."""
    path = tmp_path / "d.db"
    process = subprocess.Popen([sys.executable, "-c", WRITER, str(path), what], stdout=subprocess.PIPE, text=True)
    acknowledged = 0
    if what == "edits":
        while acknowledged < 150:
            acknowledged = int(process.stdout.readline())
    else:
        assert process.stdout.readline()
        for _ in range(600):
            time.sleep(0.05)
            with sqlite3.connect(path) as peek:
                if peek.execute("SELECT count(*) FROM chunks").fetchone()[0] > 20:
                    break
    os.kill(process.pid, signal.SIGKILL)
    rest = process.stdout.read().split()
    process.wait()
    acknowledged = int(rest[-1]) if rest and what == "edits" else acknowledged
    database = Database(path)
    MediaStore(database).clear_unfinished()
    if what == "edits":
        version = SessionStore(database).version(1)
        assert version.revision >= acknowledged
        assert version.session.strip("main").level_db == -(version.revision % 80)
        assert SessionStore(database).undo(1).session.strip("main").level_db == -((version.revision - 1) % 80)
    counts = [database.connection().execute(f"SELECT count(*) FROM {t}").fetchone()[0] for t in ("media", "chunks")]  # noqa: S608
    assert counts == [0, 0]
    assert database.connection().execute("PRAGMA integrity_check").fetchone()[0] == "ok"
